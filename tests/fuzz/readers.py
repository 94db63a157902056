"""What the readers of foreign bytes are fed when they are fuzzed: sound data of which some bytes are changed.

Each reader takes the fuzzer's bytes, makes its input of them, and raises only errors that are documented.
"""

from __future__ import annotations

import bisect
import functools
import io
import struct
import subprocess
import tarfile
import tempfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from unittest.mock import patch

from bathotype.core.contents.inventory import read_contents
from bathotype.core.disk.btrfs.blocks import Btrfs
from bathotype.core.disk.btrfs.files import BtrfsFiles
from bathotype.core.disk.diskfile import DiskFiles
from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.ext4.journal import replayed
from bathotype.core.disk.ext4.used import used
from bathotype.core.disk.fat import Fat
from bathotype.core.disk.layout import read_layout, settled, used_ranges
from bathotype.core.disk.ntfs.blocks import Ntfs
from bathotype.core.disk.ntfs.files import NtfsFiles
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, check_read
from bathotype.core.disk.xfs.blocks import Xfs
from bathotype.core.disk.xfs.files import XfsFiles
from bathotype.core.errors import BathotypeError, Refused, Unavailable
from bathotype.core.generalize.plan import plan
from bathotype.core.generalize.profile import Profile, builtin_profile, load_profile
from bathotype.core.generalize.residue import SourceIdentity, scan
from bathotype.core.guest.agent import GuestAgent
from bathotype.core.guest.archive import TarTree
from bathotype.core.guest.files import GuestDisk
from bathotype.core.sheets.packages import MANAGERS, changed_packages
from bathotype.core.sheets.reading import read_sheet

_PIECE, _A_PATCH, _MOST_PATCHES = 64, 8, 12
_MOST_PATHS, _WIDEST, _LONG = 400, 8, 32768


class Patched:
    """Sound bytes with some others in their places."""

    def __init__(self, base: bytes, patches: dict[int, bytes]) -> None:
        self._base, self._patches, self.taken = base, patches, 0
        self._places = sorted(patches)

    @property
    def size(self) -> int:
        return len(self._base)

    def read(self, offset: int, length: int) -> bytes:
        check_read(self.size, offset, length)
        data = _slice(self._base, offset, length) if length >= _LONG else self._base[offset : offset + length]
        self.taken += length
        first = bisect.bisect_right(self._places, offset - _WIDEST)
        for at in self._places[first : bisect.bisect_left(self._places, offset + length)]:
            piece = self._patches[at]
            if offset - len(piece) < at:
                out, begin = bytearray(data), max(at, offset)
                end = min(at + len(piece), offset + length)
                out[begin - offset : end - offset] = piece[begin - at : end - at]
                data = bytes(out)
        return data

    def allocated(self) -> Ranges:
        return Ranges.of([(0, self.size)])

    @property
    def whole(self) -> bytes:
        return self.read(0, self.size)


@functools.lru_cache(64)
def _slice(base: bytes, offset: int, length: int) -> bytes:
    """Long reads are alike from input to input, and copying them would take most of the time."""
    return base[offset : offset + length]


@functools.cache
def _pieces(base: bytes) -> list[int]:
    """Where anything is."""
    return [at for at in range(0, len(base), _PIECE) if any(base[at : at + _PIECE])]


def patched(base: bytes, data: bytes) -> Patched:
    """Changes as the fuzzer's bytes say: a piece that is not empty, a place in it, and what to put there."""
    pieces, patches = _pieces(base), {}
    for at in range(0, min(len(data) - _A_PATCH + 1, _A_PATCH * _MOST_PATCHES), _A_PATCH):
        piece, inside, how, value = struct.unpack_from("<HBBI", data, at)
        width = (1, 2, 4, 8)[how & 3]
        number = (value, 0xFFFFFFFFFFFFFFFF, 0, 1 << 63, len(base), value & 0xFF)[(how >> 2) % 6]
        order = "little" if how & 0x80 else "big"
        place = min(pieces[piece % len(pieces)] + inside % _PIECE, len(base) - width)
        patches[place] = (number & ((1 << 8 * width) - 1)).to_bytes(width, order)  # type: ignore[arg-type]
    return Patched(base, patches)


