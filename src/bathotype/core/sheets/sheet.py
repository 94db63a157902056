"""A build sheet and its parts: what is in them, as typed data.

The format is ours; docs/build-sheets.md describes it, and `schema` gives it as JSON Schema.
`bathotype.core.sheets.reading` reads it.
"""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from pydantic import Field, field_validator, model_validator

from bathotype.core.bucketaddress import check_object
from bathotype.core.checks.check import Check, distinct
from bathotype.core.firstboot.settings import SECRET_NAME, FirstBoot
from bathotype.core.hosts import is_secure
from bathotype.core.lifecycle.references import check_name, parse_reference
from bathotype.core.sheets.base import CopiedBase, InstalledBase, SheetBase, payload_of_base
from bathotype.core.sheets.machine import Machine
from bathotype.core.sheets.result import Outcome, Result, Tell, checked
from bathotype.core.sheets.schedule import When
from bathotype.core.sheets.steps import PrepareSystem, Scalar, Section, Step, WrittenStep, secrets_of

_TYPES: dict[str, type | tuple[type, ...]] = {"text": str, "number": (int, float), "boolean": bool}
#: Bytes of a file that goes into a machine, and of one that a base is made from.
MOST_PAYLOAD, MOST_FILE = 256 << 20, 16 << 40


class Parameter(Section):
    """A value that is given when a run starts.

    That of a secret one is the name of a secret of the account: the secret itself is in no sheet, value or record.
    """

    type: Literal["text", "number", "boolean"] = "text"
    secret: bool = Field(
        default=False,
        description="Its value is the name of a secret, by default its own with `-` for `_`; steps and first boot get it.",
    )
    description: str = Field(default="", max_length=500)
    default: Scalar | None = Field(default=None, description="Taken where none is given; without one it must be given.")
    allowed: list[Scalar] = Field(default=[], max_length=100, description="The only values that it may have.")

    def fault_of(self, value: Any) -> str:
        """Why a value cannot be taken, empty where it can."""
        wanted = _TYPES[self.type]
        if not isinstance(value, wanted) or (isinstance(value, bool) and self.type != "boolean"):
            return f"{value!r} is not a {self.type}"
        if isinstance(value, str) and (not value.isprintable() or len(value) > 4096):
            return "it must have no control characters, and 4096 characters at most"
        if self.secret and not re.fullmatch(SECRET_NAME, str(value)):  # first: what is given may be a secret
            return "it must be the name of a secret of the account, such as logger-licence, never the secret itself"
        if self.allowed and value not in self.allowed:
            return f"{value!r} is not one of {', '.join(map(str, self.allowed))}"
        return ""

    def default_for(self, name: str) -> Scalar | None:
        """What a parameter of a name has where no value is given; None where one must be."""
        if self.default is None and self.secret and not self.allowed:
            return name.replace("_", "-")
        return self.default

    @model_validator(mode="after")
    def _is_text(self) -> Parameter:
        if self.secret and self.type != "text":
            raise ValueError("a secret parameter is a text")
        return self

    def read(self, text: str) -> Scalar:
        """A value as the command line gives it.  Raises `ValueError`."""
        if self.type == "boolean":
            if text not in ("true", "false"):
                raise ValueError(f"{text!r} is neither true nor false")
            return text == "true"
        if self.type == "number":
            return int(text) if re.fullmatch(r"[-+]?[0-9]{1,18}", text) else float(text)
        return text


def beside(value: str | None) -> str | None:
    """A path in the sheet's own folder, or below.  Raises `ValueError`."""
    if value is not None and (value.startswith("/") or ".." in value.split("/") or not value.isprintable()):
        raise ValueError(f"{value[:60]!r} must be a path in the sheet's own folder, without '..'")
    return value


