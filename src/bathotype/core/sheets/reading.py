"""Reading a build sheet and its parts whole, with every fault at once.

A sheet's text is a stream of YAML documents: the sheet first, then each of its parts.  So one text holds all that a run
does, and every fault has its line in it.
"""

from __future__ import annotations

import posixpath
import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from bathotype.core.errors import Invalid
from bathotype.core.lifecycle.numbers import parse_number
from bathotype.core.lifecycle.references import parse_reference
from bathotype.core.sheets.base import CopiedBase, InstalledBase, payload_of_base
from bathotype.core.sheets.document import Document, Fault, Place, faults_against, read_documents
from bathotype.core.sheets.sheet import (
    KeptFile,
    Parameter,
    PartSource,
    PayloadFile,
    Sheet,
    SheetPart,
    WrittenSheet,
)
from bathotype.core.sheets.steps import Include, PrepareSystem, Scalar, Step, payload_of, renamed, renamed_payload
from bathotype.core.store.chunks import digest

_EXAMPLES: dict[str, Scalar] = {"text": "x", "number": 1, "boolean": True}
_USE = re.compile(r"\{([a-z][a-z0-9_]*)\}")
#: Fields of a step in which a parameter is never put: a shell would read it as its own, and templates have fields of theirs.
_UNTOUCHED = {"script", "answers"}
#: Texts in which only parameters that there are are put: braces are common in them.
_LENIENT = ("content", "user_data")
_MOST_STEPS, _MOST_ID = 200, 63


@dataclass(frozen=True)
class _Asker:
    """Who gives values: the place that is told with their faults, the values, and the names of those that may be lacking,
    of which an example is taken.  None stands for all names."""

    document: Document
    place: Place
    given: Mapping[str, Any]
    lacking: frozenset[str] | None

    def may_lack(self, name: str) -> bool:
        return name not in self.given and (self.lacking is None or name in self.lacking)

    def fault(self, name: str, message: str) -> Fault:
        return self.document.fault((*self.place, *([name] if name else [])), message)


_Model = TypeVar("_Model", bound=BaseModel)


@dataclass(frozen=True)
class Checked:
    """What came of reading a sheet: the sheet with its parameters and parts put in, or every fault.

    ``skipped`` are the ids of steps that are not to be done with these values.
    """

    sheet: Sheet | None
    values: Mapping[str, Scalar] = field(default_factory=dict)
    faults: Sequence[Fault] = ()
    digest: str = ""
    skipped: frozenset[str] = frozenset()

    def need(self) -> Sheet:
        """The sheet.  Raises `Invalid` with every fault."""
        if self.sheet is None:
            raise not_valid([str(fault) for fault in self.faults])
        return self.sheet


def not_valid(faults: Sequence[str], what: str = "sheet") -> Invalid:
    """The error that names every fault."""
    told = "\n".join(faults)
    return Invalid(f"The {what} is not valid:\n{told}", advice="docs/build-sheets.md has the format.")


def read_sheet(
    text: str, given: Mapping[str, Any] | None = None, *, partly: bool = False, here_alone: bool = False
) -> Checked:
    """Read a sheet, and put the values of its parameters in, and its parts.

    Without ``given``, or with a part of the values, parameters that have no default take an example: so a sheet can be
    judged before a run.  With ``here_alone`` parts that are kept in the service may be missing, and are left out.
    """
    lacking = None if given is None or partly else frozenset[str]()
    documents = read_documents(text)
    document, *others = documents
    name = digest(text.encode("utf-8", "replace")).hex()
    faults = [fault for one in documents for fault in one.faults]
    if not faults and not isinstance(document.data, dict):
        faults.append(Fault(1, 1, "", "A sheet is a mapping of names, sheet: first."))
    if faults:
        return Checked(None, faults=tuple(sorted(faults)), digest=name)
    asker = _Asker(document, ("parameters",), given or {}, lacking)
    values, written = _filled_in(WrittenSheet, document, asker, faults)
    if written is None:
        return Checked(None, faults=tuple(sorted(set(faults))), digest=name)
    whole = _Whole(document, written, values, asker, faults, here_alone)
    whole.gather(_parts(document, written, others, faults))
    if faults:
        return Checked(None, faults=tuple(sorted(set(faults))), digest=name)
    return Checked(whole.sheet(), values, (), name, frozenset(whole.skipped))


