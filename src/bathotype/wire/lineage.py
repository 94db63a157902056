"""Which line is built on which."""

from __future__ import annotations

from pydantic import Field

from bathotype.wire.common import Answer


class Base(Answer):
    """A version that a line is built on."""

    reference: str
    state: str
    newest: str | None = Field(description="The newest released version of its line.")
    moved: bool = Field(description="Whether its line has released a newer version since.")


class BuiltLine(Answer):
    """A line whose newest version is built on another line."""

    depth: int = Field(description="1 for what is built on the line itself, 2 for what is built on that, and so on.")
    reference: str = Field(description="Its newest version.")
    base: str
    behind: bool = Field(description="Whether its base has a newer release.")
    sheet: str | None = Field(description="The build sheet that made it.")


class Lineage(Answer):
    """What a line is built on, the nearest first, and what is built on it."""

    line: str
    newest: str | None
    bases: list[Base]
    built: list[BuiltLine]
