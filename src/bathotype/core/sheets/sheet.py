"""A build sheet: what is in it, and reading it whole, with every fault at once.

The format is ours; docs/build-sheets.md describes it, and `schema` gives it as JSON Schema.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any, Literal
from urllib.parse import urlsplit

from pydantic import Field, ValidationError, field_validator, model_validator

from bathotype.core.checks.check import Check, distinct
from bathotype.core.errors import Invalid
from bathotype.core.generalize.profile import builtin_names
from bathotype.core.hosts import is_secure
from bathotype.core.lifecycle.purpose import Purpose
from bathotype.core.lifecycle.references import check_name, parse_reference
from bathotype.core.lifecycle.room import Room
from bathotype.core.sheets.document import Document, Fault, Place, fault_of, read_document
from bathotype.core.sheets.schedule import When
from bathotype.core.sheets.steps import Part, Scalar, Step, payload_of, secrets_of
from bathotype.core.store.chunks import digest
from bathotype.core.units import bytes_of

_TYPES: dict[str, type | tuple[type, ...]] = {"text": str, "number": (int, float), "boolean": bool}
_EXAMPLES: dict[str, Scalar] = {"text": "x", "number": 1, "boolean": True}
_USE = re.compile(r"\{([a-z][a-z0-9_]*)\}")
#: Texts of a step in which a parameter is never put: a shell would read it as its own.
_UNTOUCHED = ("script",)
#: Texts in which only parameters that there are are put: braces are common in them.
_LENIENT = ("content",)
MOST_PAYLOAD = 256 * 1024 * 1024


class Parameter(Part):
    """A value that is given when a run starts."""

    type: Literal["text", "number", "boolean"] = "text"
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
        if self.allowed and value not in self.allowed:
            return f"{value!r} is not one of {', '.join(map(str, self.allowed))}"
        return ""

    def read(self, text: str) -> Scalar:
        """A value as the command line gives it.  Raises `ValueError`."""
        if self.type == "boolean":
            if text not in ("true", "false"):
                raise ValueError(f"{text!r} is neither true nor false")
            return text == "true"
        if self.type == "number":
            return int(text) if re.fullmatch(r"[-+]?[0-9]{1,18}", text) else float(text)
        return text


class Machine(Part):
    """The temporary machine in which the steps run."""

    region: str | None = Field(default=None, description="Left out: where the base is.")
    zone: str | None = None
    size: str | None = Field(default=None, max_length=100, description="Left out: the size of the base's source.")
    tags: dict[str, str] = Field(default={}, max_length=50)
    boot_size: str | None = Field(
        default=None, max_length=40, examples=["8GiB"],
        description="Size of its boot disk, larger than the base's: the last partition and its file system grow.",
    )  # fmt: skip
    isolated: bool = Field(default=False, description="Whether it has no network.")
    ready_seconds: int = Field(default=900, ge=10, le=7200, description="How long its first boot may take.")

    @field_validator("boot_size")
    @classmethod
    def _size(cls, value: str | None) -> str | None:
        if value is not None:
            try:
                Room(boot_bytes=bytes_of(value))
            except ValidationError as error:
                raise ValueError("give 1 MiB or more, in whole sectors of 512 bytes, such as 8GiB") from error
        return value

    @property
    def room(self) -> Room:
        """What its disks have beyond the base's."""
        return Room(boot_bytes=bytes_of(self.boot_size) if self.boot_size else None)


class PayloadFile(Part):
    """A file that goes into the machine: by its path beside the sheet, or by an address."""

    file: str | None = Field(default=None, min_length=1, max_length=1000)
    url: str | None = Field(default=None, max_length=2000, description="Instead: an address, by https.")

    @property
    def where(self) -> str:
        """Its path or its address."""
        return self.file or self.url or ""

    @model_validator(mode="after")
    def _one(self) -> PayloadFile:
        if (self.file is None) == (self.url is None):
            raise ValueError("it needs either file or url")
        return self

    @field_validator("url")
    @classmethod
    def _address(cls, value: str | None) -> str | None:
        if value is not None and not _is_address(value):
            raise ValueError(f"{value[:100]!r} must be an address such as https://packages.tide.example/logger.deb")
        return value

    @field_validator("file")
    @classmethod
    def _beside(cls, value: str | None) -> str | None:
        if value is None:
            return None
        if value.startswith("/") or ".." in value.split("/") or not value.isprintable():
            raise ValueError(f"{value[:60]!r} must be a path in the sheet's own folder, without '..'")
        return value


def _is_address(text: str) -> bool:
    """By https, or by http on this host; nothing in it that only its reader should see."""
    try:
        parts = urlsplit(text)
        host, _ = parts.hostname or "", parts.port
    except ValueError:
        return False
    plain = text.isascii() and text.isprintable() and " " not in text and not parts.fragment
    return plain and is_secure(parts.scheme, host) and bool(host) and not parts.username and not parts.password


