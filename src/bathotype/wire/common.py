"""Models that every part of the API uses."""

from __future__ import annotations

import hashlib
from typing import Any, ClassVar, Generic, Self, TypeVar

from pydantic import BaseModel, ConfigDict, Field, model_validator

Item = TypeVar("Item")


class Wire(BaseModel):
    """Base of all models: unknown fields in requests are refused."""

    # Schemas are built when they are first used: a command needs a few of a hundred.
    model_config = ConfigDict(extra="forbid", defer_build=True)


def example(request: dict[str, Any]) -> ConfigDict:
    """The configuration of a request model whose schema shows an example."""
    return ConfigDict(extra="forbid", defer_build=True, json_schema_extra={"examples": [request]})


class Answer(BaseModel):
    """Base of what the service answers: a client ignores fields that it does not know yet."""

    model_config = ConfigDict(extra="ignore", defer_build=True)


class Revised(Answer):
    """Base of what people edit: its ``revision`` stands for the fields that they can change."""

    #: The fields that it stands for.
    edited: ClassVar[tuple[str, ...]]

    revision: str = Field(default="", description="Also its ETag: give it with If-Match when you change the thing.")

    @model_validator(mode="after")
    def _revise(self) -> Self:
        if not self.revision:  # a client keeps what the service said
            seen = self.model_dump_json(include=set(self.edited))
            self.revision = hashlib.sha256(seen.encode()).hexdigest()[:16]
        return self


class Page(Answer, Generic[Item]):
    """One page of a list; ``next`` is the cursor of the following page, null on the last one."""

    items: list[Item]
    next: str | None = None
    total: int | None = Field(default=None, description="Items on all pages, where `total` was asked for.")


class Problem(Answer):
    """An error, as RFC 9457 has it, with a stable ``code`` and what to do."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    code: str
    advice: str = ""
    request_id: str = Field(default="", description="Names this request in the service's log.")


class Plan(Answer):
    """What a verb would do to its subject: ``blockers`` forbid it, ``warnings`` do not.  Every plan has these fields."""

    verb: str
    subject: str
    blockers: list[str]
    warnings: list[str]
    effects: list[str]
