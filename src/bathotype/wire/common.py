"""Models that every part of the API uses."""

from __future__ import annotations

from typing import Any, Generic, TypeVar

from pydantic import BaseModel, ConfigDict, Field

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


class Page(Answer, Generic[Item]):
    """One page of a list; ``next`` is the cursor of the following page, null on the last one."""

    items: list[Item]
    next: str | None = None


class Problem(Answer):
    """An error, as RFC 9457 has it, with a stable ``code`` and what to do."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    code: str
    advice: str = ""
    request_id: str = Field(default="", description="Names this request in the service's log.")


class PlanAnswer(Answer):
    """What a verb would do: ``blockers`` forbid it, ``warnings`` do not."""

    verb: str
    blockers: list[str]
    warnings: list[str]
    effects: list[str]