class Result(Part):
    """The version that a run makes."""

    line: str
    number: str | None = None
    bump: Literal["patch", "minor", "major"] | None = None
    notes: str = Field(default="", max_length=4000)
    retire_on: date | None = None
    purpose: Purpose | None = Field(default=None, description="What it is for, as `versions purpose` has it.")
    generalize: str = Field(default="linux", description="The profile that removes what makes it that machine.")
    marks: list[str] = Field(default=[], max_length=20, description="Marks to move to it; it is released then.")
    release: bool = Field(default=False, description="Release it unless a finding forbids that.")

    @field_validator("line")
    @classmethod
    def _line(cls, value: str) -> str:
        return _checked(check_name, value, "line")

    @field_validator("marks")
    @classmethod
    def _marks(cls, values: list[str]) -> list[str]:
        return [_checked(check_name, value, "mark") for value in values]

    @field_validator("generalize")
    @classmethod
    def _profile(cls, value: str) -> str:
        if value not in builtin_names():
            raise ValueError(f"there is no profile {value!r}; there are {', '.join(builtin_names())}")
        return value

    @model_validator(mode="after")
    def _one_number(self) -> Result:
        if self.number is not None and self.bump is not None:
            raise ValueError("give either number or bump")
        if self.marks and not self.release:
            raise ValueError("marks move to released versions: set release as well")
        return self


class Sheet(Part):
    """How a version is made from a base."""

    sheet: str = Field(description="The sheet's name.")
    description: str = Field(default="", max_length=2000)
    base: str = Field(description="The version to start from: line, line@mark, line@1.4.0, or of another account.")
    parameters: dict[str, Parameter] = Field(default={}, max_length=50)
    machine: Machine = Machine()
    payload: dict[str, PayloadFile] = Field(default={}, max_length=50)
    steps: list[Step] = Field(min_length=1, max_length=200)
    checks: list[Check] = Field(
        default=[], max_length=200, description="What must be true of a throwaway instance of the result."
    )
    result: Result
    when: When | None = Field(default=None, description="When it runs by itself, once it is saved in the service.")

    @property
    def secrets(self) -> frozenset[str]:
        """The names of the secrets that its steps are given."""
        return frozenset(name for step in self.steps for name in secrets_of(step).values())

    @field_validator("sheet")
    @classmethod
    def _name(cls, value: str) -> str:
        return _checked(check_name, value, "sheet")

    @field_validator("checks")
    @classmethod
    def _distinct(cls, value: list[Check]) -> list[Check]:
        return distinct(value)

    @field_validator("base")
    @classmethod
    def _base(cls, value: str) -> str:
        return _checked(parse_reference, value)


def _checked(check: Callable[..., object], *given: str) -> str:
    try:
        return str(check(*given))
    except Invalid as error:
        raise ValueError(str(error)) from error


@dataclass(frozen=True)
class Checked:
    """What came of reading a sheet: the sheet with its parameters put in, or every fault."""

    sheet: Sheet | None
    values: Mapping[str, Scalar] = field(default_factory=dict)
    faults: Sequence[Fault] = ()
    digest: str = ""

    def need(self) -> Sheet:
        """The sheet.  Raises `Invalid` with every fault."""
        if self.sheet is None:
            told = "\n".join(map(str, self.faults))
            raise Invalid(f"The sheet is not valid:\n{told}", advice="docs/build-sheets.md has the format.")
        return self.sheet


def read_sheet(text: str, given: Mapping[str, Any] | None = None) -> Checked:
    """Read a sheet, and put the values of its parameters in.

    Without ``given`` parameters that have no default take an example: so a sheet can be judged before a run.
    """
    document = read_document(text)
    name = digest(text.encode("utf-8", "replace")).hex()
    if document.faults:
        return Checked(None, faults=tuple(sorted(document.faults)), digest=name)
    data = document.data
    if not isinstance(data, dict):
        return Checked(None, faults=(Fault(1, 1, "", "A sheet is a mapping of names, sheet: first."),), digest=name)
    faults: list[Fault] = []
    declared = _parameters(document, faults)
    values = _values(document, declared, given, faults)
    filled = {
        key: value if key == "parameters" else _filled(document, value, (key,), values, faults)
        for key, value in data.items()
    }
    sheet = None
    try:
        sheet = Sheet.model_validate(filled)
    except ValidationError as error:
        known = {(fault.line, fault.column) for fault in faults}  # what follows from them is not said again
        found = [fault_of(document, one) for one in error.errors(include_url=False)]
        faults += [fault for fault in found if (fault.line, fault.column) not in known]
    if sheet is not None:
        faults += _inconsistent(document, sheet)
    if faults:
        return Checked(None, faults=tuple(sorted(set(faults))), digest=name)
    return Checked(sheet, values, (), name)


