"""The kinds of check, as typed data."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import Field, ValidationError, field_validator, model_validator

from bathotype.core.errors import Invalid
from bathotype.core.forms import FILE_MODE, GUEST_ACCOUNT, SHA256, STEP_ID, form
from bathotype.core.sheets.document import faults_against, read_document
from bathotype.core.sheets.steps import PACKAGE_NAME, PAGE, SERVICE, GuestPath, Section, Word, whole_path

_WITHIN = "Seconds within which it must become true."
_VERSION = form(r"^[A-Za-z0-9][A-Za-z0-9.+~:_-]{0,200}$", "the version of a package, such as 3.0.15-1")


class _Check(Section):
    id: str = Field(pattern=STEP_ID, max_length=63, description="Names the check in reports and launch rules.")
    why: str = Field(default="", max_length=500)
    within: int = Field(default=30, ge=1, le=1800, description=_WITHIN)


class PortAnswers(_Check):
    """Something listens on a TCP port of the machine."""

    is_: Literal["port"] = Field(alias="is")
    port: int = Field(ge=1, le=65535)


class PageAnswers(_Check):
    """A page is served, as the machine itself sees it: with this status, and with a text in it."""

    is_: Literal["page"] = Field(alias="is")
    url: str = Field(pattern=PAGE, max_length=1000)
    status: int = Field(default=200, ge=100, le=599)
    text: str = Field(default="", max_length=1000)


class ProgramEnds(_Check):
    """A program ends with an exit code, and prints a text."""

    is_: Literal["program"] = Field(alias="is")
    argv: list[Word] = Field(min_length=1, max_length=200)
    exit_code: int = Field(default=0, ge=0, le=255)
    prints: str = Field(default="", max_length=1000)


class PackageIs(_Check):
    """A package is installed, in a version or a newer one; or it is absent."""

    is_: Literal["package"] = Field(alias="is")
    within: int = Field(default=3, ge=1, le=1800, description=_WITHIN)
    package: str = Field(pattern=PACKAGE_NAME)
    version: str | None = Field(default=None, pattern=_VERSION, description="Exactly this one.")
    at_least: str | None = Field(default=None, pattern=_VERSION, description="This one or newer.")
    absent: bool = False

    @model_validator(mode="after")
    def _one(self) -> PackageIs:
        if sum([self.version is not None, self.at_least is not None, self.absent]) > 1:
            raise ValueError("give one of version, at_least and absent")
        return self


class ServiceIs(_Check):
    """A service runs, or does not."""

    is_: Literal["service"] = Field(alias="is")
    service: str = Field(pattern=SERVICE)
    running: bool = True


class FileIs(_Check):
    """A file is there with a digest, owner, group, mode or text; or it is absent."""

    is_: Literal["file"] = Field(alias="is")
    within: int = Field(default=3, ge=1, le=1800, description=_WITHIN)
    path: GuestPath
    sha256: str | None = Field(default=None, pattern=SHA256)
    owner: str | None = Field(default=None, pattern=GUEST_ACCOUNT)
    group: str | None = Field(default=None, pattern=GUEST_ACCOUNT)
    mode: str | None = Field(default=None, pattern=FILE_MODE)
    contains: str | None = Field(default=None, max_length=1000)
    absent: bool = False

    _path = field_validator("path")(whole_path)


class UserIs(_Check):
    """A user is there, or is absent."""

    is_: Literal["user"] = Field(alias="is")
    within: int = Field(default=3, ge=1, le=1800, description=_WITHIN)
    user: str = Field(pattern=GUEST_ACCOUNT)
    absent: bool = False


class NoUpdates(_Check):
    """No package update is outstanding."""

    is_: Literal["no-updates"] = Field(alias="is")
    within: int = Field(default=300, ge=1, le=1800)


class DiskUse(_Check):
    """A file system is filled to so much of its size at most."""

    is_: Literal["disk-use"] = Field(alias="is")
    within: int = Field(default=3, ge=1, le=1800, description=_WITHIN)
    mounted_at: GuestPath = "/"
    at_most_percent: int = Field(ge=1, le=100)


class BootTime(_Check):
    """The first boot took so many seconds at most.  Only a throwaway instance can be judged by it."""

    is_: Literal["boot-time"] = Field(alias="is")
    at_most_seconds: int = Field(ge=1, le=7200)


class StaysClean(_Check):
    """The residue scan of the disk after first boot finds nothing worse than so, but for what it found in the version.

    That it has an identity of its own by then is no finding.  Only a throwaway instance is looked at: its disk is copied.
    """

    is_: Literal["residue"] = Field(alias="is")
    at_most: Literal["none", "low", "medium"] = Field(default="medium", description="The worst that may be found.")


#: What only a throwaway instance can be judged by.
THROWAWAY = (BootTime, StaysClean)
Check = Annotated[
    PortAnswers
    | PageAnswers
    | ProgramEnds
    | PackageIs
    | ServiceIs
    | FileIs
    | UserIs
    | NoUpdates
    | DiskUse
    | BootTime
    | StaysClean,
    Field(discriminator="is_"),
]


class CheckList(Section):
    """A file of checks: ``checks`` and nothing else."""

    checks: list[Check] = Field(min_length=1, max_length=200)

    @field_validator("checks")
    @classmethod
    def _distinct(cls, value: list[Check]) -> list[Check]:
        return distinct(value)


def distinct(checks: list[Check]) -> list[Check]:
    """Checks whose names differ, and differ from those that are always made.  Raises `ValueError`."""
    names = [check.id for check in checks]
    for name in names:
        if names.count(name) > 1 or name in ALWAYS:
            raise ValueError(f"two checks are called {name}")
    return checks


#: What is always judged on a throwaway instance: it comes up, is as its first-boot settings say, and is nobody else.
ALWAYS = {
    "boots": "It comes up, and its agent answers.",
    "first-boot": "It is as its first-boot settings say.",
    "identity": "Its machine id and host keys are its own.",
}


def read_checks(text: str) -> list[Check]:
    """Checks from YAML.  Raises `Invalid` with every fault and its place."""
    document = read_document(text)
    told = [str(fault) for fault in document.faults]
    if not told:
        try:
            return CheckList.model_validate(document.data).checks
        except ValidationError as error:
            told = [str(one) for one in faults_against(document, error.errors(include_url=False))]
    raise Invalid("The checks are not valid:\n" + "\n".join(told), advice="docs/checks.md has the format.")


def said(check: Check) -> str:
    """What a check demands, in a few words."""
    match check:
        case PortAnswers():
            return f"port {check.port} answers"
        case PageAnswers():
            return f"{check.url} answers {check.status}" + (f" with {check.text!r}" if check.text else "")
        case ProgramEnds():
            printed = f" and prints {check.prints!r}" if check.prints else ""
            return f"{check.argv[0]} ends with {check.exit_code}{printed}"
        case PackageIs():
            version = f" {check.version}" if check.version else f" {check.at_least} or newer" if check.at_least else ""
            return f"{check.package}{version} is {'absent' if check.absent else 'installed'}"
        case ServiceIs():
            return f"{check.service} {'runs' if check.running else 'does not run'}"
        case FileIs():
            return f"{check.path} is {'absent' if check.absent else 'there'}"
        case UserIs():
            return f"the user {check.user} is {'absent' if check.absent else 'there'}"
        case NoUpdates():
            return "no update is outstanding"
        case DiskUse():
            return f"{check.mounted_at} is filled to {check.at_most_percent} % at most"
        case BootTime():
            return f"the first boot takes {check.at_most_seconds} s at most"
        case StaysClean():
            return "no residue after first boot" + (f" above {check.at_most}" if check.at_most != "none" else "")


#: State of a socket that listens, as /proc/net/tcp has it (proc(5)).
_LISTEN = re.compile(r"^\s*\d+: [0-9A-F]+:([0-9A-F]{4}) [0-9A-F]+:[0-9A-F]{4} 0A ")


def listening(table: str) -> set[int]:
    """The TCP ports that something listens on, from ``/proc/net/tcp`` or ``tcp6``."""
    return {int(match[1], 16) for line in table.splitlines() if (match := _LISTEN.match(line[:200]))}