def _made(*commands: str) -> bytes:
    """A file ``x`` as the system's own tools make it."""
    with tempfile.TemporaryDirectory() as folder:
        tree = Path(folder) / "t"
        for name, text in _FILES.items():
            (tree / name).parent.mkdir(parents=True, exist_ok=True)
            (tree / name).write_bytes(text)
        for command in commands:
            subprocess.run(["/bin/sh", "-ec", command], cwd=folder, check=True, capture_output=True)
        return (Path(folder) / "x").read_bytes()


_FILES = {
    "etc/hostname": b"gauge-07\n",
    "etc/os-release": b'ID=debian\nVERSION_ID="12"\n',
    "etc/passwd": b"root:x:0:0::/root:/bin/sh\nmara:x:1000:1000::/home/mara:/bin/sh\n",
    "etc/fstab": b"/dev/vda1 / ext4 defaults 0 1\n",
    "etc/app.env": b"DB_PASSWORD=hunter22horse\n",
    "var/lib/dpkg/status": b"Package: base\nStatus: install ok installed\nVersion: 1.0-1\n\n" * 3,
    "home/mara/.bash_history": b"ssh pier-09\n" * 400,
}
_EXT4 = "mkfs.ext4 -q -b 1024 -O {} -d t x 2M"


@functools.cache
def _ext4(features: str) -> bytes:
    return _made(_EXT4.format(features))


@functools.cache
def _waiting() -> bytes:
    blocks = (
        "journal_open\\njournal_write -b 400,401,402 t/etc/fstab\\njournal_write -r 401 /dev/null\\njournal_close\\n"
    )
    return _made("mkfs.ext4 -q -b 1024 -O ^metadata_csum -d t x 4M", f"printf '{blocks}' | debugfs -w -f - x")


@functools.cache
def _disk() -> bytes:
    table = "label: gpt\nstart=64,size=4096\nstart=4160,size=2048\nstart=6208,size=1024,type=swap\n"
    return _made(
        "truncate -s 4M x",
        f"printf '{table}' | sfdisk -q x",
        "mkfs.ext4 -q -O ^metadata_csum -E offset=32768 -d t x 2048k",
    )


@functools.cache
def _mbr() -> bytes:
    table = "label: dos\nstart=64,size=1000\nstart=2048,size=6000,type=5\nstart=2112,size=100\nstart=2300,size=100\n"
    return _made("truncate -s 4M x", f"printf '{table}' | sfdisk -q x")


@functools.cache
def _fat(bits: int) -> bytes:
    return _made(f"truncate -s {({12: 3, 16: 9, 32: 40})[bits]}M x && mkfs.vfat -F {bits} x && mcopy -s -i x t/* ::/")


@functools.cache
def _ntfs() -> bytes:
    return _made(
        "truncate -s 4M x && mkntfs -q -F x",
        "for f in etc/hostname home/mara/.bash_history; do ntfscp -q x t/$f $(basename $f); done",
    )


@functools.cache
def _xfs(newest: bool) -> bytes:
    rows = ["/", "1 1", "d--755 0 0", "link l--777 0 0 etc/hostname"]
    rows += [f"{name.replace('/', '-')} ---644 0 0 t/{name}" for name in _FILES]
    rows += ["d d--755 0 0", *(f"{'n' * 230}{number} ---644 0 0 t/etc/fstab" for number in range(20)), "$", "$"]
    made = "mkfs.xfs -q --unsupported -d agcount=1"
    return _made(
        "cat >p <<'END'\n" + "\n".join(rows) + "\nEND", f"truncate -s 24M x && {made} -m crc={int(newest)} -p p x"
    )