def is_part(text: str) -> bool:
    """Whether a text is meant to be a part, not a sheet."""
    return _name_of(read_documents(text)[0]) is not None


def read_part(text: str) -> tuple[SheetPart | None, Sequence[Fault]]:
    """A part by itself, with examples for parameters that have no default; or every fault."""
    documents = read_documents(text)
    document, *others = documents
    faults = [fault for one in documents for fault in one.faults]
    if not faults and not isinstance(document.data, dict):
        faults.append(Fault(1, 1, "", "A part is a mapping of names, part: first."))
    if not faults and others:
        faults.append(others[0].fault((), "A part is one document."))
    if not faults:
        _, part = _filled_in(SheetPart, document, _Asker(document, ("parameters",), {}, None), faults)
        if part is not None:
            _see_to(document, part.steps, part.payload, part.parameters, faults)
            if not faults:
                return part, ()
    return None, tuple(sorted(set(faults)))


def parts_named(text: str) -> tuple[dict[str, PartSource], set[str]]:
    """The parts that a sheet names, as far as that can be read, and the names of those whose texts are in its own."""
    document, *others = read_documents(text)
    given = document.data.get("parts") if isinstance(document.data, dict) else None
    found = {}
    for name, about in given.items() if isinstance(given, dict) else ():
        try:
            found[name] = PartSource.model_validate(about)
        except ValidationError:
            continue  # reported when the whole is read
    return found, {name for other in others if isinstance(name := _name_of(other), str)}


def part_name(text: str) -> str | None:
    """The name that a part's text gives itself; None where it is no part."""
    name = _name_of(read_documents(text)[0])
    return name if isinstance(name, str) else None


def _name_of(document: Document) -> Any:
    return document.data.get("part") if isinstance(document.data, dict) else None


def _filled_in(
    model: type[_Model], document: Document, asker: _Asker, faults: list[Fault]
) -> tuple[dict[str, Scalar], _Model | None]:
    """A document with its values put in; None, and its faults, where it cannot be read."""
    declared = _parameters(document, faults)
    values = _values(asker, declared, faults)
    put = _Put(document, values, frozenset(name for name, about in declared.items() if about.secret), faults)
    filled = {key: value if key == "parameters" else put.into(value, (key,)) for key, value in document.data.items()}
    try:
        return values, model.model_validate(filled)
    except ValidationError as error:
        known = {(fault.line, fault.column) for fault in faults}  # what follows from them is not said again
        found = list(faults_against(document, error.errors(include_url=False)))
        faults += [fault for fault in found if (fault.line, fault.column) not in known]
        return values, None


def _parts(
    document: Document, sheet: WrittenSheet, others: Sequence[Document], faults: list[Fault]
) -> dict[str, Document]:
    """The documents of the parts by their names."""
    found: dict[str, Document] = {}
    for other in others:
        name = _name_of(other)
        if not isinstance(name, str) or name not in sheet.parts:
            faults.append(other.fault((), "A part begins with `part:` and a name that the sheet's `parts` has."))
        elif name in found:
            faults.append(other.fault((), f"The part {name} is there twice."))
        else:
            found[name] = other
    used = {step.part for step in sheet.steps if isinstance(step, Include)}
    for name in sheet.parts:
        if name not in used:
            faults.append(document.fault(("parts", name), "No step includes it: remove it, or add the step."))
    return found


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


def _values(asker: _Asker, declared: Mapping[str, Parameter], faults: list[Fault]) -> dict[str, Scalar]:
    values: dict[str, Scalar] = {}
    for name, parameter in declared.items():
        if name in asker.given:
            value = asker.given[name]
            if fault := parameter.fault_of(value):
                faults.append(asker.fault(name, f"The given value cannot be taken: {fault}."))
            values[name] = value
        elif (default := parameter.default_for(name)) is not None:
            values[name] = default
        else:
            values[name] = parameter.allowed[0] if parameter.allowed else _EXAMPLES[parameter.type]
            if not asker.may_lack(name):
                faults.append(asker.fault(name, "It has no default: give it a value."))
    for name in asker.given:
        if name not in declared:
            faults.append(asker.fault("", f"A value is given for {name}, which is no parameter."))
    return values


