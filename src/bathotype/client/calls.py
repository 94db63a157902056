"""What the groups of calls of a client have in common."""

from __future__ import annotations

import uuid
from typing import Any, Literal

from bathotype.client.transport import Model, Transport

#: Which part of the highest number goes up.
Part = Literal["patch", "minor", "major"]
#: A built-in profile by name, or a profile as data.
ProfileGiven = str | dict[str, Any]


class Calls:
    """A group of calls over one connection."""

    _transport: Transport

    def _create(self, model: type[Model], path: str, body: dict[str, Any], key: str | None) -> Model:
        """A creating call: repeated with the same key it is done once."""
        headers = {"Idempotency-Key": key or uuid.uuid4().hex}
        return self._transport.one(model, "POST", path, json=body, headers=headers)