@functools.cache
def _btrfs() -> bytes:
    return _made("truncate -s 16M x && mkfs.btrfs -q --mixed --rootdir t x")


class _Right:
    """A checksum that is right whatever it is of: else nothing behind it would be reached."""

    def __call__(self, data: bytes) -> _Right:
        return self

    def __ne__(self, other: object) -> bool:
        return False

    __hash__ = None  # type: ignore[assignment]


@functools.cache
def _tar() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for name, text in _FILES.items():
            member = tarfile.TarInfo(f"./{name}{'ö' * 120}")
            member.size = len(text)
            archive.addfile(member, io.BytesIO(text))
    return out.getvalue()


def _read_ext4(source: BlockSource) -> None:
    fs = Ext4(source)
    used(fs)
    for number, entry in enumerate(fs.walk()):
        if entry.inode.is_file or entry.inode.is_link:
            fs.read(entry.inode, most=65536)
        fs.attributes(entry.inode)
        if number > _MOST_PATHS:
            break


def ext4(data: bytes) -> None:
    """Files and used blocks; with and without extents, inline data, checksums."""
    kinds = (
        "^metadata_csum",
        "^metadata_csum,^64bit,^extents",
        "^metadata_csum,inline_data",
        "metadata_csum",
        "bigalloc,^metadata_csum",
    )
    _read_ext4(patched(_ext4(kinds[data[0] % len(kinds)] if data else kinds[0]), data[1:]))


def journal(data: bytes) -> None:
    """A journal that waits."""
    _read_ext4(replayed(Ext4(patched(_waiting(), data))))


@functools.cache
def _profile() -> Profile:
    return builtin_profile("linux")


def disk(data: bytes) -> None:
    """A whole disk: tables, file systems, plan and scan."""
    source = settled(patched(_disk(), data))
    try:
        found = GuestDisk.seen(source)
    except Refused:
        used_ranges(source, read_layout(source))
        return
    used_ranges(source, found.layout)
    plan(_profile(), found, host_name="gauge-07")
    scan(found, SourceIdentity("gauge-07", "0" * 32))
    read_contents(found)


def tables(data: bytes) -> None:
    """Partition tables."""
    source = patched(_mbr() if data[:1] > b"\x7f" else _disk(), data[1:])
    used_ranges(source, read_layout(source))


def fat(data: bytes) -> None:
    """FAT12, FAT16 and FAT32."""
    fs = Fat(patched(_fat((12, 16, 32)[data[0] % 3] if data else 12), data[1:]))
    fs.used()
    for number, (_, file) in enumerate(fs.walk()):
        if file.is_file:
            fs.read(file, most=65536)
        if number > _MOST_PATHS:
            break


def _read_all(fs: DiskFiles) -> None:
    """Every file, as far as each can be read by itself."""
    for number, (_, file) in enumerate(fs.walk()):
        for read in (lambda file=file: fs.read(file, most=65536), lambda file=file: fs.attributes(file)):
            with suppress(BathotypeError):
                read()
        if number > _MOST_PATHS:
            break


def ntfs(data: bytes) -> None:
    """NTFS: its bitmap, and its files."""
    source = patched(_ntfs(), data)
    with suppress(BathotypeError):
        Ntfs(source).used()
    _read_all(NtfsFiles(source))


def xfs(data: bytes) -> None:
    """XFS: its trees of free space, and its files; of versions 4 and 5."""
    source = patched(_xfs(data[:1] < b"\x80"), data[1:])
    with patch("bathotype.core.disk.xfs.blocks.crc32c", _Right()):
        with suppress(BathotypeError):
            Xfs(source).used()
        _read_all(XfsFiles(source))


def btrfs(data: bytes) -> None:
    """btrfs: its tree of extents, and its files."""
    source = patched(_btrfs(), data)
    with patch.object(Btrfs, "_check_sum", lambda *_: None):
        with suppress(BathotypeError):
            Btrfs(source).used()
        fs = BtrfsFiles(source)
        for subvolume in list(fs.subvolumes.values())[:8]:
            _read_all(fs.of(subvolume))


