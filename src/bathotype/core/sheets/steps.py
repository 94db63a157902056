"""The kinds of step of a build sheet, as typed data.  Each says what it does and how its own effect is seen."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from bathotype.core.forms import FILE_MODE, GUEST_ACCOUNT, STEP_ID, form
from bathotype.core.generalize.profile import AnswerFile, Marker
from bathotype.core.sheets.cleaning import USUAL, Cleanup

_PACKAGE = re.compile(r"[A-Za-z0-9][A-Za-z0-9+._-]*(?:=[A-Za-z0-9][A-Za-z0-9+.~:_-]*)?")
SERVICE = form(r"^[A-Za-z0-9][A-Za-z0-9:_.@\\-]{0,200}$", "the name of a service, such as lighttpd")
PACKAGE_NAME = form(r"^[A-Za-z0-9][A-Za-z0-9+._-]*$", "the name of a package, such as openssl")
#: Addresses of pages that a machine can ask for.
PAGE = form(r"^https?://[A-Za-z0-9.:\[\]-]+(?:/[!-~]*)?$", "an address such as http://localhost/")
_ONLY_IF = "Parameters and the values that they must have; else it is skipped."
_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_MOST_PATH, _MOST_TEXT = 4096, 64 * 1024


class Section(BaseModel):
    """A section of a sheet: unknown names are refused."""

    model_config = ConfigDict(extra="forbid", frozen=True)


def whole_path(value: str) -> str:
    """An absolute path in a guest."""
    parts = value.split("/")
    if (
        not value.startswith("/")
        or ".." in parts
        or "" in parts[1:]
        or not value.isprintable()
        or len(value) > _MOST_PATH
    ):
        raise ValueError(f"{value[:60]!r} must be an absolute path without '..', '//' or control characters")
    return value


def _plain(value: str) -> str:
    if "\0" in value:
        raise ValueError("it must hold no NUL character")
    return value


GuestPath = Annotated[str, Field(pattern=form("^/", "an absolute path")), Field(max_length=_MOST_PATH)]
Word = Annotated[str, Field(min_length=1, max_length=4096)]
Scalar = bool | int | float | str


class _Step(Section):
    id: str = Field(pattern=STEP_ID, max_length=63, description="Names the step in logs and records.")
    why: str = Field(default="", max_length=500, description="What it is for.")
    seconds: int = Field(default=600, ge=1, le=14_400, description="How long one attempt may take.")
    retries: int = Field(default=0, ge=0, le=5, description="How often it is tried again after a failure.")
    only_if: dict[str, Scalar | list[Scalar]] = Field(default={}, description=_ONLY_IF)


class _Packages(_Step):
    packages: list[Word] = Field(default=[], max_length=500, description="Names, or NAME=VERSION.")

    @field_validator("packages")
    @classmethod
    def _names(cls, values: list[str]) -> list[str]:
        for value in values:
            if not _PACKAGE.fullmatch(value):
                raise ValueError(f"{value[:60]!r} is not the name of a package, nor NAME=VERSION")
        return values


class Include(Section):
    """Do the steps of a part here.  Their ids begin with this one's."""

    do: Literal["include"]
    id: str = Field(pattern=STEP_ID, max_length=31, description="Goes before the ids of the part's steps.")
    why: str = Field(default="", max_length=500, description="What it is for.")
    part: str = Field(description="The part, as `parts` names it.")
    values: dict[str, Scalar] = Field(default={}, max_length=50, description="Values of the part's parameters.")
    only_if: dict[str, Scalar | list[Scalar]] = Field(default={}, description=_ONLY_IF)


class InstallPackages(_Packages):
    """Install packages from the machine's repositories, or package files of the payload.

    Afterwards each of them is installed, in the version that was named.
    """

    do: Literal["install-packages"]
    files: list[Word] = Field(default=[], max_length=50, description="Package files, by their names in the payload.")

    @model_validator(mode="after")
    def _something(self) -> InstallPackages:
        if not self.packages and not self.files:
            raise ValueError("it names neither packages nor files")
        return self


