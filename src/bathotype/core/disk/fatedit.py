"""Removing files from a FAT file system that is not mounted, and blanking what removed ones left.

What a removal writes: the file's clusters become zeros and free, in every copy of the table, and its entries are
marked as free with nothing else left in them.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from bathotype.core.disk.fat import END_MARK, FREE_MARK, Fat, FatFile

_FREED = bytes([FREE_MARK]) + bytes(31)


def removal(fs: Fat, file: FatFile) -> Iterator[tuple[int, bytes]]:
    """``(byte offset, bytes)`` to write so that a file, or a folder that is empty by then, is gone."""
    clusters = fs.chain(file.cluster) if file.cluster else []
    for cluster in clusters:
        yield fs.place(cluster), bytes(fs.cluster_size)
    yield from _freed(fs, clusters)
    for slot in file.slots:
        yield slot, _FREED


def emptying(fs: Fat, file: FatFile) -> Iterator[tuple[int, bytes]]:
    """What to write so that a file has no bytes."""
    clusters = fs.chain(file.cluster) if file.cluster else []
    for cluster in clusters:
        yield fs.place(cluster), bytes(fs.cluster_size)
    yield from _freed(fs, clusters)
    last = file.slots[-1]
    yield last + 20, bytes(2)
    yield last + 26, bytes(6)


def _freed(fs: Fat, clusters: list[int]) -> Iterator[tuple[int, bytes]]:
    for copy in range(fs.copies):
        base = fs.tables_at + copy * fs.table_size
        for cluster in clusters:
            yield from _entry(fs, base, cluster)


def _entry(fs: Fat, base: int, cluster: int) -> Iterator[tuple[int, bytes]]:
    if fs.width == 32:
        at = base + cluster * 4
        kept = struct.unpack("<I", fs.source.read(at, 4))[0] & 0xF0000000  # the high bits belong to nobody
        yield at, struct.pack("<I", kept)
    elif fs.width == 16:
        yield base + cluster * 2, b"\0\0"
    else:
        at = base + cluster * 3 // 2
        pair = struct.unpack("<H", fs.source.read(at, 2))[0]
        yield at, struct.pack("<H", pair & (0x000F if cluster & 1 else 0xF000))


def blanking(fs: Fat) -> Iterator[tuple[int, bytes]]:
    """What to write so that free entries hold no names, and the slack behind each file's end nothing at all."""
    folders: list[FatFile | None] = [None]
    for _, file in fs.walk():
        if file.is_dir and file.cluster and file.slots:
            folders.append(file)
        elif file.is_file and file.cluster and file.size % fs.cluster_size:
            last = fs.chain(file.cluster)[(file.size - 1) // fs.cluster_size]
            inside = file.size % fs.cluster_size
            slack = fs.source.read(fs.place(last) + inside, fs.cluster_size - inside)
            if any(slack):
                yield fs.place(last) + inside, bytes(len(slack))
    for folder in folders:
        ended = False
        for at, length in fs.folder_pieces(folder):
            data = fs.source.read(at, length)
            for offset in range(0, length, 32):
                raw = data[offset : offset + 32]
                ended = ended or raw[0] == END_MARK
                if ended and any(raw):
                    yield at + offset, bytes(32)
                elif raw[0] == FREE_MARK and raw != _FREED:
                    yield at + offset, _FREED
