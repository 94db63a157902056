"""Secrets of accounts."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field, SecretStr, field_validator

from bathotype.core.sheets.secrecy import LEAST
from bathotype.wire.common import Answer, Wire, example

_MOST = 16_384


class SecretRequest(Wire):
    """A secret to keep.  Its value is never shown again."""

    model_config = example({"value": "an-invented-licence-key", "about": "Licence of the logger."})

    value: SecretStr = Field(description=f"{LEAST} characters at least, 16384 at most.")
    about: str = Field(default="", max_length=500)

    @field_validator("value")
    @classmethod
    def _length(cls, value: SecretStr) -> SecretStr:
        if not LEAST <= len(value.get_secret_value()) <= _MOST:
            raise ValueError(f"a secret has {LEAST} characters at least, and {_MOST} at most")
        return value


SecretSort = Literal["name", "-name", "set", "-set", "used", "-used"]


class SecretFacts(Answer):
    """What may be known of a secret."""

    name: str
    about: str
    set_by: str
    set_at: datetime
    used_at: datetime | None
    used_by: str | None = Field(description="The operation that was given it last.")