def _parameters(document: Document, faults: list[Fault]) -> dict[str, Parameter]:
    """Those that are declared well; faults of the others are found again when the whole is read."""
    declared = {}
    given = document.data.get("parameters") or {}
    for name, about in given.items() if isinstance(given, dict) else ():
        place = ("parameters", name)
        if not re.fullmatch(r"[a-z][a-z0-9_]{0,62}", name):
            faults.append(document.fault(place, "A parameter's name has lower-case letters, digits and underscores."))
            continue
        try:
            parameter = Parameter.model_validate(about)
        except ValidationError:
            continue
        for value in [*parameter.allowed, *([] if parameter.default is None else [parameter.default])]:
            if fault := parameter.fault_of(value):
                faults.append(document.fault(place, f"{fault[:1].upper()}{fault[1:]}."))
        declared[name] = parameter
    return declared


def _values(
    document: Document, declared: Mapping[str, Parameter], given: Mapping[str, Any] | None, faults: list[Fault]
) -> dict[str, Scalar]:
    values: dict[str, Scalar] = {}
    for name, parameter in declared.items():
        if given is not None and name in given:
            value = given[name]
            if fault := parameter.fault_of(value):
                faults.append(document.fault(("parameters", name), f"The given value cannot be taken: {fault}."))
            values[name] = value
        elif parameter.default is not None:
            values[name] = parameter.default
        else:
            values[name] = parameter.allowed[0] if parameter.allowed else _EXAMPLES[parameter.type]
            if given is not None:
                faults.append(document.fault(("parameters", name), "It has no default: give it a value."))
    for name in given or {}:
        if name not in declared:
            faults.append(document.fault(("parameters",), f"A value is given for {name}, which is no parameter."))
    return values


def _filled(document: Document, data: Any, place: Place, values: Mapping[str, Scalar], faults: list[Fault]) -> Any:
    """Data with ``{name}`` replaced; a text that is nothing else becomes the value itself, with its type."""
    if isinstance(data, dict):
        return {key: _filled(document, value, (*place, key), values, faults) for key, value in data.items()}
    if isinstance(data, list):
        return [_filled(document, value, (*place, n), values, faults) for n, value in enumerate(data)]
    if not isinstance(data, str) or (place[0] == "steps" and place[-1] in _UNTOUCHED):
        return data
    lenient = place[0] == "steps" and place[-1] in _LENIENT
    unknown = [name for name in _USE.findall(data) if name not in values]
    if unknown and not lenient:
        faults.append(document.fault(place, f"There is no parameter {unknown[0]!r}."))
    if (whole := _USE.fullmatch(data)) and whole[1] in values and not lenient:
        return values[whole[1]]
    return _USE.sub(lambda use: text_of(values[use[1]]) if use[1] in values else use[0], data)


def text_of(value: Scalar) -> str:
    """A value inside a text."""
    return str(value).lower() if isinstance(value, bool) else str(value)


def _inconsistent(document: Document, sheet: Sheet) -> list[Fault]:
    """What each section allows and all of them together do not."""
    faults = []
    seen: set[str] = set()
    used: set[str] = set()
    for number, step in enumerate(sheet.steps):
        place = ("steps", number)
        if step.id in seen:
            faults.append(document.fault((*place, "id"), f"Two steps are called {step.id}."))
        seen.add(step.id)
        for name in payload_of(step):
            used.add(name)
            if name not in sheet.payload:
                faults.append(document.fault(place, f"There is no {name!r} in the payload."))
        for name in step.only_if:
            if name not in sheet.parameters:
                faults.append(document.fault((*place, "only_if"), f"There is no parameter {name!r}."))
    if sheet.when is not None and sheet.when.after_base and parse_reference(sheet.base).number is not None:
        told = "The base is one version: name its line, or a mark, to run after a release."
        faults.append(document.fault(("when", "after_base"), told))
    for name in sheet.payload:
        if name not in used:
            faults.append(document.fault(("payload", name), "No step uses it: remove it, or add the step."))
    return faults


def repeated(sheet: Sheet, base: str) -> Sheet:
    """A sheet as it is for doing a run again: on the very base of then, and nothing is released by it."""
    result = sheet.result.model_copy(update={"release": False, "marks": [], "retire_on": None})
    return sheet.model_copy(update={"base": base, "result": result})


def applies(step: Step, values: Mapping[str, Scalar]) -> bool:
    """Whether a step is to be done with these values."""
    return all(
        values[name] in (wanted if isinstance(wanted, list) else [wanted]) for name, wanted in step.only_if.items()
    )


def schema() -> dict[str, Any]:
    """The format as JSON Schema 2020-12, for editors."""
    made = Sheet.model_json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made, "title": "Bathotype build sheet"}
