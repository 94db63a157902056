"""VHD, fixed and dynamic: reading and writing.

Follows Microsoft's "Virtual Hard Disk Image Format Specification" (version 1.0).  Differencing disks are refused.
"""

from __future__ import annotations

import struct
import threading
from collections import OrderedDict

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, ByteSource, check_read
from bathotype.core.errors import Damaged, Refused
from bathotype.core.formats.laidout import Blocks, LaidOutFile, Plain, Whole, present

COOKIE = b"conectix"
_SECTOR = 512
_BLOCK = 2 * 1024 * 1024
_FIXED, _DYNAMIC, _DIFFERENCING = 2, 3, 4
_NOWHERE = 0xFFFFFFFFFFFFFFFF
_UNUSED = 0xFFFFFFFF
#: The specification's limit: 2040 GiB.
LARGEST = 2040 * 1024**3
_MOST_BITMAPS = 256


def _checksum(data: bytes, at: int) -> int:
    return ~(sum(data) - sum(data[at : at + 4])) & 0xFFFFFFFF


def _geometry(size: int) -> tuple[int, int, int]:
    """Cylinders, heads and sectors, as the specification's appendix computes them."""
    total = min(size // _SECTOR, 65535 * 16 * 255)
    if total >= 65535 * 16 * 63:
        sectors, heads, tracks = 255, 16, total // 255
    else:
        sectors, tracks = 17, total // 17
        heads = max(4, -(-tracks // 1024))
        if tracks >= heads * 1024 or heads > 16:
            sectors, heads, tracks = 31, 16, total // 31
        if tracks >= heads * 1024:
            sectors, heads, tracks = 63, 16, total // 63
    return tracks // heads, heads, sectors


def _footer(size: int, kind: int, identity: bytes) -> bytes:
    # "win " says that the size field counts, not the geometry: readers take the geometry of other creators, which
    # can only express some sizes.  The time is left at zero, so that the same disk gives the same file.
    head = struct.pack(
        ">8sIIQI4sI4sQQ",
        COOKIE, 2, 0x00010000, _NOWHERE if kind == _FIXED else _SECTOR, 0, b"win ", 0x00010000, b"Wi2k", size, size,
    )  # fmt: skip
    body = head + struct.pack(">HBBII", *_geometry(size), kind, 0) + identity[:16].ljust(16, b"\0") + b"\0"
    body = body.ljust(_SECTOR, b"\0")
    return body[:64] + struct.pack(">I", _checksum(body, 64)) + body[68:]


def _check_size(size: int) -> None:
    if size > LARGEST:
        raise Refused("The disk is larger than a VHD can be (2040 GiB).", advice="Take another format.")
    if size % _SECTOR:
        raise Refused(f"A VHD holds whole sectors of 512 bytes; the disk has {size} bytes.")


def vhd_fixed_layout(disk: BlockSource, identity: bytes) -> LaidOutFile:
    """A fixed VHD: the disk as it is, and a footer.  ``identity`` (16 bytes) becomes its unique id."""
    _check_size(disk.size)
    return LaidOutFile([Whole(disk), Plain(_footer(disk.size, _FIXED, identity))])


def vhd_dynamic_layout(disk: BlockSource, identity: bytes) -> LaidOutFile:
    """A dynamic VHD: blocks of 2 MiB that hold nothing are left out."""
    _check_size(disk.size)
    footer = _footer(disk.size, _DYNAMIC, identity)
    entries = -(-disk.size // _BLOCK)
    index = present(disk, _BLOCK)
    table = np.full(-(-entries * 4 // _SECTOR) * _SECTOR // 4, _UNUSED, ">u4")
    first = 3 + len(table) * 4 // _SECTOR
    table[index] = first + np.arange(len(index)) * (1 + _BLOCK // _SECTOR)
    header = struct.pack(">8sQQIII", b"cxsparse", _NOWHERE, 3 * _SECTOR, 0x00010000, entries, _BLOCK)
    header = header.ljust(1024, b"\0")
    header = header[:36] + struct.pack(">I", _checksum(header, 36)) + header[40:]
    blocks = Blocks(disk, index, _BLOCK, prefix=b"\xff" * _SECTOR)
    return LaidOutFile([Plain(footer + header + table.tobytes()), blocks, Plain(footer)])


class VhdImage:
    """The disk in a VHD file.  Raises `Damaged` for a broken file, `Refused` for a differencing disk."""

    def __init__(self, file: ByteSource) -> None:
        self._file = file
        if file.size < _SECTOR:
            raise Damaged("This is not a VHD file: it is too short.")
        footer = self._find_footer()
        self._size = int(struct.unpack_from(">Q", footer, 48)[0])
        self._kind = struct.unpack_from(">I", footer, 60)[0]
        if self._kind == _DIFFERENCING:
            raise Refused("This VHD is a differencing disk.", advice="Merge it with its parent first.")
        if self._kind not in (_FIXED, _DYNAMIC) or self._size > LARGEST or self._size % _SECTOR:
            raise Damaged("The VHD footer contradicts itself.")
        if self._kind == _FIXED:
            if self._size > file.size - _SECTOR:
                raise Damaged("The VHD file is shorter than its disk.")
            return
        self._read_dynamic(struct.unpack_from(">Q", footer, 16)[0])

    def _find_footer(self) -> bytes:
        for at in (self._file.size - _SECTOR, 0):  # the copy in front serves where the end was cut off
            footer = self._file.read(at, _SECTOR)
            if footer[:8] == COOKIE and struct.unpack_from(">I", footer, 64)[0] == _checksum(footer, 64):
                return footer
        raise Damaged("The VHD footer is missing or damaged.")

    def _read_dynamic(self, at: int) -> None:
        if at % _SECTOR or at + 1024 > self._file.size:
            raise Damaged("The VHD header is outside the file.")
        header = self._file.read(at, 1024)
        cookie, _, table_at, _, entries, self._block = struct.unpack_from(">8sQQIII", header, 0)
        if cookie != b"cxsparse" or struct.unpack_from(">I", header, 36)[0] != _checksum(header, 36):
            raise Damaged("The VHD header is damaged.")
        if self._block < _SECTOR or self._block > 256 * 1024 * 1024 or self._block & (self._block - 1):
            raise Damaged(f"The VHD has an impossible block size ({self._block} bytes).")
        needed = -(-self._size // self._block)
        if needed > entries or needed * 4 > 64 * 1024 * 1024 or table_at + needed * 4 > self._file.size:
            raise Damaged("The VHD's block table does not fit its disk.")
        self._table: npt.NDArray[np.uint32] = np.frombuffer(self._file.read(table_at, needed * 4), ">u4").astype(
            np.uint32
        )
        self._bitmap = -(-self._block // _SECTOR // 8 // _SECTOR) * _SECTOR
        self._bitmaps: OrderedDict[int, npt.NDArray[np.uint8]] = OrderedDict()
        self._lock = threading.Lock()

    @property
    def size(self) -> int:
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        check_read(self._size, offset, length)
        if self._kind == _FIXED:
            return self._file.read(offset, length)
        out, end = bytearray(), offset + length
        while offset < end:
            number, inside = divmod(offset, self._block)
            most = min(self._block - inside, end - offset)
            out += self._read_block(number, inside, most)
            offset += most
        return bytes(out)

    def _read_block(self, number: int, inside: int, length: int) -> bytes:
        start = self._place(number)
        if start is None:
            return bytes(length)
        data = self._file.read(start + self._bitmap + inside, length)
        bits = self._bits(number, start)
        first, last = inside // _SECTOR, (inside + length - 1) // _SECTOR
        if bits[first : last + 1].all():
            return data
        out = bytearray(data)  # sectors whose bit is not set read as zeros
        for sector in (np.flatnonzero(bits[first : last + 1] == 0) + first).tolist():
            low = max(sector * _SECTOR - inside, 0)
            high = min((sector + 1) * _SECTOR - inside, length)
            out[low:high] = bytes(high - low)
        return bytes(out)

    def _place(self, number: int) -> int | None:
        entry = int(self._table[number])
        if entry == _UNUSED:
            return None
        start = entry * _SECTOR
        if start + self._bitmap + min(self._block, self._size - number * self._block) > self._file.size:
            raise Damaged("A block of the VHD is outside the file.")
        return start

    def _bits(self, number: int, start: int) -> npt.NDArray[np.uint8]:
        with self._lock:
            if (known := self._bitmaps.get(number)) is not None:
                return known
        raw = np.frombuffer(self._file.read(start, self._bitmap), np.uint8)
        bits = np.unpackbits(raw)[: self._block // _SECTOR]
        with self._lock:
            self._bitmaps[number] = bits
            if len(self._bitmaps) > max(2, _MOST_BITMAPS * 4096 // len(bits)):
                self._bitmaps.popitem(last=False)
        return bits

    def allocated(self) -> Ranges:
        if self._kind == _FIXED:
            return Ranges.of(self._file.allocated().within(0, self._size))
        used = np.flatnonzero(self._table != _UNUSED).astype(np.int64)
        return Ranges.of_arrays(used * self._block, np.minimum((used + 1) * self._block, self._size))
