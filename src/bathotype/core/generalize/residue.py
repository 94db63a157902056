"""The residue scan: what still identifies the source or endangers its owner, on the captured bytes.

Rules look at paths (identity, leases, histories), at content by shape (private keys, tokens), at assignments
of secrets in configuration, and for the source's own identity in text; also in packed files, attributes, names and
targets of links.  Excerpts are redacted: a report never carries what it found.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Any, NamedTuple

from bathotype.core.disk.diskfile import Unreadable
from bathotype.core.generalize.hints import HintedRules, Words
from bathotype.core.generalize.residuerules import (
    ASSIGNED_WHERE,
    ASSIGNMENT,
    COMMENTS,
    CONTENT_RULES,
    IDENTITY_RULES,
    NAME,
    NOT_ASSIGNED,
    NOT_SECRET,
    PATH_RULES,
    PUBLIC_TEXT,
    SKIPPED,
    VALUE,
    ContentRule,
    PathRule,
)
from bathotype.core.generalize.shipped import Shipped
from bathotype.core.generalize.unpacking import Budget, is_packed, unpacked
from bathotype.core.guest.node import Node
from bathotype.core.guest.patterns import Names, matcher
from bathotype.core.guest.tree import FileTree
from bathotype.core.store.chunks import digest
from bathotype.core.units import plural

_MIB = 1024 * 1024
#: Bounds, in bytes: of each file whatever others take, of a file, and of what all files have beyond the first of these.
_ALWAYS, MOST_FILE, _MOST_BEYOND = _MIB, 64 * _MIB, 8192 * _MIB
#: Of what one file holds packed and all of them, of text of two bytes a character, of a link.
_MOST_A_FILE, _MOST_UNPACKED, _MOST_WIDE, _MOST_TARGET = 64 * _MIB, 1024 * _MIB, 8 * _MIB, 65536
_HEAD, _TELLING = 8192, 6
_MOST_PER_RULE = 200
_MOST_PER_FILE = 20
_SHAPES = HintedRules(CONTENT_RULES)
#: The rule of a finding about a secret that was given on purpose.
USED_SECRET = "used-secret"
_NO_SECRET = ("source-host-name", "source-address")


@dataclass(frozen=True)
class SourceIdentity:
    """What made the source that machine, to be looked for in what was captured.

    ``earlier`` are those of the machines that the source's disk began with: of a copied one, and of the sources of
    versions.
    """

    host_name: str = ""
    machine_id: str = ""
    addresses: tuple[str, ...] = ()
    host_keys: tuple[str, ...] = ()
    earlier: tuple[SourceIdentity, ...] = ()


@dataclass(frozen=True)
class Finding:
    """One thing found; ``id`` stays the same for the same thing in the same place.  ``line`` is 0 for paths."""

    id: str
    rule: str
    severity: str
    path: str
    line: int
    excerpt: str
    advice: str


def scan(
    disk: FileTree, source: SourceIdentity, *, identity_kept: bool = False, reached: bool = False
) -> list[Finding]:
    """Every finding in a guest's files, most severe first; what the tree does not show is one too, and so are volumes
    that no profile can have changed, unless it ``reached`` all of them.

    ``identity_kept`` marks a capture as it is: its identity is then reported with severity ``low``, since
    keeping it was asked for; credentials stay what they are.
    """
    found: dict[str, Finding] = {}
    counts: dict[str, int] = {}
    look, shipped = _Look(disk, source), Shipped(disk)
    unreadable_files: list[tuple[str, str]] = []
    for path, inode in disk.entries.items():
        try:
            hits = list(look.at(path, inode))
            if hits and path in shipped:
                continue  # what a package ships is no secret
        except Unreadable as error:
            unreadable_files.append((path, error.message))
            continue
        for hit in hits:
            counts[hit.rule] = counts.get(hit.rule, 0) + 1
            if counts[hit.rule] > _MOST_PER_RULE:
                continue
            low = identity_kept and hit.rule in IDENTITY_RULES
            severity, where = "low" if low else hit.severity, look.told(hit.path)
            finding = _finding(hit.rule, severity, where, hit.line, hit.excerpt, hit.advice)
            found[finding.id] = finding
    for budget, what, detail in (
        (look.budget, "(packed files)", "packed files hold more than is looked into"),
        (look.beyond, "(large files)", "large files hold more than is looked at: of each the first MiB was"),
    ):
        if budget.spent:
            finding = _finding("not-scanned", "low", what, 0, detail, "Accept it if you know what they hold.")
            found[finding.id] = finding
    for rule, count in counts.items():
        if count > _MOST_PER_RULE:
            more = _finding(
                rule, "medium", "", 0, f"{count - _MOST_PER_RULE} more", "Correct the first ones, then look again."
            )
            found[more.id] = more
    for lack in disk.lacks():
        if not lack.scanned:
            why = f": {lack.why}" if lack.why else ""
            detail = f"captured, but its files were neither generalized nor scanned{why}"
            finding = _finding("not-scanned", "high", lack.what, 0, detail, "Accept it if you know what it contains.")
            found[finding.id] = finding
        elif lack.why:
            detail = f"captured whole, and its files were scanned as they lie on the disk: {lack.why}"
            finding = _finding(
                "not-scanned", "medium", lack.what, 0, detail, "Shut the machine down before, or accept it."
            )
            found[finding.id] = finding
        elif not identity_kept and not reached:
            detail = "its files were scanned; no step of the profile has changed them"
            finding = _finding(
                "not-generalized", "low", lack.what, 0, detail, "Clean them in the machine, or accept it."
            )
            found[finding.id] = finding
    if unreadable_files:
        path, why = unreadable_files[0]
        detail = f"{plural(len(unreadable_files), 'file')}, the first is {path}: {why}"
        finding = _finding("not-scanned", "medium", "(files)", 0, detail, "Accept it if you know what they hold.")
        found[finding.id] = finding
    order = {"high": 0, "medium": 1, "low": 2}
    return sorted(found.values(), key=lambda f: (order[f.severity], f.rule, f.path, f.line))


def unreadable(reason: str) -> list[Finding]:
    """The report on a disk whose files cannot be read at all."""
    return [_finding("not-scanned", "high", "(whole disk)", 0, reason, "Accept it if you know what the disk holds.")]


def unmounted(disk: str) -> Finding:
    """The report on a data disk whose files the running system did not show."""
    detail = "the system mounts nothing of it, so no step of the profile has changed its files"
    return _finding("not-generalized", "medium", f"({disk})", 0, detail, "Mount it in the machine, or accept it.")


def remains(what: str) -> Finding:
    """The report that the disk's bytes still hold what none of its files does."""
    detail = "in bytes that belong to no file: the site does not free the blocks that the clone discards"
    return _finding("remains", "high", "(whole disk)", 0, f"{what}, {detail}", "Use another file system, or accept it.")