def archive(data: bytes) -> None:
    """The archive that a guest makes of its files."""
    tree = TarTree(patched(_tar(), data))
    for path, node in tree.entries.items():
        if node.is_file:
            tree.content(path, most=65536)
    scan(tree, SourceIdentity("gauge-07"))


class _Stream:
    """What an agent sends, whatever it was asked; then its channel breaks, or it falls silent."""

    def __init__(self, data: bytes, breaks: bool) -> None:
        self._data, self._breaks = data, breaks

    def send(self, data: bytes) -> None:
        pass

    def receive(self, timeout: float) -> bytes:
        if self._breaks and not self._data:
            raise Unavailable("The channel broke.")
        piece, self._data = self._data[:100], self._data[100:]
        return piece

    def close(self) -> None:
        pass


_ANSWERS = b'{"return": 1}\n{"return": {"id": "debian", "version-id": "12"}}\n{"return": [{"name": "eth0"}]}\n'


def agent(data: bytes) -> None:
    """Answers of a guest agent."""
    for ask in (GuestAgent.os_info, GuestAgent.addresses, GuestAgent.host_name, GuestAgent.commands):
        try:
            stream = _Stream(patched(_ANSWERS, data).whole + data, breaks=data[:1] > b"\x0f")
            ask(GuestAgent(stream, timeout=0.0005))  # type: ignore[arg-type]
        except BathotypeError:
            pass


def profile(data: bytes) -> None:
    """Profiles of users, which are YAML."""
    base = b"name: t\nsteps:\n  - {id: a, do: remove, paths: [/var/**]}\n  - {id: b, do: set-line, paths: [/etc/x], match: 'a+', line: b}\n"
    load_profile(patched(base, data).whole.decode("utf-8", "replace"))


_SHEET = b"""sheet: t
base: a@1.0.0
parameters: {p: {type: number, default: 1, allowed: [1, 2]}, s: {secret: true}}
payload: {f: {folder: f}}
machine: {attach: {subnet: n, firewalls: [w]}, first_boot: {secrets: [{secret: '{s}'}], user_data: '#!{p}'}}
steps: [{id: a, do: put-file, payload: f, to: '/etc/{p}'}, {id: b, do: run-script, script: x, only_if: {p: 1}}]
checks: [{id: c, is: port, port: 80}, {id: d, is: package, package: x, at_least: '1'}]
result: {line: b, bump: minor, release: true, placement: [{region: r}], pools: [l]}
tell: [{to: w, about: [failed]}]
"""


def sheet(data: bytes) -> None:
    """Build sheets, and what package managers print in a machine that runs them."""
    read_sheet(patched(_SHEET, data).whole.decode("utf-8", "replace"), {"p": 2} if data[:1] < b"\x80" else None)
    printed = patched(b"a\t1.0-1\tinstalled\nInst curl [7.1]\nlibc-0.7-r5 < 1\n", data).whole.decode("utf-8", "replace")
    for manager in MANAGERS:
        changed_packages(manager.read_installed(printed), dict.fromkeys(manager.read_outstanding(printed), ""))


def formats(data: bytes) -> None:
    """Files that hold a disk."""
    from tests.core.test_formats import read_all, small_files

    files = small_files()
    name = sorted(files)[data[0] % len(files)] if data else "qcow2"
    file = patched(files[name], data[1:])
    read_all(file)
    assert file.taken < 64 * 1024 * 1024


READERS: dict[str, Callable[[bytes], None]] = {
    f.__name__: f for f in (ext4, journal, disk, tables, fat, ntfs, xfs, btrfs, archive, agent, profile, sheet, formats)
}


def fed(name: str, data: bytes) -> None:
    """Feed a reader.  Raises what is no documented error."""
    try:
        READERS[name](data)
    except BathotypeError:
        pass