class PayloadFile(Section):
    """A file that a run uses: by its path beside the sheet, by an address, or in a bucket; or a folder, as an archive."""

    file: str | None = Field(default=None, min_length=1, max_length=1000)
    folder: str | None = Field(
        default=None, min_length=1, max_length=1000, description="Instead: a folder beside the sheet, for `unpack`."
    )
    url: str | None = Field(default=None, max_length=2000, description="Instead: an address, by https.")
    bucket: str | None = Field(
        default=None, max_length=1200, description="Instead: s3://BUCKET/KEY, which the service reads for itself."
    )

    @property
    def where(self) -> str:
        """Its path or its address."""
        return self.path or self.url or self.bucket or ""

    @property
    def path(self) -> str | None:
        """The path of what lies beside the sheet."""
        return self.file or self.folder

    @model_validator(mode="after")
    def _one(self) -> PayloadFile:
        if sum(one is not None for one in (self.file, self.folder, self.url, self.bucket)) != 1:
            raise ValueError("it needs one of file, folder, url and bucket")
        return self

    @field_validator("url")
    @classmethod
    def _address(cls, value: str | None) -> str | None:
        if value is not None and not _is_address(value):
            raise ValueError(f"{value[:100]!r} must be an address such as https://packages.tide.example/logger.deb")
        return value

    @field_validator("bucket")
    @classmethod
    def _object(cls, value: str | None) -> str | None:
        return value if value is None else check_object(value)

    _beside = field_validator("file", "folder")(beside)


class KeptFile(PayloadFile):
    """A file that is kept in the service with a saved part, where it has the name ``name``."""

    part: str
    name: str


def _is_address(text: str) -> bool:
    """By https, or by http on this host; nothing in it that only its reader should see."""
    try:
        parts = urlsplit(text)
        host, _ = parts.hostname or "", parts.port
    except ValueError:
        return False
    plain = text.isascii() and text.isprintable() and " " not in text and not parts.fragment
    return plain and is_secure(parts.scheme, host) and bool(host) and not parts.username and not parts.password


class ProofPlaces(Section):
    """Where the result is proven: on a throwaway instance in each of the regions, of each of the sizes."""

    regions: list[str] = Field(
        default=[],
        max_length=16,
        description="Left out: the run's. A copy of the version is brought to each, and stays.",
    )
    sizes: list[str] = Field(default=[], max_length=16, description="Left out: that of the run's machine.")

    @model_validator(mode="after")
    def _any(self) -> ProofPlaces:
        for names in (self.regions, self.sizes):
            if len(set(names)) < len(names):
                raise ValueError("each region and each size is named once")
        return self


class PartSource(Section):
    """Where a part of a sheet is: a file beside the sheet, or kept in the service under its name."""

    file: str | None = Field(default=None, min_length=1, max_length=1000)
    saved: Literal["newest"] | Annotated[int, Field(ge=1)] | None = Field(
        default=None, description="The number of the saved part's text, or `newest`."
    )

    _beside = field_validator("file")(beside)

    @model_validator(mode="after")
    def _one(self) -> PartSource:
        if (self.file is None) == (self.saved is None):
            raise ValueError("it needs either file or saved")
        return self


class _Steps(Section):
    """What a sheet and a part have in common."""

    description: str = Field(default="", max_length=2000)
    parameters: dict[str, Parameter] = Field(default={}, max_length=50)
    payload: dict[str, PayloadFile] = Field(default={}, max_length=50)
    checks: list[Check] = Field(
        default=[], max_length=200, description="What must be true of a throwaway instance of the result."
    )

    @field_validator("checks")
    @classmethod
    def _distinct(cls, value: list[Check]) -> list[Check]:
        return distinct(value)


class SheetPart(_Steps):
    """Steps that several sheets include, with parameters, payload and checks of their own."""

    part: str = Field(description="The part's name.")
    steps: list[Step] = Field(min_length=1, max_length=200)

    @property
    def name(self) -> str:
        """Its name, as a sheet has one."""
        return self.part

    @field_validator("part")
    @classmethod
    def _name(cls, value: str) -> str:
        return checked(check_name, value, "part")


