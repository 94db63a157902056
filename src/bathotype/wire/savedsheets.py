"""Saved sheets."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from bathotype.core.sheets.document import MOST_CHARACTERS
from bathotype.core.sheets.steps import Scalar
from bathotype.wire.builds import SHEET, BuildRun, PayloadGiven, RunOptions, SheetKind
from bathotype.wire.common import Answer, Revised, Wire, example
from bathotype.wire.operations import Offer

SavedSheetSort = Literal["name", "-name", "next", "-next", "line", "-line"]


class SaveSheetRequest(Wire):
    """A sheet to be kept, with the values that it runs with and the files of its payload, which are uploaded."""

    model_config = example({"sheet": SHEET, "note": "the new logger"})

    sheet: str = Field(max_length=MOST_CHARACTERS, description="Its text.")
    values: dict[str, Scalar] = Field(default={}, max_length=50, description="Values of its parameters.")
    payload: dict[str, PayloadGiven] = Field(default={}, max_length=50)
    note: str = Field(default="", max_length=500, description="What was changed, and why.")
    newest_parts: list[str] = Field(
        default=[],
        max_length=50,
        description="Saved parts of which the newest text is taken, instead of the one that the sheet's text has.",
    )


class SheetRunRequest(RunOptions):
    """A run of a saved sheet."""

    model_config = example({"bump": "minor"})


class SheetPause(Wire):
    """Whether a saved sheet may run by itself."""

    model_config = example({"paused": True})

    paused: bool


class SavedText(Answer):
    """One text of a saved sheet: who saved it, when, and what was said of it."""

    number: int
    digest: str = Field(description="BLAKE3 of its text.")
    note: str
    saved_by: str
    saved_at: datetime
    commit: str = Field(default="", description="The commit that brought it, where it comes from a repository.")


class PartUse(Answer):
    """A saved part that a sheet includes: the number of the text that it has, and that of its newest."""

    name: str
    number: int | None = Field(description="None where the part is not kept any more.")
    newest: int | None


class SavedSheet(Revised):
    """A saved sheet, or a part that sheets include: a part has no base and no line, and never runs."""

    edited = ("number", "paused")

    name: str
    kind: SheetKind
    number: int = Field(description="Its current text, counted from 1.")
    base: str
    line: str = Field(description="The line of the versions that it makes.")
    after_base: bool = Field(description="Whether it runs after a release of its base.")
    after_push: bool = Field(description="Whether it runs after a push that changes it.")
    repository: str = Field(description="The repository that it comes from; empty where it is kept by hand.")
    path: str = Field(description="Its file there.")
    commit: str = Field(description="The commit that brought its current text.")
    withdrawn: bool = Field(description="Whether it is not in its repository any more: it does not run by itself then.")
    paused: bool
    next_at: datetime | None = Field(description="When it runs next by itself.")
    noted: str = Field(description="What came of the last time that it was to run by itself, where that made no run.")
    noted_at: datetime | None
    saved_by: str
    saved_at: datetime
    runs: list[BuildRun] = Field(description="Its last runs, the newest first.")


class SavedSheetDetails(SavedSheet):
    """All of it."""

    text: str
    values: dict[str, Scalar]
    files: dict[str, PayloadGiven]
    zone: str | None = Field(description="The time zone of its schedule.")
    dates: list[datetime] = Field(description="The next five dates of its schedule, paused or not.")
    texts: list[SavedText] = Field(description="Every text that it had, the newest first.")
    parts: list[PartUse] = Field(description="The saved parts that this text includes.")
    offers: list[Offer] = Field(description="What the caller can do with it.")


class SheetDifference(Answer):
    """How two texts of a sheet differ: ``lines`` is a unified difference, ``files`` names those that are not the same."""

    old: SavedText
    new: SavedText
    lines: list[str]
    values: dict[str, tuple[Scalar | None, Scalar | None]]
    files: list[str]