def used_secret(name: str, form: str) -> Finding:
    """The report on a secret that a build run, or the first boot of the source, was given and that the captured bytes
    still hold."""
    advice = "Make the program that gets the secret write it nowhere, or remove what it wrote; then change the secret."
    return _finding(USED_SECRET, "high", "(whole disk)", 0, f"the secret {name}, {form}", advice)


def _finding(rule: str, severity: str, path: str, line: int, excerpt: str, advice: str) -> Finding:
    name = digest(f"{rule}\0{path}\0{line}\0{excerpt}".encode("utf-8", "replace")).hex()[:8]
    printable = path.encode("utf-8", "replace").decode("utf-8")
    return Finding(f"{rule}-{name}", rule, severity, printable, line, excerpt, advice)


def _identity_rules(source: SourceIdentity, *, in_names: bool = False) -> list[ContentRule]:
    """A host may be called as many folders are: in names of files only what is unmistakable counts."""
    rules = []
    each = [source, *source.earlier]

    def add(rule: str, severity: str, values: list[str]) -> None:
        wanted = sorted({v for v in values if len(v) >= 3 and v not in ("localhost", "127.0.0.1", "::1", "debian")})
        if wanted:
            hints = tuple(v.encode() for v in wanted)
            rules.append(ContentRule(rule, severity, Words(hints), "Remove it, or add its file to the profile.", hints))

    add("source-machine-id", "high", [text for one in each for text in (one.machine_id, _dashed(one.machine_id))])
    fingerprints = [k for one in each for key in one.host_keys for k in (key, key.removeprefix("SHA256:"))]
    add("source-host-key", "high", fingerprints)
    names = [one.host_name for one in each]
    add("source-host-name", "medium", [name for name in names if not in_names or _tells(name)])
    addresses = [a for one in each for a in one.addresses]
    add("source-address", "medium", [a for a in addresses if not a.startswith(("127.", "fe80:", "::1"))])
    return rules