class RemovePackages(_Packages):
    """Remove packages.  Afterwards none of them is installed."""

    do: Literal["remove-packages"]
    packages: list[Word] = Field(min_length=1, max_length=500)


class UpdatePackages(_Step):
    """Update all packages until no update is outstanding, with a restart where the system asks for one."""

    do: Literal["update-packages"]
    rounds: int = Field(default=5, ge=1, le=20, description="How many rounds at most.")
    seconds: int = Field(default=3600, ge=1, le=14_400)


class PutFile(_Step):
    """Put a file of the payload, or a text, to a place.  Afterwards the file there has these bytes, owner and mode."""

    do: Literal["put-file"]
    to: GuestPath
    payload: str | None = Field(default=None, description="The file's name in the payload.")
    content: str | None = Field(default=None, max_length=_MOST_TEXT, description="A text instead.")
    mode: str = Field(default="0644", pattern=FILE_MODE)
    owner: str = Field(default="root", pattern=GUEST_ACCOUNT)
    group: str = Field(default="root", pattern=GUEST_ACCOUNT)

    _path = field_validator("to")(whole_path)

    @model_validator(mode="after")
    def _one(self) -> PutFile:
        if (self.payload is None) == (self.content is None):
            raise ValueError("it needs either payload or content")
        return self


class Unpack(_Step):
    """Unpack a tar archive of the payload into a folder, which is made where it is missing.

    Afterwards every file of the archive is there.
    """

    do: Literal["unpack"]
    payload: str
    to: GuestPath

    _path = field_validator("to")(whole_path)


class _Program(_Step):
    environment: dict[str, str] = Field(default={}, max_length=100)
    secrets: dict[str, str] = Field(
        default={}, max_length=50, description="Environment variables, and the secret of the account that each gets."
    )
    exit_codes: list[Annotated[int, Field(ge=0, le=255)]] = Field(default=[0], min_length=1, max_length=20)
    makes: list[GuestPath] = Field(default=[], max_length=50, description="Paths that must be there afterwards.")

    _paths = field_validator("makes")(lambda values: [whole_path(value) for value in values])

    @field_validator("environment", "secrets")
    @classmethod
    def _variables(cls, values: dict[str, str]) -> dict[str, str]:
        for name, value in values.items():
            if not _VARIABLE.fullmatch(name):
                raise ValueError(f"{name[:60]!r} cannot name a variable")
            _plain(value)
        return values


class RunScript(_Program):
    """Run a script.  Parameters reach it as environment variables; its text is never changed."""

    do: Literal["run-script"]
    script: str = Field(min_length=1, max_length=_MOST_TEXT)
    interpreter: GuestPath = "/bin/sh"

    _path = field_validator("interpreter")(whole_path)
    _text = field_validator("script")(_plain)


class RunProgram(_Program):
    """Run a program with its arguments, without a shell."""

    do: Literal["run-program"]
    argv: list[Word] = Field(min_length=1, max_length=200)

    _texts = field_validator("argv")(lambda values: [_plain(value) for value in values])


class SetService(_Step):
    """Enable or disable a service, and start, stop or restart it.  Afterwards the system says so."""

    do: Literal["service"]
    service: str = Field(pattern=SERVICE)
    enabled: bool | None = Field(default=None, description="Whether it starts with the system.")
    state: Literal["running", "stopped", "restarted"] | None = None

    @model_validator(mode="after")
    def _something(self) -> SetService:
        if self.enabled is None and self.state is None:
            raise ValueError("it needs enabled or state")
        return self


class AddGroup(_Step):
    """Add a group, unless it is there."""

    do: Literal["add-group"]
    group: str = Field(pattern=GUEST_ACCOUNT)
    system: bool = False


class AddUser(_Step):
    """Add a user without a password, unless there is one, and make it a member of groups."""

    do: Literal["add-user"]
    user: str = Field(pattern=GUEST_ACCOUNT)
    groups: list[Annotated[str, Field(pattern=GUEST_ACCOUNT)]] = Field(default=[], max_length=50)
    shell: GuestPath = "/usr/sbin/nologin"
    system: bool = False

    _path = field_validator("shell")(whole_path)


class Restart(_Step):
    """Shut the machine down, start it again, and wait until it is ready."""

    do: Literal["restart"]


