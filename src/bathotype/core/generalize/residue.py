"""The residue scan: what still identifies the source or endangers its owner, on the captured bytes.

Rules look at paths (identity, leases, histories), at content by shape (private keys, tokens), at assignments
of secrets in configuration, and for the source's own identity anywhere in small text files.  Excerpts are
redacted: a report never carries what it found.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice

from bathotype.core.disk.layout import Layout
from bathotype.core.generalize.hints import HintedRules
from bathotype.core.generalize.residuerules import (
    ASSIGNED_WHERE,
    ASSIGNMENT,
    COMMENT,
    COMPILED_PATHS,
    CONTENT_RULES,
    IDENTITY_RULES,
    NOT_ASSIGNED,
    NOT_SECRET,
    PUBLIC_TEXT,
    SKIPPED,
    ContentRule,
)
from bathotype.core.generalize.shipped import Shipped
from bathotype.core.guest.node import Node
from bathotype.core.guest.tree import FileTree
from bathotype.core.store.chunks import digest

MOST_FILE = 1024 * 1024
_MOST_PER_RULE = 200
_MOST_PER_FILE = 20
_SHAPES = HintedRules(CONTENT_RULES)
_NO_SECRET = ("source-host-name", "source-address")


@dataclass(frozen=True)
class SourceIdentity:
    """What made the source that machine, to be looked for in what was captured."""

    host_name: str = ""
    machine_id: str = ""
    addresses: tuple[str, ...] = ()
    host_keys: tuple[str, ...] = ()


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
    disk: FileTree, source: SourceIdentity, *, layout: Layout | None = None, identity_kept: bool = False
) -> list[Finding]:
    """Every finding in a guest's files, most severe first.

    With ``layout``, partitions whose files the tree cannot show are findings too.

    ``identity_kept`` marks a capture as it is: its identity is then reported with severity ``low``, since
    keeping it was asked for; credentials stay what they are.
    """
    found: dict[str, Finding] = {}
    counts: dict[str, int] = {}
    identity, shipped = HintedRules(_identity_rules(source)), Shipped(disk)
    for path, inode in disk.entries.items():
        if not inode.is_file or not inode.size:
            continue
        hits = list(_in_file(disk, path, inode, identity))
        if hits and path in shipped:
            continue  # what a package ships is no secret
        for rule, line, excerpt, advice, severity in hits:
            counts[rule] = counts.get(rule, 0) + 1
            if counts[rule] > _MOST_PER_RULE:
                continue
            if identity_kept and rule in IDENTITY_RULES:
                severity = "low"
            finding = _finding(rule, severity, path, line, excerpt, advice)
            found[finding.id] = finding
    for rule, count in counts.items():
        if count > _MOST_PER_RULE:
            more = _finding(
                rule, "medium", "", 0, f"{count - _MOST_PER_RULE} more", "Mend the first ones, then look again."
            )
            found[more.id] = more
    for volume in layout.volumes if layout is not None else ():
        if not volume.understood:
            what = f"partition {volume.number} ({volume.filesystem})"
            detail = "captured, but its files were neither generalized nor scanned"
            finding = _finding("not-scanned", "high", what, 0, detail, "Accept it if you know what it contains.")
            found[finding.id] = finding
    order = {"high": 0, "medium": 1, "low": 2}
    return sorted(found.values(), key=lambda f: (order[f.severity], f.rule, f.path, f.line))


def unreadable(reason: str) -> list[Finding]:
    """The report on a disk whose files cannot be read at all."""
    return [_finding("not-scanned", "high", "(whole disk)", 0, reason, "Accept it if you know what the disk holds.")]


def remains(what: str) -> Finding:
    """The report that the disk's bytes still hold what none of its files does."""
    detail = "in bytes that belong to no file: the site does not free the blocks that the clone discards"
    return _finding("remains", "high", "(whole disk)", 0, f"{what}, {detail}", "Use another file system, or accept it.")


def _finding(rule: str, severity: str, path: str, line: int, excerpt: str, advice: str) -> Finding:
    name = digest(f"{rule}\0{path}\0{line}\0{excerpt}".encode("utf-8", "replace")).hex()[:8]
    printable = path.encode("utf-8", "replace").decode("utf-8")
    return Finding(f"{rule}-{name}", rule, severity, printable, line, excerpt, advice)