def _tells(host_name: str) -> bool:
    return len(host_name) >= _TELLING and not host_name.isalpha()


def _dashed(machine_id: str) -> str:
    m = machine_id
    return f"{m[:8]}-{m[8:12]}-{m[12:16]}-{m[16:20]}-{m[20:]}" if len(m) == 32 else ""


class _Hit(NamedTuple):
    rule: str
    severity: str
    path: str
    line: int
    excerpt: str
    advice: str


class _Look:
    """Looks at one guest's paths, one after another."""

    def __init__(self, disk: FileTree, source: SourceIdentity) -> None:
        self.budget, self.beyond = Budget(_MOST_UNPACKED), Budget(_MOST_BEYOND)
        self._disk = disk
        self._identity = HintedRules(_identity_rules(source))
        self._in_names = HintedRules(_identity_rules(source, in_names=True))
        self._hidden: dict[str, str] = {}
        self._rule_of = self._ruled()
        self._skipped, self._public, self._assigned, self._unassigned = (
            frozenset(disk.matching(pattern)) for pattern in (SKIPPED, PUBLIC_TEXT, ASSIGNED_WHERE, NOT_ASSIGNED)
        )

    def _ruled(self) -> dict[str, PathRule]:
        """The first rule that names a path, by any of its names."""
        owners = [(name, path) for path in self._disk.entries for name in self._disk.names_of(path)]
        names, found = Names(name for name, _ in owners), dict[str, PathRule]()
        for rule in PATH_RULES:
            for place in names.matching(matcher(list(rule.patterns))):
                found.setdefault(owners[place][1], rule)
        return found

    def told(self, path: str) -> str:
        """A path as a report may show it: without secrets that are names."""
        for secret, hidden in self._hidden.items():
            if path.startswith(secret):
                return hidden + path[len(secret) :]
        return path

    def at(self, path: str, node: Node) -> Iterator[_Hit]:
        """Everything at one path: its name, its attributes, where it leads, what it holds."""
        yield from self._in_name(path)
        for name, value in self._disk.attributes(path).items():
            yield from self._said(path, f"attribute {name}", value)
        if node.is_link:
            yield from self._said(path, "leads to", self._disk.content(path, most=_MOST_TARGET))
        elif node.is_file and node.size:
            yield from self._in_file(path, node)

    def _in_name(self, path: str) -> Iterator[_Hit]:
        name = os.fsencode(path[path.rfind("/") + 1 :])
        for rule, at, text in _SHAPES.matches(name):
            self._hidden[path] = f"{path[: path.rfind('/') + 1]}{os.fsdecode(name[:at])}…"
            yield _Hit(rule.id, rule.severity, path, 0, f"its name: {_redacted(text)}", rule.advice)
        if path not in self._public:
            for rule, _, text in self._in_names.matches(name):
                yield _Hit(rule.id, rule.severity, path, 0, f"its name: {_shown(rule, text)}", rule.advice)

    def _said(self, path: str, where: str, data: bytes) -> Iterator[_Hit]:
        for rules in (_SHAPES, self._identity):
            for rule, _, text in rules.matches(data):
                yield _Hit(rule.id, rule.severity, path, 0, f"{where}: {_shown(rule, text)}", rule.advice)

    def _in_file(self, path: str, node: Node) -> Iterator[_Hit]:
        rule = self._rule_of.get(path)
        wanted = path not in self._skipped
        if rule is None and not wanted:
            return
        more = self.beyond.take(max(0, min(node.size, MOST_FILE) - _ALWAYS)) if wanted else 0
        data = self._disk.content(path, most=_ALWAYS + more)
        if rule is not None and rule.condition(data):
            yield _Hit(rule.id, rule.severity, path, 0, f"{node.size} bytes", rule.advice)
        if not wanted:
            return
        besides = rule.id if rule is not None else ""
        yield from (hit for hit in self._in_bytes(path, path, data) if hit.rule != besides)
        if is_packed(data[:512]):
            mine = Budget(min(self.budget.left, _MOST_A_FILE))
            before = mine.left
            for inner, held in unpacked(data, mine):
                yield from self._in_bytes(path, f"{path}!{inner}" if inner else path, held)
            self.budget.left -= before - mine.left
            self.budget.spent |= mine.spent

    def _in_bytes(self, path: str, shown: str, data: bytes) -> Iterator[_Hit]:
        """What is in the bytes of a file, or of one that was packed in it."""
        yield from _by_content(shown, data, _SHAPES)
        text = _as_text(data)
        if text is None:
            return
        if text is not data:
            yield from (hit for hit in _by_content(shown, text, _SHAPES) if hit.rule != "private-key")
        if path not in self._public:
            yield from _by_content(shown, text, self._identity)
        if path in self._assigned and path not in self._unassigned:
            yield from _assignments(shown, text)