@dataclass(frozen=True)
class _Put:
    """Values that are put into a document; those of ``secret`` parameters only where a secret is named."""

    document: Document
    values: Mapping[str, Scalar]
    secret: frozenset[str]
    faults: list[Fault]

    def into(self, data: Any, place: Place) -> Any:
        """Data with ``{name}`` replaced; a text that is nothing else becomes the value itself, with its type."""
        if isinstance(data, dict):
            return {key: self.into(value, (*place, key)) for key, value in data.items()}
        if isinstance(data, list):
            return [self.into(value, (*place, n)) for n, value in enumerate(data)]
        if not isinstance(data, str) or (place[0] == "steps" and {*place[2:3]} & _UNTOUCHED):
            return data
        values, used = self.values, _USE.findall(data)
        lenient = place[0] in ("steps", "machine") and place[-1] in _LENIENT
        unknown = [name for name in used if name not in values]
        if unknown and not lenient:
            self.faults.append(self.document.fault(place, f"There is no parameter {unknown[0]!r}."))
        misplaced = [name for name in used if name in self.secret and not _names_secret(place)]
        if misplaced:
            told = f"{misplaced[0]} is a secret: a step gets it by `secrets`, the first boot by `first_boot.secrets`."
            self.faults.append(self.document.fault(place, told))
        if (whole := _USE.fullmatch(data)) and whole[1] in values and not lenient:
            return values[whole[1]]
        return _USE.sub(lambda use: text_of(values[use[1]]) if use[1] in values else use[0], data)


def _names_secret(place: Place) -> bool:
    """Whether a secret is named at a place, or handed on to a part."""
    if place[0] == "steps":
        return place[2:3] in (("secrets",), ("values",))
    return place[:3] == ("machine", "first_boot", "secrets") and place[-1] == "secret"


def text_of(value: Scalar) -> str:
    """A value inside a text."""
    return str(value).lower() if isinstance(value, bool) else str(value)


def _see_to(
    document: Document, steps: Sequence[Step | Include], payload: Collection[str], parameters: Collection[str],
    faults: list[Fault], base: Collection[str] = (),
) -> None:  # fmt: skip
    """What each step allows and all of them together do not."""
    seen: set[str] = set()
    used = set(base)
    for name in base:
        if name not in payload:
            faults.append(document.fault(("base",), f"There is no {name!r} in the payload."))
    for number, step in enumerate(steps):
        place = ("steps", number)
        if step.id in seen:
            faults.append(document.fault((*place, "id"), f"Two steps are called {step.id}."))
        seen.add(step.id)
        for name in payload_of(step):
            used.add(name)
            if name not in payload:
                faults.append(document.fault(place, f"There is no {name!r} in the payload."))
        for name in step.only_if:
            if name not in parameters:
                faults.append(document.fault((*place, "only_if"), f"There is no parameter {name!r}."))
    for name in payload:
        if name not in used:
            faults.append(document.fault(("payload", name), "No step uses it: remove it, or add the step."))