def _identity_rules(source: SourceIdentity) -> list[ContentRule]:
    rules = []

    def add(rule: str, severity: str, values: list[str]) -> None:
        wanted = sorted({v for v in values if len(v) >= 3 and v not in ("localhost", "127.0.0.1", "::1", "debian")})
        if wanted:
            inner = b"|".join(re.escape(v.encode()) for v in wanted)
            expression = re.compile(rb"(?<![\w.-])(?:" + inner + rb")(?![\w-]|\.\w)")
            hints = tuple(v.encode() for v in wanted)
            rules.append(ContentRule(rule, severity, expression, "Remove it, or add its file to the profile.", hints))

    add("source-machine-id", "high", [source.machine_id, _dashed(source.machine_id)])
    fingerprints = [k for key in source.host_keys for k in (key, key.removeprefix("SHA256:"))]
    add("source-host-key", "high", fingerprints)
    add("source-host-name", "medium", [source.host_name])
    add("source-address", "medium", [a for a in source.addresses if not a.startswith(("127.", "fe80:", "::1"))])
    return rules


def _dashed(machine_id: str) -> str:
    m = machine_id
    return f"{m[:8]}-{m[8:12]}-{m[12:16]}-{m[16:20]}-{m[20:]}" if len(m) == 32 else ""


def _in_file(disk: FileTree, path: str, inode: Node, identity: HintedRules) -> Iterator[tuple[str, int, str, str, str]]:
    names = list(disk.names_of(path))
    path_rule = next((r for r in COMPILED_PATHS if any(r[0].fullmatch(name) for name in names)), None)
    small = inode.size <= MOST_FILE and not SKIPPED.fullmatch(path)
    if path_rule is None and not small:
        return
    data = disk.content(path, most=MOST_FILE)
    if path_rule is not None and path_rule[1].condition(data):
        rule = path_rule[1]
        yield rule.id, 0, f"{inode.size} bytes", rule.advice, rule.severity
    if not small:
        return
    yield from _by_content(data, _SHAPES)
    if b"\0" in data[:8192]:
        return
    if not PUBLIC_TEXT.fullmatch(path):
        yield from _by_content(data, identity)
    if ASSIGNED_WHERE.fullmatch(path) and not NOT_ASSIGNED.fullmatch(path):
        yield from _assignments(data)


def _by_content(data: bytes, rules: HintedRules) -> Iterator[tuple[str, int, str, str, str]]:
    counts: dict[str, int] = {}
    for rule, match in rules.matches(data):
        counts[rule.id] = counts.get(rule.id, 0) + 1
        if counts[rule.id] > _MOST_PER_FILE:
            continue
        line = data.count(b"\n", 0, match.start()) + 1
        shown = match[0].decode() if rule.id in _NO_SECRET else _redacted(match[0])
        yield rule.id, line, shown, rule.advice, rule.severity


def _assignments(data: bytes) -> Iterator[tuple[str, int, str, str, str]]:
    assigned = (m for m in ASSIGNMENT.finditer(data) if not NOT_SECRET.match(m["value"]) and not _commented(data, m))
    for match in islice(assigned, _MOST_PER_FILE):
        value = match["value"]
        strong = len(value) >= 8 and re.search(rb"\d", value) and re.search(rb"[A-Za-z]", value)
        name = data[match.start() : match.start("value")].strip().decode("utf-8", "replace")
        line = data.count(b"\n", 0, match.start("value")) + 1
        excerpt = f"{name[-60:]} … ({len(value)} bytes)"
        yield "secret-assigned", line, excerpt, "Remove it and change the secret.", "high" if strong else "medium"


def _commented(data: bytes, match: re.Match[bytes]) -> bool:
    return COMMENT.match(data, data.rfind(b"\n", 0, match.start()) + 1) is not None


def _redacted(value: bytes) -> str:
    """The first few characters and the length: enough to find it, not enough to use it."""
    text = value.split(b"\n")[0].decode("utf-8", "replace")
    shown = text[:34] if text.startswith(("-----BEGIN", "PuTTY-User-Key")) else text[:4]
    return f"{shown}… ({len(value)} bytes)"
