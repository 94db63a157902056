"""Models that every part of the API uses."""

from __future__ import annotations

import hashlib
import unicodedata
from collections.abc import Iterator
from typing import Any, ClassVar, Generic, Self, TypeVar

from pydantic import BaseModel, ConfigDict, Field, model_validator

Item = TypeVar("Item")


class Wire(BaseModel):
    """Base of all models: unknown fields in requests are refused, and so are texts with characters that steer a
    terminal."""

    # Schemas are built when they are first used: a command needs a few of a hundred.
    model_config = ConfigDict(extra="forbid", defer_build=True)

    @model_validator(mode="after")
    def _visible(self) -> Self:
        for name, value in self:
            if odd := next((found for text in _texts(value) if (found := _steering(text))), ""):
                raise ValueError(f"{name} holds a control character (U+{ord(odd):04X})")
        return self


def _texts(value: Any) -> Iterator[str]:
    """The texts in a field: itself, or what is in a list or under names."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, list | tuple):
        yield from (item for item in value if isinstance(item, str))
    elif isinstance(value, dict):
        yield from (text for pair in value.items() for text in pair if isinstance(text, str))


def _steering(text: str) -> str:
    """The first character of a text that is none to be seen; new lines and tabs are.  Half a character is none."""
    if text.isprintable():
        return ""
    return next((c for c in text if unicodedata.category(c) in ("Cc", "Cs") and c not in "\n\r\t"), "")


def example(request: dict[str, Any]) -> ConfigDict:
    """The configuration of a request model whose schema shows an example."""
    return ConfigDict(extra="forbid", defer_build=True, json_schema_extra={"examples": [request]})


class Answer(BaseModel):
    """Base of what the service answers: a client ignores fields that it does not know yet."""

    model_config = ConfigDict(extra="ignore", defer_build=True)


class Revised(Answer):
    """Base of what people edit: its ``revision`` changes with the fields that they can change."""

    #: The fields that it is made of.
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


class ValueProblem(Answer):
    """What is wrong with one value of a request."""

    detail: str = Field(description="What follows the name of the value: `must be 5 or more`.")
    pointer: str = Field(default="", description="Where it is in the body: a JSON Pointer (RFC 6901) as a fragment.")
    parameter: str = Field(default="", description="The parameter that it is, where it is not in the body.")


class Problem(Answer):
    """An error, as RFC 9457 has it, with a stable ``code`` and what to do."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    code: str
    advice: str = ""
    about: str = Field(default="", description="What it is about, where a program goes on with that: a reference.")
    errors: list[ValueProblem] = Field(default=[], description="Each value that is not valid, where it is known which.")
    request_id: str = Field(default="", description="Names this request in the service's log.")


class Plan(Answer):
    """What a verb would do to its subject: ``blockers`` forbid it, ``warnings`` do not.  Every plan has these fields."""

    verb: str
    subject: str
    blockers: list[str]
    warnings: list[str]
    effects: list[str]