class _Whole:
    """A sheet and its parts, becoming one."""

    def __init__(
        self,
        document: Document,
        written: WrittenSheet,
        values: Mapping[str, Scalar],
        asker: _Asker,
        faults: list[Fault],
        here_alone: bool,
    ) -> None:
        self._document, self._written, self._values, self._faults = document, written, values, faults
        self._here_alone = here_alone
        #: Parameters of which only an example is known: a part may allow other values.
        self._unknown = {n for n, about in written.parameters.items() if about.default is None and asker.may_lack(n)}
        self._steps: list[Step] = []
        self._checks = list(written.checks)
        self._payload = dict(written.payload)
        self.skipped: set[str] = set()

    def sheet(self) -> Sheet:
        """The sheet with everything in it."""
        own = {name: getattr(self._written, name) for name in Sheet.model_fields}
        own |= {"steps": self._steps, "checks": self._checks, "payload": self._payload}
        return Sheet.model_construct(**own)

    def _judge_number(self) -> None:
        """The number of the result, where it is known."""
        number, written = self._written.result.number, self._document.data["result"].get("number")
        if number is None or self._unknown & {*_USE.findall(written)}:
            return
        try:
            parse_number(number)
        except Invalid as error:
            self._faults.append(self._document.fault(("result", "number"), str(error)))

    def gather(self, parts: Mapping[str, Document]) -> None:
        """Put the steps in order, those of a part where it is included."""
        written, document = self._written, self._document
        base = payload_of_base(written.base)
        _see_to(document, written.steps, written.payload, written.parameters, self._faults, base)
        self._judge_number()
        if self._faults:
            return
        for number, step in enumerate(written.steps):
            if isinstance(step, Include):
                self._include(step, number, parts)
            else:
                self._take(step, applies(step, self._values))
        if len(self._steps) > _MOST_STEPS:
            self._faults.append(document.fault(("steps",), f"With its parts it has more than {_MOST_STEPS} steps."))
        self._preparation(document)
        if written.when is not None and written.when.after_base and not _moves(written.base):
            what = "one version" if isinstance(written.base, str) else "no version"
            told = f"The base is {what}: name a line, or a mark, to run after a release."
            self._faults.append(document.fault(("when", "after_base"), told))

    def _preparation(self, document: Document) -> None:
        """The system's own tool ends what is done in the machine."""
        for number, step in enumerate(self._steps):
            if isinstance(step, PrepareSystem) and (number + 1 < len(self._steps) or step.only_if):
                told = f"{step.id} shuts the machine down: it is the last step, and always done."
                self._faults.append(document.fault(("steps",), told))

    def _take(self, step: Step, is_done: bool) -> None:
        self._steps.append(step)
        if not is_done:
            self.skipped.add(step.id)

    def _include(self, include: Include, number: int, parts: Mapping[str, Document]) -> None:
        place, faults = ("steps", number), self._faults
        source, document = self._written.parts.get(include.part), parts.get(include.part)
        if self._here_alone and source is not None and source.saved is not None and document is None:
            return
        if source is None or document is None:
            why = (
                f"`parts` has no {include.part!r}"
                if source is None
                else f"The part {include.part} is not with the sheet"
            )
            faults.append(self._document.fault((*place, "part"), f"{why}."))
            return
        before = len(faults)
        values, part = _filled_in(SheetPart, document, self._asker(include, number), faults)
        if part is not None:
            _see_to(document, part.steps, part.payload, part.parameters, faults)
        if part is None or len(faults) > before:
            return
        is_done = applies(include, self._values)
        for step in part.steps:
            self._take(renamed(step, include.id), is_done and applies(step, values))
        for name, about in part.payload.items():
            kept = KeptFile(**about.model_dump(), part=include.part, name=name)
            mine = renamed_payload(name, include.id)
            if mine in self._payload:
                faults.append(self._document.fault((*place, "id"), f"Two files of the payload are called {mine}."))
            self._payload[mine] = kept if source.saved else _in_its_folder(about, source)
        if is_done:
            self._checks += [one.model_copy(update={"id": f"{include.id}-{one.id}"}) for one in part.checks]
        for what, ids in (("steps", self._steps), ("checks", self._checks)):
            if long := next((one.id for one in ids if len(one.id) > _MOST_ID), None):
                faults.append(self._document.fault((*place, "id"), f"{long} is longer than {_MOST_ID} characters."))
            if twice := next((name for name, times in Counter(one.id for one in ids).items() if times > 1), None):
                faults.append(self._document.fault((*place, "id"), f"Two {what} are called {twice}."))

    def _asker(self, include: Include, number: int) -> _Asker:
        """The values that a part is given; those of which only an example is known are lacking."""
        raw = self._document.data["steps"][number].get("values", {})
        lacking = frozenset(n for n, v in raw.items() if isinstance(v, str) and self._unknown & {*_USE.findall(v)})
        given = {name: value for name, value in include.values.items() if name not in lacking}
        return _Asker(self._document, ("steps", number, "values"), given, lacking)


def _in_its_folder(about: PayloadFile, source: PartSource) -> PayloadFile:
    """A file of a part, which lies beside the part."""
    if about.path is None or source.file is None:
        return about
    where = posixpath.join(posixpath.dirname(source.file), about.path)
    return PayloadFile(folder=where) if about.folder else PayloadFile(file=where)


def _moves(base: str | CopiedBase | InstalledBase) -> bool:
    """Whether a base can be another version later."""
    return isinstance(base, str) and parse_reference(base).number is None


def applies(step: Step | Include, values: Mapping[str, Scalar]) -> bool:
    """Whether a step is to be done with these values."""
    return all(
        values[name] in (wanted if isinstance(wanted, list) else [wanted]) for name, wanted in step.only_if.items()
    )
