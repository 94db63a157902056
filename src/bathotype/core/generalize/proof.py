"""The proof sheet: class by class what was on a machine's disk, what was done about it, and what is in the version.

What was there is counted on the copy before it is changed, what is there now on the stored bytes.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from bathotype.core.generalize.plan import Change
from bathotype.core.generalize.residue import Finding
from bathotype.core.generalize.residuerules import IDENTITY_RULES
from bathotype.core.guest.patterns import Pattern
from bathotype.core.guest.tree import FileTree

_HOME = "/{root,home/*}"


@dataclass(frozen=True)
class ResidueClass:
    """One class of what identifies or endangers: its name, its title for people, and the paths that it is at."""

    name: str
    title: str
    pattern: Pattern


def _class(name: str, title: str, *paths: str) -> ResidueClass:
    return ResidueClass(name, title, Pattern(paths))


CLASSES = (
    _class("machine-id", "Machine id", "/etc/machine-id", "/var/lib/dbus/machine-id"),
    _class("host-keys", "SSH host keys", "/etc/ssh/ssh_host_*_key{,.pub}"),
    _class("leases", "DHCP leases", "/var/lib/dhcp/*", "/var/lib/NetworkManager/*.lease", "/var/lib/dhcpcd/*"),
    _class("first-boot", "First-boot state", "/var/lib/cloud/**"),
    _class("random-seed", "Random seed", "/var/lib/systemd/random-seed", "/var/lib/urandom/random-seed"),
    _class("logs", "Logs and log-in records", "/var/log/**", "/var/lib/systemd/coredump/**", "/var/crash/**"),
    _class("caches", "Caches and package lists", "/var/cache/**", "/var/lib/apt/lists/**"),
    _class("temporary", "Temporary files", "/tmp/**", "/var/tmp/**"),
    _class("mail", "Mail", "/var/mail/**", "/var/spool/mail/**"),
    _class("histories", "Command histories", f"{_HOME}/.*_history", f"{_HOME}/.{{lesshst,viminfo,wget-hsts}}"),
    _class("users-keys", "Users' SSH keys", f"{_HOME}/.ssh/**"),
)
_NAME_FILES = ("/etc/hostname", "/etc/hosts", "/etc/mailname")


@dataclass(frozen=True)
class Held:
    """How many paths, and the bytes in them."""

    paths: int = 0
    bytes: int = 0


@dataclass(frozen=True)
class Survey:
    """What files hold of each class, in their order; how many of the files with names hold the host name; all files."""

    classes: tuple[Held, ...]
    named: int
    files: Held


def survey(tree: FileTree, host_name: str) -> Survey:
    """Count a guest's files by class."""
    held = []
    for one in CLASSES:
        files = [tree.entries[path] for path in tree.matching(one.pattern)]
        files = [node for node in files if node.is_file or node.is_link]
        held.append(Held(len(files), sum(node.size for node in files if node.is_file)))
    known = host_name not in ("", "localhost")  # else it is nobody's name
    named = sum(known and host_name in tree.text(path) for path in _NAME_FILES)
    files = [node for node in tree.entries.values() if node.is_file]
    return Survey(tuple(held), named, Held(len(files), sum(node.size for node in files)))


@dataclass(frozen=True)
class ProofRow:
    """One class.  ``before`` and ``after`` are None where nobody could count; ``outcome`` is ``none`` (was never there),
    ``gone``, ``left`` or ``unknown``."""

    name: str
    title: str
    before: Held | None
    done: tuple[str, ...]
    after: Held | None
    outcome: str


def done_about(changes: Iterable[Change]) -> dict[str, list[str]]:
    """What the changes of a profile did about each class: ``ssh-host-keys: 4 removed``."""
    counts: dict[str, Counter[tuple[str, str]]] = {}
    for change in changes:
        for name in _classes_of(change.path):
            counts.setdefault(name, Counter())[(change.step, change.action)] += 1
    return {
        name: [f"{step}: {number} {_past(action)}" for (step, action), number in sorted(found.items())]
        for name, found in counts.items()
    }


def _classes_of(path: str) -> list[str]:
    found = [one.name for one in CLASSES if one.pattern.fullmatch(path)]
    return [*found, "host-name"] if path in _NAME_FILES else found


def _past(action: str) -> str:
    return {"remove": "removed", "empty": "emptied", "write": "written", "edit": "edited", "clear": "cleared"}.get(
        action, action
    )


def proof_rows(
    before: Survey | None, done: dict[str, list[str]], after: Survey | None, findings: Sequence[Finding]
) -> list[ProofRow]:
    """The rows of a sheet, secrets that the scan still sees last."""
    rows = []
    for place, one in enumerate(CLASSES):
        had = before.classes[place] if before else None
        has = after.classes[place] if after else None
        left = bool(has and has.bytes)
        rows.append(ProofRow(one.name, one.title, had, tuple(done.get(one.name, ())), has, _outcome(had, has, left)))
    had = Held(before.named) if before else None
    has = Held(after.named) if after else None
    done_to_name = tuple(done.get("host-name", ()))
    rows.insert(
        1,
        ProofRow(
            "host-name", "The source's host name", had, done_to_name, has, _outcome(had, has, bool(has and has.paths))
        ),
    )
    secrets = sum(f.severity == "high" and f.rule not in IDENTITY_RULES and f.rule != "not-scanned" for f in findings)
    found = Held(secrets) if after else None
    outcome = "unknown" if found is None else "left" if secrets else "none"
    rows.append(ProofRow("secrets", "Keys, tokens and passwords that the scan sees", None, (), found, outcome))
    return rows


def _outcome(before: Held | None, after: Held | None, left: bool) -> str:
    if after is None:
        return "unknown"
    had = before is not None and (before.bytes > 0 or before.paths > after.paths)
    return "left" if left else "gone" if had else "none"