class WaitFor(_Step):
    """Wait until a file is there, something listens on a port, a page is served, or a program ends well."""

    do: Literal["wait-for"]
    file: GuestPath | None = None
    port: int | None = Field(default=None, ge=1, le=65535, description="A TCP port of the machine.")
    url: str | None = Field(default=None, pattern=PAGE, max_length=1000, description="As the machine itself sees it.")
    status: int = Field(default=200, ge=100, le=599, description="Of the page.")
    text: str = Field(default="", max_length=1000, description="What the page holds.")
    argv: list[Word] = Field(default=[], max_length=200)

    @model_validator(mode="after")
    def _one(self) -> WaitFor:
        if [self.file is None, self.port is None, self.url is None, not self.argv].count(False) != 1:
            raise ValueError("it needs one of file, port, url and argv")
        if self.url is None and {"status", "text"} & self.model_fields_set:
            raise ValueError("status and text are those of a page: give its url")
        if self.file is not None:
            whole_path(self.file)
        return self


class CleanDisk(_Step):
    """Remove what nobody needs: package files that were downloaded, package lists, unneeded packages, rotated logs,
    temporary files.  What each of these gave back, in bytes, is recorded; afterwards nothing of it is left."""

    do: Literal["clean-disk"]
    what: list[Cleanup] = Field(
        default=list(USUAL), min_length=1, max_length=10, description="Left out: all of them but `unneeded`."
    )


class PrepareSystem(_Step):
    """The operating system's own preparation tool generalizes the system, and shuts it down.  It is the last step.

    For systems whose files are not edited from outside.  Afterwards the machine is off, and the disk holds the marker that
    the tool leaves.
    """

    do: Literal["prepare-system"]
    seconds: int = Field(default=1800, ge=1, le=7200)
    tool: str = Field(min_length=1, max_length=200, description="What people call it.")
    argv: list[Word] = Field(min_length=1, max_length=64, description="How it is run in the machine.")
    marker: Marker | None = Field(default=None, description="What shows on the disk that it has run.")
    answers: AnswerFile | None = Field(default=None, description="The answer file of the first boot of instances.")

    _texts = field_validator("argv")(lambda values: [_plain(value) for value in values])

    @property
    def profile(self) -> dict[str, object]:
        """A profile that is nothing but this tool."""
        step = self.model_dump(mode="json", include={"tool", "argv", "marker", "answers"}, exclude_none=True)
        return {"name": "prepared-by-sheet", "steps": [{"id": "own-tool", "do": "own-tool", **step}]}


_Any = (
    InstallPackages
    | RemovePackages
    | UpdatePackages
    | CleanDisk
    | PutFile
    | Unpack
    | RunScript
    | RunProgram
    | SetService
    | AddGroup
    | AddUser
    | Restart
    | WaitFor
    | PrepareSystem
)
Step = Annotated[_Any, Field(discriminator="do")]
#: A step as a sheet's file has it.
WrittenStep = Annotated[_Any | Include, Field(discriminator="do")]


def secrets_of(step: Step) -> dict[str, str]:
    """The variables of a step that get secrets, and the names of these."""
    return step.secrets if isinstance(step, RunScript | RunProgram) else {}


def payload_of(step: Step | Include) -> list[str]:
    """The names in the payload that a step needs."""
    if isinstance(step, InstallPackages):
        return list(step.files)
    return [step.payload] if isinstance(step, PutFile | Unpack) and step.payload is not None else []


def renamed(step: Step, prefix: str) -> Step:
    """A step of a part, as a sheet has it that includes the part under the id ``prefix``."""
    changes: dict[str, object] = {"id": f"{prefix}-{step.id}"}
    if isinstance(step, InstallPackages):
        changes["files"] = [renamed_payload(name, prefix) for name in step.files]
    elif isinstance(step, PutFile | Unpack) and step.payload is not None:
        changes["payload"] = renamed_payload(step.payload, prefix)
    return step.model_copy(update=changes)


def renamed_payload(name: str, prefix: str) -> str:
    """The name of a part's file in the payload of the sheet."""
    return f"{prefix}-{name}"