def _as_text(data: bytes) -> bytes | None:
    """A text as UTF-8, also where it was of two bytes a character; None where it is no text."""
    head = data[:_HEAD]
    if b"\0" not in head:
        return data
    little, big = head.startswith(b"\xff\xfe"), head.startswith(b"\xfe\xff")
    half = len(head) // 2
    little = little or (half > 8 and head[1::2].count(0) * 10 > half * 8 and b"\0" not in head[0::2])
    if not little and not big:
        return None
    text = data[:_MOST_WIDE].decode("utf-16-be" if big else "utf-16-le", "replace")
    return text.removeprefix("\ufeff").encode("utf-8", "replace")


def _by_content(path: str, data: bytes, rules: HintedRules) -> Iterator[_Hit]:
    counts: dict[str, int] = {}
    for rule, at, text in rules.matches(data):
        counts[rule.id] = counts.get(rule.id, 0) + 1
        if counts[rule.id] <= _MOST_PER_FILE:
            line = data.count(b"\n", 0, at) + 1
            yield _Hit(rule.id, rule.severity, path, line, _shown(rule, text), rule.advice)


def _assignments(path: str, data: bytes) -> Iterator[_Hit]:
    assigned = (m for m in ASSIGNMENT.finditer(data) if not NOT_SECRET.match(m[VALUE]) and not _commented(data, m))
    for match in islice(assigned, _MOST_PER_FILE):
        value = match[VALUE]
        strong = len(value) >= 8 and any(c in b"0123456789" for c in value) and any(chr(c).isalpha() for c in value)
        name = data[match.start(NAME) : match.start(VALUE)].strip().decode("utf-8", "replace")
        line = data.count(b"\n", 0, match.start(VALUE)) + 1
        excerpt = f"{name[-60:]} … ({len(value)} bytes)"
        severity = "high" if strong else "medium"
        yield _Hit("secret-assigned", severity, path, line, excerpt, "Remove it and change the secret.")


def _commented(data: bytes, match: Any) -> bool:
    at = match.start(NAME)
    return data[data.rfind(b"\n", 0, at) + 1 : at + 4].lstrip(b" \t").startswith(COMMENTS)


def _shown(rule: ContentRule, text: bytes) -> str:
    return text.decode("utf-8", "replace") if rule.id in _NO_SECRET else _redacted(text)


def _redacted(value: bytes) -> str:
    """The first few characters and the length: enough to find it, not enough to use it."""
    text = value.split(b"\n")[0].decode("utf-8", "replace")
    shown = text[:34] if text.startswith(("-----BEGIN", "PuTTY-User-Key")) else text[:4]
    return f"{shown}… ({len(value)} bytes)"
