"""Build sheets and build runs."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from bathotype.core.forms import SHA256
from bathotype.core.sheets.document import MOST_CHARACTERS
from bathotype.core.sheets.sheet import MOST_FILE
from bathotype.core.sheets.steps import Scalar
from bathotype.wire.common import Answer, Plan, Wire, example
from bathotype.wire.operations import OperationState

Bump = Literal["patch", "minor", "major"]
SheetKind = Literal["sheet", "part"]
SHEET = """\
sheet: gauge-logging
base: gauge-collector@1.0.0
steps:
- {id: logger, do: install-packages, packages: [tide-logger]}
result: {line: gauge-collector, bump: minor}
"""


class SheetRequest(Wire):
    """A sheet to be judged."""

    model_config = example({"sheet": SHEET})

    sheet: str = Field(max_length=MOST_CHARACTERS, description="Its text.")
    values: dict[str, Scalar] | None = Field(
        default=None, max_length=50, description="Values of its parameters; where one is left out, its example is used."
    )


class SheetFault(Answer):
    """What is wrong with a sheet, by line and column, which count from 1."""

    line: int
    column: int
    where: str
    message: str


class SheetStep(Answer):
    """A step of a sheet."""

    id: str
    do: str
    why: str


class SheetCheck(Answer):
    """What came of judging a sheet: every fault, or what it says."""

    kind: SheetKind
    valid: bool
    faults: list[SheetFault]
    name: str
    digest: str = Field(description="BLAKE3 of its text.")
    base: str
    line: str
    steps: list[SheetStep]
    payload: list[str]
    in_buckets: dict[str, str] = Field(description="Those files of the payload that are in buckets: their addresses.")
    folders: dict[str, str] = Field(description="Those that are folders, which go in as an archive: their paths.")
    values: dict[str, Scalar]


class PayloadGiven(Wire):
    """A file of the payload, as the lock has it."""

    upload: str | None = Field(
        default=None, description="Id of its upload; a plan needs none, and neither does a file in a bucket."
    )
    bytes: int = Field(ge=1, le=MOST_FILE)
    sha256: str = Field(pattern=SHA256)


class RunOptions(Wire):
    """What may be said of a run besides its sheet."""

    values: dict[str, Scalar] = Field(
        default={}, max_length=50, description="Values of its parameters; of a saved sheet, instead of the saved ones."
    )
    region: str | None = Field(default=None, description="Instead of the sheet's; of neither: the base's home region.")
    number: str | None = Field(default=None, description="Instead of the sheet's.")
    bump: Bump | None = None
    tags: dict[str, str] = {}
    unless_same: bool = Field(
        default=False,
        description="Refuse with the code nothing-new where a version was already built from the same.",
    )
    keep_on_failure: int = Field(
        default=0,
        ge=0,
        le=24 * 3600,
        description="For how many seconds the machine stays if the run fails before it is captured.",
    )


class RepeatRequest(Wire):
    """A run that is done again."""

    model_config = example({"region": "skerry-1"})

    region: str | None = Field(default=None, description="Instead of the sheet's; of neither: the base's home region.")
    number: str | None = Field(
        default=None, description="Left out: a pre-release of the version, such as 1.2.0-again.1."
    )
    tags: dict[str, str] = {}
    keep_on_failure: int = Field(default=0, ge=0, le=24 * 3600)
    payload: dict[str, PayloadGiven] = Field(
        default={}, max_length=50, description="Files of that run that no saved sheet keeps: the same bytes, uploaded."
    )


class BuildRequest(RunOptions):
    """A build run."""

    model_config = example({"sheet": SHEET})

    sheet: str = Field(max_length=MOST_CHARACTERS, description="The sheet's text.")
    payload: dict[str, PayloadGiven] = Field(default={}, max_length=50)


class BuildPlan(Plan):
    """What a build run would do."""

    reference: str = Field(description="The version that it would make.")
    base: str
    region: str
    machine_size: str
    same_as: str | None = Field(
        description="The version that was built of the same sheet, values, payload and base content already."
    )
    earlier_seconds: float | None = Field(description="How long the last run of this sheet took that succeeded.")
    steps: list[SheetStep]


class BuildStep(Answer):
    """A step of a run; ``changed`` is what it changed, ``output`` the end of what its programs printed."""

    id: str
    do: str
    why: str = ""
    state: Literal["pending", "running", "done", "skipped", "failed", "cancelled"]
    started_at: datetime | None = None
    seconds: float | None = None
    attempts: int = 0
    changed: list[str] = []
    output: str = ""
    error: str = ""
    cleaned: dict[str, int] = Field(default={}, description="Bytes that each kind of clean-up gave back.")
    used: tuple[int, int] | None = Field(default=None, description="Bytes in use before and after the clean-up.")


BuildRunSort = Literal["started", "-started", "sheet", "-sheet", "state", "-state"]


class BuildRun(Answer):
    """One run of a sheet."""

    operation: str
    sheet: str
    digest: str
    state: OperationState
    base: str
    reference: str
    created_by: str
    created_at: datetime
    ended_at: datetime | None
    error: str = ""
    cause: Literal["", "schedule", "base", "push"] = Field(
        default="", description="Why it began by itself: a date of its schedule, a release of its base, or a push."
    )
    saved_number: int | None = Field(default=None, description="Which text of the saved sheet it was.")
    repository: str = Field(default="", description="The address of the repository that the sheet came from.")
    commit: str = Field(default="", description="The commit that brought this text of it.")
    repeats: str = Field(default="", description="The version that it makes again.")
    held_back: str = Field(default="", description="Why a version that was to be released stays staged.")


class KeptMachine(Answer):
    """A temporary machine that stays until a moment."""

    name: str
    region: str
    address: str
    until: datetime


class MachineFigure(Answer):
    """How busy a run's machine was in the ``seconds`` before a moment; rates are bytes a second."""

    at: datetime
    seconds: float
    processor: float = Field(description="Share of its processors, from 0 to 1.")
    memory_used: int
    memory: int
    read: float
    written: float
    received: float
    sent: float


class BuildRunDetails(BuildRun):
    """All of it: text, values and payload (by SHA-256), and the steps."""

    text: str
    values: dict[str, Scalar]
    payload: dict[str, str]
    base_digest: str
    steps: list[BuildStep]
    figures: list[MachineFigure] = Field(description="How busy its machine was while the steps were done.")
    delivered: list[str]
    proofs: list[str] = Field(
        description="The operations that judged its result, where its sheet names several places."
    )
    kept: KeptMachine | None = Field(
        description="The machine of a run that failed, while it stays for looking into it."
    )


class SheetSchema(Answer):
    """The format of build sheets as JSON Schema 2020-12."""

    document: dict[str, Any]
