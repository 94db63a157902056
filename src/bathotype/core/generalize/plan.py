"""What a profile would change on a disk, path by path, before anything is touched; and doing it."""

from __future__ import annotations

import posixpath
import re
import stat
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from bathotype.core.disk.layout import used_ranges
from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import Refused
from bathotype.core.expressions import escaped, for_text, searched
from bathotype.core.generalize.profile import (
    AuthorizeKey,
    ClearSwap,
    DropLines,
    Empty,
    Profile,
    PutFile,
    Remove,
    RemoveUsers,
    RunInside,
    SetLine,
    Step,
    Write,
)
from bathotype.core.guest.aliases import is_system, leads_through
from bathotype.core.guest.files import GuestDisk
from bathotype.core.guest.node import Node
from bathotype.core.guest.patterns import Names, matcher
from bathotype.core.guest.tree import FileTree
from bathotype.core.units import plural

_ACCOUNT_FILES = ("/etc/passwd", "/etc/shadow", "/etc/group", "/etc/gshadow", "/etc/subuid", "/etc/subgid")


@dataclass(frozen=True)
class Change:
    """One path that a step removes, empties, writes, edits or clears; ``bytes`` is what goes away."""

    step: str
    action: str
    path: str
    bytes: int
    note: str = ""


@dataclass(frozen=True)
class NewContent:
    """What a file will hold; mode and owner are for a file that is not there yet."""

    data: bytes
    mode: int
    uid: int = 0
    gid: int = 0
    replaces: bool = False


@dataclass(frozen=True)
class NewFolder:
    """A folder to make."""

    mode: int = 0o755
    uid: int = 0
    gid: int = 0


@dataclass
class Plan:
    """Every change, in order, and the means to make them."""

    profile: Profile
    changes: list[Change] = field(default_factory=list)
    removed: dict[str, Node] = field(default_factory=dict)
    written: dict[str, NewContent] = field(default_factory=dict)
    folders: dict[str, NewFolder] = field(default_factory=dict)
    hidden: list[Ranges] = field(default_factory=list)

    @property
    def total_bytes(self) -> int:
        """Bytes of all that goes away."""
        return sum(change.bytes for change in self.changes)

    def by_step(self) -> list[dict[str, object]]:
        """For each step of the profile, also those with nothing to do: id, kind, paths and bytes."""
        return [
            {
                "id": step.id,
                "do": step.do,
                "why": step.why,
                "paths": sum(change.step == step.id for change in self.changes),
                "bytes": sum(change.bytes for change in self.changes if change.step == step.id),
            }
            for step in self.profile.steps
        ]


def plan(profile: Profile, tree: FileTree, *, host_name: str = "", inside: bool = False) -> Plan:
    """Work out what a profile changes in a guest's files.  Reads only.

    ``inside`` says that the changes are made in a booted copy, where programs can be run as well.
    Raises `Refused` where it cannot be done offline.
    """
    if profile.own_tool is not None:
        raise Refused(
            f"Profile {profile.name} is for systems that their own tool prepares: their files are not edited.",
            advice="Capture such a machine; a disk alone cannot run the tool.",
        )
    if profile.runs_inside and not inside:
        raise Refused(
            f"Profile {profile.name} has steps that run inside the machine, which a disk alone cannot do.",
            advice="Use a profile without run-inside steps, or capture the machine as it is (--as-is).",
            code="profile-needs-boot",
        )
    return _Planner(profile, tree, host_name).run()


