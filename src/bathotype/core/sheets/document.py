"""YAML that remembers the place of every value, so that each fault is reported with its line and column.

Of YAML 1.2 the core schema counts: ``true`` and ``false`` are the only words for yes and no.  Anchors and aliases are
refused, and so is a key that is given twice.  A document is bounded in size and depth before it is built.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import yaml
from pydantic_core import ErrorDetails

from bathotype.core.faults import Fault as Misfit
from bathotype.core.faults import faults_in, is_ours

MOST_CHARACTERS = 256 * 1024
_MOST_DEPTH, _MOST_NODES = 24, 20_000

Place = tuple[str | int, ...]


@dataclass(frozen=True, order=True)
class Fault:
    """What is wrong, and where: line and column count from 1, ``where`` is the path of names to it."""

    line: int
    column: int
    where: str
    message: str

    def __str__(self) -> str:
        at = f"{self.where}: " if self.where else ""
        return f"line {self.line}, column {self.column}: {at}{self.message}"


@dataclass
class Document:
    """Plain data, the place of every value in the text, and what is wrong with its form."""

    data: Any = None
    marks: dict[Place, tuple[int, int]] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)

    def fault(self, place: Sequence[str | int], message: str) -> Fault:
        """A fault at a value, or at the nearest value around it that is in the text."""
        at = tuple(place)
        while at and at not in self.marks:
            at = at[:-1]
        line, column = self.marks.get(at, (1, 1))
        return Fault(line, column, ".".join(map(str, place)), message)


class _Loader(yaml.SafeLoader):
    """Knows the core schema of YAML 1.2, and no other words."""

    yaml_implicit_resolvers: dict[str, list[tuple[str, re.Pattern[str]]]] = {}


for _tag, _pattern, _first in (
    ("bool", r"true|false", "tf"),
    ("null", r"~|null|", "~n\0"),
    ("int", r"[-+]?[0-9]{1,18}", "-+0123456789"),
    ("float", r"[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]{1,3})?", "-+.0123456789"),
):
    _Loader.add_implicit_resolver(f"tag:yaml.org,2002:{_tag}", re.compile(f"(?:{_pattern})$"), list(_first))
_Loader.yaml_implicit_resolvers[""] = _Loader.yaml_implicit_resolvers.pop("\0")


def read_document(text: str) -> Document:
    """Read a text that is one document.  What is wrong with its form is in ``faults``, and ``data`` is None then."""
    first, *others = read_documents(text)
    if others:
        return Document(faults=[others[0].fault((), "There is one document in it, and nothing after `---`.")])
    return first


def read_documents(text: str) -> list[Document]:
    """Read a text that may be several documents, one at least.  What is wrong with the form is in the ``faults`` of the
    first, and ``data`` is None then."""
    found = [Document()]
    faults = found[0].faults
    if len(text) > MOST_CHARACTERS:
        faults.append(Fault(1, 1, "", f"It has more than {MOST_CHARACTERS // 1024} KiB."))
        return found
    try:
        if not _bounded(text, found[0]):
            return found
        loader = _Loader(text)
        try:
            found += _read(loader)
        finally:
            loader.dispose()
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
        faults.append(Fault(line, column, "", f"It is not YAML: {error.problem or error.context}."))
        return found[:1]
    except (yaml.YAMLError, ValueError) as error:
        faults.append(Fault(1, 1, "", f"It is not YAML: {str(error).splitlines()[0]}."))
        return found[:1]
    faults += [fault for one in found[1:] for fault in one.faults]
    return found[:1] if faults else found[1:] or found


def pieces(text: str) -> list[str]:
    """The text cut before each document but the first; whole where it cannot be read."""
    if read_documents(text)[0].faults:
        return [text]
    begins = [e.start_mark for e in yaml.parse(text, Loader=_Loader) if isinstance(e, yaml.DocumentStartEvent)]
    cuts = [0, *(mark.index for mark in begins[1:] if mark is not None), len(text)]
    return [text[begin:end] for begin, end in itertools.pairwise(cuts)]


def _read(loader: Any) -> Iterator[Document]:
    while loader.check_node():
        document = Document()
        document.data = _built(loader, loader.get_node(), (), document)
        if document.data is not None:  # nothing is between two lines of dashes
            yield document


def _bounded(text: str, found: Document) -> bool:
    """Whether it is small enough to be built, and has no aliases."""
    depth = nodes = 0
    for event in yaml.parse(text, Loader=_Loader):
        if isinstance(event, yaml.NodeEvent):
            nodes += 1
            if event.anchor is not None:  # an alias has one too
                found.faults.append(_at(event.start_mark, "Anchors and aliases are not read: write the value out."))
                return False
            if getattr(event, "tag", None) is not None:
                found.faults.append(_at(event.start_mark, "Tags are not read: write a plain value."))
                return False
        if isinstance(event, yaml.CollectionStartEvent):
            depth += 1
        elif isinstance(event, yaml.CollectionEndEvent):
            depth -= 1
        if depth > _MOST_DEPTH or nodes > _MOST_NODES:
            found.faults.append(_at(event.start_mark, "It is nested too deeply, or holds too much."))
            return False
    return True


def _at(mark: Any, message: str, where: str = "") -> Fault:
    return Fault(mark.line + 1, mark.column + 1, where, message)


def _built(loader: Any, node: Any, place: Place, found: Document) -> Any:
    found.marks[place] = (node.start_mark.line + 1, node.start_mark.column + 1)
    if isinstance(node, yaml.SequenceNode):
        return [_built(loader, item, (*place, number), found) for number, item in enumerate(node.value)]
    if isinstance(node, yaml.MappingNode):
        built: dict[str, Any] = {}
        for key, value in node.value:
            name = key.value if isinstance(key, yaml.ScalarNode) else ""
            where = ".".join(map(str, (*place, name)))
            if not isinstance(key, yaml.ScalarNode):
                found.faults.append(_at(key.start_mark, "A name must be a plain text.", where))
            elif name in built:
                found.faults.append(_at(key.start_mark, f"{name} is given twice.", where))
            else:
                built[name] = _built(loader, value, (*place, name), found)
        return built
    return loader.construct_object(node)


#: What says of which kind an item of a list is.
_KINDS: dict[str | int, str] = {"steps": "do", "checks": "is"}


def faults_against(document: Document, errors: Iterable[ErrorDetails]) -> Iterator[Fault]:
    """Faults in our words, each at its place in the text."""
    for fault in faults_in(errors, document.data):
        yield document.fault(fault.place, _message(fault))


def _message(fault: Misfit) -> str:
    error, place = fault.errors[0], fault.place
    kind, context = error["type"], error.get("ctx") or {}
    if kind == "extra_forbidden":
        message = "There is nothing of this name here."
    elif kind == "missing":
        message = "It is missing."
    elif kind == "union_tag_not_found":
        message = f"It needs `{_KINDS.get(place[0], 'kind')}`, which says what it is."
    elif kind == "union_tag_invalid":
        message = f"There is no {context.get('tag')!r}; there are {context.get('expected_tags')}."
    else:
        words = fault.words
        message = f"{words[:1].upper()}{words[1:]}." if is_ours(error) else f"It {words}."
    return message
