"""The files of an NTFS file system: its folders, what is in its files and their named streams, and where links lead.

Follows the format as the documentation of Linux-NTFS describes it, and [MS-FSCC] for what links hold; numbers are
little-endian.
"""

from __future__ import annotations

import stat
import struct
from collections.abc import Iterator
from functools import cached_property

from bathotype.core.disk.diskfile import DiskFile, Unreadable
from bathotype.core.disk.ntfs.blocks import HOLE, Ntfs, Run, attributes_of
from bathotype.core.disk.ntfs.lznt1 import unpacked
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

_ROOT, _FIRST_FILE = 5, 16
_FACTS, _NAME, _DATA, _REPARSE = 0x10, 0x30, 0x80, 0xC0
_FOLDER, _SHORT_NAME = 0x2, 2
_PACKED, _ENCRYPTED = 0x00FF, 0x4000
_LINK, _JUNCTION, _PACKED_BY_SYSTEM, _SHARED_BY_SYSTEM = 0xA000000C, 0xA0000003, 0x80000017, 0x80000013
_ELSEWHERE = {
    _PACKED_BY_SYSTEM: "It is packed by the system, in a way that is not known here.",
    _SHARED_BY_SYSTEM: "What it holds lies in the system's store of shared pieces.",
}
#: Seconds from 1601 to 1970.
_EPOCH = 11_644_473_600
_MOST_STREAM, _MOST_STREAMS = 1 << 20, 64


class NtfsFiles:
    """Every file of an NTFS file system.  Raises `Damaged` when there is none, or one that is not understood.

    Owners and modes are not read: folders are 0755 and files 0644, of root.
    """

    def __init__(self, source: BlockSource) -> None:
        self._fs = Ntfs(source)
        self._more: dict[int, list[int]] = {}
        self._reparsed: dict[int, tuple[int, bytes]] = {}
        self._children: dict[int, list[tuple[str, int]]] = {}

    @cached_property
    def _files(self) -> dict[int, DiskFile]:
        """Every file by its number; what its records say of names and links is kept beside it."""
        found: dict[int, DiskFile] = {}
        sizes: dict[int, int] = {}
        times: dict[int, int] = {}
        folders: dict[int, bool] = {}
        for number, record in self._fs.records():
            base = int.from_bytes(record[32:38], "little") or number
            if base != number:
                self._more.setdefault(base, []).append(number)
            else:
                folders[number] = bool(struct.unpack_from("<H", record, 22)[0] & _FOLDER)
            for kind, name, attribute in attributes_of(record):
                if kind == _DATA and not name and (size := _size(attribute)) is not None:
                    sizes[base] = size
                elif kind == _FACTS and len(content := _resident(attribute)) >= 16:
                    times[base] = struct.unpack_from("<q", content, 8)[0] // 10**7 - _EPOCH
                elif kind == _REPARSE and len(content := _resident(attribute)) >= 8:
                    self._reparsed[base] = struct.unpack_from("<I", content, 0)[0], content
                elif kind == _NAME:
                    self._add_name(base, _resident(attribute))
        for number, is_folder in folders.items():
            tag, data = self._reparsed.get(number, (0, b""))
            if tag in (_LINK, _JUNCTION):
                mode, size = stat.S_IFLNK | 0o777, len(_target(tag, data))
            elif is_folder:
                mode, size = stat.S_IFDIR | 0o755, 0
            else:
                mode, size = stat.S_IFREG | 0o644, sizes.get(number, 0)
            found[number] = DiskFile(number, mode, 0, 0, size, times.get(number, 0))
        return found

    def _add_name(self, number: int, content: bytes) -> None:
        if len(content) < 66 or len(content) < 66 + 2 * content[64] or content[65] == _SHORT_NAME:
            return
        name = content[66 : 66 + 2 * content[64]].decode("utf-16-le", "replace").replace("/", "?").replace("\0", "?")
        parent = int.from_bytes(content[:6], "little")
        if name and number != _ROOT:
            self._children.setdefault(parent, []).append((name, number))

    def walk(self) -> Iterator[tuple[str, DiskFile]]:
        """``(absolute path, file)`` of everything but the file system's own files, parents before children."""
        files = self._files
        if _ROOT not in files:
            raise Damaged("The NTFS file system has no root folder.")
        pending = [("/", _ROOT)]
        seen: set[int] = set()
        while pending:
            path, number = pending.pop()
            file = files[number]
            yield path, file
            if file.is_dir and number not in seen:
                seen.add(number)
                prefix = path.rstrip("/")
                rows = sorted(set(self._children.get(number, [])), reverse=True)
                pending += [(f"{prefix}/{n}", child) for n, child in rows if child >= _FIRST_FILE and child in files]

    def find(self, path: str) -> DiskFile | None:
        """The file at an absolute path, in any case and following no links; None where there is none.  Raises `Damaged`."""
        number, files = _ROOT, self._files
        for part in path.split("/"):
            wanted = part.casefold()
            if wanted:
                number = next((n for name, n in self._children.get(number, []) if name.casefold() == wanted), -1)
        return files.get(number)

    def names(self, folder: DiskFile) -> Iterator[str]:
        """The names in a folder.  Raises `Damaged`."""
        _ = self._files
        return (name for name, _ in self._children.get(folder.number, []))

    def read(self, file: DiskFile, *, most: int | None = None) -> bytes:
        """A file's bytes, or where a link leads; at most the first ``most``.

        Raises `Damaged`, and `Unreadable` where they are encrypted, or packed by the system.
        """
        tag, data = self._reparsed.get(file.number, (0, b""))
        if file.is_link:
            return _target(tag, data)[:most]
        if file.is_dir:
            return b""
        if tag in _ELSEWHERE:
            raise Unreadable(_ELSEWHERE[tag])
        return self._stream(file.number, "", most)

    def attributes(self, file: DiskFile) -> dict[str, bytes]:
        """What is in a file's named streams, of each the first MiB.  Raises `Damaged`."""
        _ = self._files
        names = {name for kind, name, _ in self._attributes(file.number) if kind == _DATA and name}
        return {
            f"stream {name}": self._stream(file.number, name, _MOST_STREAM) for name in sorted(names)[:_MOST_STREAMS]
        }

    def _attributes(self, number: int) -> Iterator[tuple[int, str, bytes]]:
        """The attributes of a file, of all its records."""
        for record in (number, *self._more.get(number, ())):
            yield from attributes_of(self._fs.record_at(record))

    def _stream(self, number: int, name: str, most: int | None) -> bytes:
        pieces = [attribute for kind, n, attribute in self._attributes(number) if kind == _DATA and n == name]
        if not pieces:
            return b""
        if not pieces[0][8]:
            return _resident(pieces[0])[:most]
        pieces = sorted((p for p in pieces if p[8] and len(p) >= 64), key=lambda p: int.from_bytes(p[16:24], "little"))
        if not pieces or int.from_bytes(pieces[0][16:24], "little"):
            raise Damaged(f"File {number} of the NTFS file system lacks its beginning.")
        flags, unit = struct.unpack_from("<H", pieces[0], 12)[0], struct.unpack_from("<H", pieces[0], 34)[0]
        size, initialised = struct.unpack_from("<QQ", pieces[0], 48)
        if flags & _ENCRYPTED:
            raise Unreadable("It is encrypted.")
        length = size if most is None else min(size, most)
        if length > self._fs.source.size:
            raise Damaged(f"File {number} of the NTFS file system claims more bytes than there are.")
        runs = [run for piece in pieces for run in self._fs.runs(piece, holes=True)]
        written = min(length, initialised)
        data = self._packed(runs, unit, written) if flags & _PACKED else self._fs.in_runs(runs, 0, written)
        return data.ljust(length, b"\0")

    def _packed(self, runs: list[Run], unit: int, length: int) -> bytes:
        """The bytes of a file that is packed in units of so many clusters, as a power of two."""
        if not 0 < unit <= 6:
            raise Damaged("A packed file of the NTFS file system is broken.")
        clusters, out = 1 << unit, bytearray()
        for held in _units(runs, clusters):
            if len(out) >= length:
                break
            stored = [run for run in held if run.cluster != HOLE]
            size, want = clusters * self._fs.cluster, sum(run.length for run in stored)
            data = self._fs.in_runs(stored, 0, want * self._fs.cluster)
            out += data if want == clusters else unpacked(data, size) if stored else bytes(size)
        return bytes(out[:length]).ljust(length, b"\0")