class _Planner:
    def __init__(self, profile: Profile, disk: FileTree, host_name: str) -> None:
        self.disk, self.host_name = disk, host_name
        self.result = Plan(profile)
        self._handlers: dict[type, Callable[..., None]] = {
            Remove: self._remove,
            Empty: self._empty,
            Write: self._write,
            DropLines: self._drop_lines,
            SetLine: self._set_line,
            RemoveUsers: self._remove_users,
            ClearSwap: self._clear_swap,
            RunInside: lambda step: None,
            PutFile: self._put_file,
            AuthorizeKey: self._authorize_key,
        }

    def run(self) -> Plan:
        for step in self.result.profile.steps:
            self._handlers[type(step)](step)
        return self.result

    def _note(self, step: Step, action: str, path: str, size: int, note: str = "") -> None:
        self.result.changes.append(Change(step.id, action, path, size, note))

    def _matching(self, patterns: list[str], *, through: bool = True) -> dict[str, str]:
        """Paths that patterns mean, each with the name by which it is meant.

        Links to folders on the way are followed (see `core.guest.aliases`); with ``through`` also a link to a file that
        a pattern names without a wildcard, as the system would when it writes there.
        """
        gone = self.result.removed
        found = {path: path for path in self.disk.matching(matcher(patterns))}
        for alias in self.disk.aliases:
            mine = [p for p in patterns if alias.always or leads_through(p, alias.name)]
            if mine:
                below = self.disk.below(alias.real)
                names = [alias.name + path[len(alias.real) :] for path in below]
                for place in Names(names).matching(matcher(mine)):
                    found.setdefault(below[place], names[place])
        for pattern in patterns if through else ():
            if not re.search(r"[*?{]", pattern) and (real := self.disk.resolve(pattern)) and real not in found:
                found[real] = pattern
        return {path: name for path, name in found.items() if path not in gone}

    def _remove(self, step: Remove) -> None:
        stays = matcher(step.besides)
        wanted: dict[str, Node] = {}
        meant = self._matching(step.paths, through=False)
        for path in meant:
            inode = self.disk.entries[path]
            if (step.kind == "file" and not inode.is_file) or (step.kind == "link" and not inode.is_link):
                continue
            wanted[path] = inode
            if inode.is_dir and not step.keep_folders:
                wanted.update({p: self.disk.entries[p] for p in self.disk.below(path)})
        if step.keep_folders:
            wanted = {p: i for p, i in wanted.items() if not i.is_dir}
        kept = {p for p in wanted if stays.fullmatch(meant.get(p, p)) or stays.fullmatch(p)}
        for path, inode in wanted.items():
            holds_kept = inode.is_dir and any(k.startswith(path + "/") for k in kept)
            if path in kept or holds_kept or path in self.result.removed or self.disk.is_kept(path):
                continue
            self.result.removed[path] = inode
            self.result.written.pop(path, None)
            self._note(step, "remove", path, inode.size if inode.is_file else 0, "folder" if inode.is_dir else "")

    def _empty(self, step: Empty) -> None:
        for path in self._matching(step.paths):
            inode = self.disk.entries[path]
            if inode.is_file and (inode.size or path in self.result.written):
                self.result.written[path] = NewContent(b"", stat.S_IMODE(inode.mode))
                self._note(step, "empty", path, inode.size)

    def _write(self, step: Write) -> None:
        folder, _, name = step.path.rpartition("/")
        parent = self.disk.resolve(folder or "/")
        path = self.disk.resolve(step.path) or f"{(parent or folder).rstrip('/')}/{name}"
        present = self.disk.entries.get(path)
        if (present is None and step.only_existing) or parent is None or (present and not present.is_file):
            return
        data = step.text.replace("{host_name}", self.host_name).encode()
        if present is not None and self._content(path) == data:
            return
        self.result.written[path] = NewContent(data, step.mode)
        self.result.removed.pop(path, None)
        self._note(step, "write", path, 0, f"{len(data)} bytes")

    def _content(self, path: str) -> bytes | None:
        if path in self.result.removed:
            return None
        if path in self.result.written:
            return self.result.written[path].data
        inode = self.disk.entries.get(path)
        return self.disk.content(path) if inode is not None and inode.is_file else None

    def _edit(self, step: Step, path: str, edit: Callable[[list[str]], list[str]]) -> None:
        raw = self._content(path)
        if raw is None:
            return
        # Lines end at "\n" and nowhere else, and what is not meant stays byte for byte.
        text = raw.decode("utf-8", "surrogateescape")
        ends = text.endswith("\n")
        lines = text.removesuffix("\n").split("\n") if text else []
        edited = edit(lines)
        if edited == lines:
            return
        as_it_was = lines and not ends and edited[-1:] == lines[-1:]  # a last line without an end
        last = "" if as_it_was or not edited else "\n"
        data = ("\n".join(edited) + last).encode("utf-8", "surrogateescape")
        self.result.written[path] = NewContent(data, stat.S_IMODE(self.disk.entries[path].mode))
        gone, more = (sum(line not in b for line in a) for a, b in ((lines, edited), (edited, lines)))
        counts = [f"{plural(count, 'line')} {how}" for count, how in ((gone, "gone"), (more, "more")) if count]
        self._note(step, "edit", path, max(0, len(raw) - len(data)), ", ".join(counts))

    def _pattern(self, text: str) -> Any:
        if "{host_name}" in text and not self.host_name.strip():
            return None  # an empty name would be found in every line
        return for_text(text.replace("{host_name}", escaped(self.host_name)))

    def _drop_lines(self, step: DropLines) -> None:
        if (expression := self._pattern(step.match)) is None:
            return
        for path in self._matching(step.paths):
            self._edit(step, path, lambda lines: [line for line in lines if not _found(expression, line)])

    def _set_line(self, step: SetLine) -> None:
        if (expression := self._pattern(step.match)) is None:
            return

        def edit(lines: list[str]) -> list[str]:
            out, placed = [], False
            for line in lines:
                if not _found(expression, line):
                    out.append(line)
                elif not placed:
                    out.append(step.line + ("\r" if line.endswith("\r") else ""))
                    placed = True
            return out if placed else [*out, step.line]

        for path in self._matching(step.paths):
            self._edit(step, path, edit)

    def _put_file(self, step: PutFile) -> None:
        uid, gid, _ = self._account(step.owner, step)
        self._put(step, step.path, NewContent(step.data, step.mode, uid, gid, replaces=True))

    def _put(self, step: Step, path: str, new: NewContent) -> None:
        """Write a file behind its folder's links, making the folders that are missing."""
        folder, _, name = path.rpartition("/")
        made: list[str] = []
        while folder and self.disk.resolve(folder) is None and folder not in self.result.folders:
            folder, _, part = folder.rpartition("/")
            made.insert(0, part)
        base = self.disk.resolve(folder or "/") or folder
        for part in made:
            base = f"{base.rstrip('/')}/{part}"
            self.result.folders[base] = NewFolder(0o755)
        target = f"{base.rstrip('/')}/{name}"
        there = self.disk.entries.get(target)
        if there is not None and not there.is_file:
            raise Refused(f"{target} is no file on the disk.", advice=f"Correct step {step.id}.", code="edit-refused")
        self.result.removed.pop(target, None)
        self.result.written[target] = new
        self._note(step, "write", target, 0, f"{len(new.data)} bytes")

    def _account(self, user: str, step: Step) -> tuple[int, int, str]:
        """User and group id, and home folder."""
        for line in (self._content("/etc/passwd") or b"").decode("utf-8", "replace").split("\n"):
            parts = line.split(":")
            if len(parts) == 7 and parts[0] == user and parts[2].isdigit() and parts[3].isdigit():
                return int(parts[2]), int(parts[3]), parts[5].rstrip("/")
        if user == "root":
            return 0, 0, "/root"
        raise Refused(
            f"The disk has no user {user!r}.", advice=f"Name one of its users in step {step.id}.", code="edit-refused"
        )

    def _authorize_key(self, step: AuthorizeKey) -> None:
        uid, gid, home = self._account(step.user, step)
        real = self.disk.resolve(home)
        if real is None:
            raise Refused(
                f"{step.user}'s home folder {home} is not on the disk.",
                advice=f"Name another user in step {step.id}.",
                code="edit-refused",
            )
        folder = f"{real}/.ssh"
        if folder not in self.disk.entries:
            self.result.folders[folder] = NewFolder(0o700, uid, gid)
        path = f"{folder}/authorized_keys"
        before = self._content(path) or b""
        if step.key.encode() in before.split(b"\n"):
            return
        lines = before + (b"" if not before or before.endswith(b"\n") else b"\n") + step.key.encode() + b"\n"
        self.result.written[path] = NewContent(lines, 0o600, uid, gid)
        self.result.removed.pop(path, None)
        self._note(step, "edit", path, 0, "1 line more")

    def _remove_users(self, step: RemoveUsers) -> None:
        if not step.users:
            return
        own = self._homes_of(step)
        spools = [f"{folder}/{user}" for user in step.users for folder in ("/var/mail", "/var/spool/cron/crontabs")]
        self._remove(Remove(do="remove", id=step.id, paths=[*own, *spools, "/nowhere"]))

        def without(lines: list[str]) -> list[str]:
            kept = [line for line in lines if line.split(":")[0] not in step.users]
            return [self._without_members(line, step.users) for line in kept]

        for path in _ACCOUNT_FILES:
            if path in self.disk.entries:
                self._edit(step, path, without)

    def _homes_of(self, step: RemoveUsers) -> list[str]:
        """The home folders that go with the users: each is that user's alone.  Others are kept and reported."""
        accounts = []
        for line in (self._content("/etc/passwd") or b"").decode("utf-8", "surrogateescape").split("\n"):
            parts = line.split(":")
            if len(parts) == 7 and parts[2].isdigit():
                accounts.append((parts[0], int(parts[2]), parts[5].rstrip("/")))
        others = [self.disk.resolve(home) or home for name, _, home in accounts if name not in step.users and home]
        found = []
        for name, uid, home in accounts:
            if name not in step.users or home in ("", "/nonexistent"):
                continue
            if why := self._not_alone(home, uid, others):
                self._note(step, "keep", home, 0, f"the home of {name} is kept: {why}")
            else:
                found.append(home)
        return found

    def _not_alone(self, home: str, uid: int, others: list[str]) -> str:
        """Why a home folder is not to be removed with its user; empty where it is."""
        if home != posixpath.normpath(home) or not home.startswith("/") or re.search(r"[*?\[\]]", home):
            return "its path is not plain"
        node = self.disk.entries.get(home)
        if node is None:
            return "" if self.disk.resolve(home) is None else "it lies behind a link"
        if is_system(home):
            return "it is a folder of the system"
        if not node.is_dir or node.uid != uid:
            return "the folder is not the user's own"
        if any(other == home or other.startswith(home + "/") for other in others):
            return "another user's home is there"
        return ""

    @staticmethod
    def _without_members(line: str, users: list[str]) -> str:
        parts = line.split(":")
        if len(parts) == 4:  # group and gshadow: the last field lists members
            parts[3] = ",".join(m for m in parts[3].split(",") if m and m not in users)
        return ":".join(parts)

    def _clear_swap(self, step: ClearSwap) -> None:
        for area in self.disk.swap_areas():
            kind = "swap file" if area.name.startswith("/") else "swap area"
            self._note(step, "clear", area.name, area.bytes, kind)
            self.result.hidden.append(area.hidden)


def _found(expression: Any, line: str) -> bool:
    """Whether a line holds what is looked for; the end of a line that was written elsewhere is none of it."""
    return searched(expression, line.removesuffix("\r"))


def capture_ranges(result: Plan | None, disk: GuestDisk) -> Ranges:
    """What of a generalized copy is captured: its used blocks but for what the plan hides (swap content).

    A copy was made of what is used alone, so what lies behind files' ends is zero in it.
    """
    used = used_ranges(disk.source, disk.layout, whole_blocks=True)
    if result is None or not result.hidden:
        return used
    return used.minus(result.hidden[0].union(*result.hidden[1:]), disk.source.size)