class _Whole(_Steps):
    """A sheet without its steps."""

    sheet: str = Field(description="The sheet's name.")
    base: SheetBase = Field(
        description="The version to start from: line, line@mark, line@1.4.0, or of another account; a disk to copy; or a system to install."
    )
    machine: Machine = Machine()
    prove: ProofPlaces | None = Field(
        default=None,
        description="Where its checks are judged; left out: in the run's region, on a machine of its size.",
    )
    result: Result
    tell: list[Tell] = Field(default=[], max_length=10, description="Who is notified of the outcome of its runs.")
    when: When | None = Field(default=None, description="When it runs by itself, once it is saved in the service.")

    @field_validator("sheet")
    @classmethod
    def _name(cls, value: str) -> str:
        return checked(check_name, value, "sheet")

    @field_validator("prove")
    @classmethod
    def _places(cls, value: ProofPlaces | None) -> ProofPlaces | None:
        if value is not None and not value.regions and not value.sizes:
            raise ValueError("name regions or sizes, or leave it out")
        return value

    @field_validator("base")
    @classmethod
    def _base(cls, value: str | CopiedBase | InstalledBase) -> str | CopiedBase | InstalledBase:
        return checked(parse_reference, value) if isinstance(value, str) else value


class WrittenSheet(_Whole):
    """How a version is made from a base, as its file has it: parts are named where their steps are to be."""

    parts: dict[str, PartSource] = Field(default={}, max_length=20, description="The parts that it includes.")
    steps: list[WrittenStep] = Field(min_length=1, max_length=200)


class Sheet(_Whole):
    """How a version is made from a base: steps, payload and checks of its parts are among its own."""

    steps: list[Step]

    @property
    def name(self) -> str:
        """Its name, as a part has one."""
        return self.sheet

    @property
    def preparation(self) -> PrepareSystem | None:
        """The step by which the system generalizes itself; without one, the profile of `result` does it."""
        last = self.steps[-1]
        return last if isinstance(last, PrepareSystem) else None

    @property
    def copied(self) -> CopiedBase | None:
        """The disk that it starts from, where that is no version."""
        return self.base if isinstance(self.base, CopiedBase) else None

    @property
    def installed(self) -> InstalledBase | None:
        """The system that is installed first, where it starts from that."""
        return self.base if isinstance(self.base, InstalledBase) else None

    @property
    def goes_in(self) -> frozenset[str]:
        """The names of the files of the payload that go into the machine."""
        return frozenset(self.payload) - payload_of_base(self.base)

    @property
    def secrets(self) -> frozenset[str]:
        """The names of the secrets that its steps are given, and the first boot of its machine."""
        settings = self.machine.first_boot
        at_first = [one.secret for one in settings.secrets] if isinstance(settings, FirstBoot) else []
        return frozenset([*at_first, *(name for step in self.steps for name in secrets_of(step).values())])

    def with_settings(self, settings: FirstBoot) -> Sheet:
        """The same sheet with first-boot settings in the place of their name."""
        return self.model_copy(update={"machine": self.machine.model_copy(update={"first_boot": settings})})


def told_to(sheet: Sheet, outcome: Outcome) -> dict[str, list[str]]:
    """The subscriptions that are notified of an outcome, as an event names them besides what else it says."""
    names = [one.to for one in sheet.tell if outcome in one.about]
    return {"tell": list(dict.fromkeys(names))} if names else {}


def repeated(sheet: Sheet, base: str) -> Sheet:
    """A sheet as it is for doing a run again: on the very version of then, it releases nothing and notifies nobody."""
    nothing = {"release": False, "marks": [], "exports": [], "placement": [], "retire_on": None}
    result = sheet.result.model_copy(update=nothing)
    again: dict[str, object] = {
        "base": base if isinstance(sheet.base, str) else sheet.base,
        "result": result,
        "tell": [],
    }
    return sheet.model_copy(update=again)


def schema(kind: Literal["sheet", "part"] = "sheet") -> dict[str, Any]:
    """The format of a sheet or of a part as JSON Schema 2020-12, for editors."""
    made = (WrittenSheet if kind == "sheet" else SheetPart).model_json_schema()
    title = "Bathotype build sheet" if kind == "sheet" else "Bathotype part of build sheets"
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made, "title": title}