def _units(runs: list[Run], clusters: int) -> Iterator[list[Run]]:
    """Runs divided into units of so many clusters."""
    held: list[Run] = []
    room = clusters
    for run in runs:
        at, left = run.cluster, run.length
        while left:
            count = min(left, room)
            held.append(Run(at, count))
            at, left, room = (at if at == HOLE else at + count), left - count, room - count
            if not room:
                yield held
                held, room = [], clusters
    if held:
        yield held


def _size(attribute: bytes) -> int | None:
    """The size of an attribute; None for a later piece of one."""
    if not attribute[8]:
        return int(struct.unpack_from("<I", attribute, 16)[0])
    first = len(attribute) >= 64 and not int.from_bytes(attribute[16:24], "little")
    return int(struct.unpack_from("<Q", attribute, 48)[0]) if first else None


def _resident(attribute: bytes) -> bytes:
    """What is in an attribute in its record; empty where it lies elsewhere."""
    if attribute[8]:
        return b""
    size, begin = struct.unpack_from("<IH", attribute, 16)
    return attribute[begin : begin + size]


def _target(tag: int, data: bytes) -> bytes:
    """Where a link leads: as this system writes paths, without a drive's letter."""
    if len(data) < 20:
        return b""
    start, size, told_at, told_size = struct.unpack_from("<4H", data, 8)
    begin = 20 if tag == _LINK else 16
    at, length = (told_at, told_size) if told_size else (start, size)
    text = data[begin + at : begin + at + length].decode("utf-16-le", "replace").removeprefix("\\??\\")
    if text[1:2] == ":":
        text = text[2:]
    return text.replace("\\", "/").encode("utf-8", "surrogateescape")
