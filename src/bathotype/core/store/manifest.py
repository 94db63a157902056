"""Manifests: what a version's disks consist of, and where each chunk lies in one region's packs.

Layout (docs/store-format.md): magic, header length, JSON header, zstd-compressed tables, BLAKE3 of all before.
"""

from __future__ import annotations

import json
import struct
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
import numpy.typing as npt
import zstandard
from blake3 import blake3

from bathotype.core.disk.several import MOST_DISKS, begins, role_of, total_size
from bathotype.core.errors import Damaged, NotFound
from bathotype.core.store.chunks import CHUNK, DIGEST, digest

_MAGIC = b"BATHOMF1"
_CONTENT_DOMAIN = b"bathotype content 1"
_MOST_CHUNKS = 1 << 28

_ROWS = np.dtype([("i", "<i8"), ("d", "V32"), ("p", "<i4"), ("o", "<i8"), ("n", "<i4")])
_TAIL = 8192

Indices = npt.NDArray[np.int64]
Digests = npt.NDArray[np.uint8]


@dataclass(frozen=True, eq=False)
class Manifest:
    """A disk as a table of its non-zero chunks, ascending by ``index``.

    ``digests`` is (n, 32) bytes; ``pack``, ``offset`` and ``length`` place each chunk's frame in ``packs``.  ``disks`` are
    the sizes of the disks where there are several, one after another (`core.disk.several`); ``size`` is that of them all.
    ``filled`` says that the last chunk is stored as a whole one, with zeros behind the disk's end.
    """

    size: int
    index: Indices
    digests: Digests
    pack: npt.NDArray[np.int32]
    offset: npt.NDArray[np.int64]
    length: npt.NDArray[np.int32]
    packs: tuple[str, ...]
    disks: tuple[int, ...] = ()
    filled: bool = False

    def __len__(self) -> int:
        return len(self.index)

    @property
    def content_digest(self) -> str:
        """``blake3:`` and hex, over the sizes of the disks and the chunk digests alone: the same content has the same
        digest in every region, whatever its packs look like."""
        table = np.zeros(len(self.index), dtype=[("index", "<u8"), ("digest", "V32")])
        table["index"] = self.index
        table["digest"] = np.ascontiguousarray(self.digests).view("V32").reshape(-1)
        hasher = blake3(_CONTENT_DOMAIN + struct.pack("<QI", self.size, CHUNK))
        hasher.update(struct.pack(f"<{len(self.disks)}Q", *self.disks))
        hasher.update(table.tobytes())
        return "blake3:" + hasher.hexdigest()

    @property
    def stored_bytes(self) -> int:
        """Compressed bytes of all chunks, each distinct one once."""
        places = np.stack([self.pack.astype(np.int64), self.offset], axis=1)
        _, first = np.unique(places, axis=0, return_index=True)
        return int(self.length[first].sum()) if len(first) else 0

    @property
    def data_bytes(self) -> int:
        """Bytes of the disk that lie in non-zero chunks."""
        if not len(self.index):
            return 0
        last_is_short = int(self.index[-1]) == self.size // CHUNK and self.size % CHUNK
        return len(self.index) * CHUNK - (CHUNK - self.size % CHUNK if last_is_short else 0)

    def chunk_size(self, index: int) -> int:
        """Bytes in the chunk at ``index``: the last one of a disk may be short."""
        return min(CHUNK, self.size - index * CHUNK)

    def holds(self, row: int, data: bytes) -> bool:
        """Whether bytes are those of the chunk in a row."""
        whole = data.ljust(CHUNK, b"\0") if self.filled else data
        return bool(digest(whole) == self.digests[row].tobytes())

    def find(self, index: int) -> int | None:
        """The row of the chunk at a disk position, None where the disk is zero."""
        row = int(np.searchsorted(self.index, index))
        return row if row < len(self.index) and self.index[row] == index else None

    @property
    def sizes(self) -> tuple[int, ...]:
        """The size of each disk in bytes, the boot disk's first."""
        return self.disks or (self.size,)

    def disk(self, number: int) -> Manifest:
        """One of the disks by itself.  Raises `NotFound`."""
        if not 0 <= number < len(self.sizes):
            roles = ", ".join(map(role_of, range(len(self.sizes))))
            raise NotFound(f"The version has no disk {role_of(number)}.", advice=f"It has: {roles}.")
        if not self.disks:
            return self
        first, size = begins(self.disks)[number] // CHUNK, self.disks[number]
        low, high = np.searchsorted(self.index, [first, first - (-size // CHUNK)])
        part = self.only(np.arange(int(low), int(high)))
        last = number == len(self.disks) - 1
        return replace(part, size=size, index=part.index - first, disks=(), filled=not last and size % CHUNK != 0)

    def only(self, rows: Indices) -> Manifest:
        """The same disk with some of its chunks."""
        return replace(
            self,
            index=self.index[rows],
            digests=self.digests[rows],
            pack=self.pack[rows],
            offset=self.offset[rows],
            length=self.length[rows],
        )

    def changed_since(self, other: Manifest) -> Indices:
        """Positions whose content differs between two disks, ascending."""
        both, mine, theirs = np.intersect1d(self.index, other.index, assume_unique=True, return_indices=True)
        same = (self.digests[mine] == other.digests[theirs]).all(axis=1)
        alone = np.setxor1d(self.index, other.index, assume_unique=True)
        return np.union1d(alone, both[~same])

    def dumps(self) -> bytes:
        """The manifest as stored."""
        header = json.dumps(
            {
                "format": "bathotype-manifest",
                "size": self.size,
                **({"disks": self.disks} if self.disks else {}),
                "chunk_size": CHUNK,
                "chunks": len(self.index),
                "content_digest": self.content_digest,
                "packs": list(self.packs),
            },
            separators=(",", ":"),
        ).encode()
        tables = b"".join(
            (
                self.index.astype("<i8").tobytes(),
                np.ascontiguousarray(self.digests, np.uint8).tobytes(),
                self.pack.astype("<i4").tobytes(),
                self.offset.astype("<i8").tobytes(),
                self.length.astype("<i4").tobytes(),
            )
        )
        body = _MAGIC + struct.pack("<I", len(header)) + header + zstandard.compress(tables, 3)
        return body + blake3(body).digest()

    @classmethod
    def loads(cls, data: bytes) -> Manifest:
        """Read a stored manifest.  Raises `Damaged` unless every digest in it fits."""
        if len(data) < 12 + DIGEST or data[:8] != _MAGIC:
            raise Damaged("This is not a manifest.")
        body, seal = data[:-DIGEST], data[-DIGEST:]
        if blake3(body).digest() != seal:
            raise Damaged("A manifest is damaged: its digest differs.")
        header_length = struct.unpack_from("<I", body, 8)[0]
        try:
            header = json.loads(body[12 : 12 + header_length])
            size, count = int(header["size"]), int(header["chunks"])
            if header["chunk_size"] != CHUNK or not 0 <= count <= _MOST_CHUNKS or size < 0:
                raise Damaged("A manifest's header is out of bounds.")
            tables = zstandard.ZstdDecompressor().decompress(body[12 + header_length :], max_output_size=count * 56)
            packs = tuple(str(p) for p in header["packs"])
            declared = header["content_digest"]
            disks = tuple(int(d) for d in header.get("disks", ()))
            if disks and (not 1 < len(disks) <= MOST_DISKS or min(disks) <= 0 or total_size(disks) != size):
                raise Damaged("A manifest's disks contradict its size.")
        except (ValueError, KeyError, TypeError, zstandard.ZstdError) as error:
            raise Damaged("A manifest's header cannot be read.") from error
        if len(tables) != count * 56:
            raise Damaged("A manifest's tables have the wrong length.")
        manifest = cls(
            size,
            np.frombuffer(tables, "<i8", count, 0).astype(np.int64),
            np.frombuffer(tables, np.uint8, count * DIGEST, count * 8).reshape(-1, DIGEST),
            np.frombuffer(tables, "<i4", count, count * 40).astype(np.int32),
            np.frombuffer(tables, "<i8", count, count * 44).astype(np.int64),
            np.frombuffer(tables, "<i4", count, count * 52).astype(np.int32),
            packs,
            disks,
        )
        index = manifest.index
        if count and (
            index[0] < 0
            or int(index[-1]) * CHUNK >= size
            or not (np.diff(index) > 0).all()
            or manifest.pack.min() < 0
            or manifest.pack.max() >= len(packs)
        ):
            raise Damaged("A manifest's tables contradict each other.")
        if manifest.content_digest != declared:
            raise Damaged("A manifest's content digest differs from its chunks.")
        return manifest


class ManifestBuilder:
    """Collects chunks in ascending order into a `Manifest`, in flat arrays."""

    def __init__(self, size: int, disks: tuple[int, ...] = ()) -> None:
        """``disks`` are the sizes of the disks where there are several."""
        self.size, self._disks = size, disks if len(disks) > 1 else ()
        self._tables: list[npt.NDArray[np.void]] = []
        self._tail: list[tuple[int, bytes, int, int, int]] = []  # rows in no table yet: that goes by the thousand
        self._packs: dict[str, int] = {}

    def pack_number(self, name: str) -> int:
        """The number by which rows refer to a pack."""
        return self._packs.setdefault(name, len(self._packs))

    def add(self, index: int, digest: bytes, pack: int, offset: int, length: int) -> None:
        """Append the chunk at disk position ``index``."""
        self._tail.append((index, digest, pack, offset, length))
        if len(self._tail) == _TAIL:
            self._settle()

    def _settle(self) -> None:
        if self._tail:
            self._tables.append(np.array(self._tail, _ROWS))
            self._tail.clear()

    def _all(self) -> npt.NDArray[np.void]:
        self._settle()
        return np.concatenate(self._tables) if self._tables else np.zeros(0, _ROWS)

    def take_over(self, other: Manifest, rows: npt.NDArray[np.int64]) -> None:
        """Add rows of another manifest as they are; the order is put right in the end."""
        numbers = np.array([self.pack_number(name) for name in other.packs], np.int32)
        more = np.zeros(len(rows), _ROWS)
        more["i"], more["o"], more["n"] = other.index[rows], other.offset[rows], other.length[rows]
        more["d"] = np.ascontiguousarray(other.digests[rows]).view("V32").reshape(-1)
        more["p"] = numbers[other.pack[rows]] if len(rows) else 0
        both = np.concatenate([self._all(), more])
        self._tables = [both[np.argsort(both["i"], kind="stable")]]

    def rename_pack(self, placeholder: str, name: str) -> None:
        """Give a pack the name that it gets when it is sealed."""
        number = self._packs.pop(placeholder)
        if name in self._packs:  # an equal pack was sealed before: point its rows there
            self._settle()
            for table in self._tables:
                table["p"][table["p"] == number] = self._packs[name]
            return
        self._packs[name] = number

    def build(self) -> Manifest:
        """The finished manifest, naming only packs that some chunk needs."""
        rows = self._all()
        names = {number: name for name, number in self._packs.items()}
        needed, renumbered = np.unique(rows["p"], return_inverse=True)
        return Manifest(
            self.size,
            rows["i"].astype(np.int64),
            np.frombuffer(rows["d"].tobytes(), np.uint8).reshape(-1, DIGEST),
            renumbered.astype(np.int32),
            rows["o"].astype(np.int64),
            rows["n"].astype(np.int32),
            tuple(names[int(number)] for number in needed),
            self._disks,
        )


#: ``(pack, offset, length)``: where a store holds a chunk.
Place = tuple[str, int, int]


class KnownChunks(Protocol):
    """What is known of the chunks that a store holds."""

    def find_all(self, digests: list[bytes]) -> list[Place | None]:
        """Where each chunk is, None where it is not known.  Called from several threads."""


class ChunkIndex:
    """Where chunks that a region already holds can be found, from a few manifests.

    Looked up by the first eight bytes of the digest in a sorted array, then compared in full: a dict of
    tuples would cost ten times the memory.
    """

    def __init__(self, manifests: list[Manifest]) -> None:
        rows = sum(len(m) for m in manifests)
        self._packs: list[str] = []
        self._digests = np.zeros((rows, DIGEST), np.uint8)
        self._place = np.zeros(rows, dtype=[("p", "<i4"), ("o", "<i8"), ("n", "<i4")])
        at = 0
        for manifest in manifests:
            end = at + len(manifest)
            self._digests[at:end] = manifest.digests
            self._place["p"][at:end] = manifest.pack + len(self._packs)
            self._place["o"][at:end] = manifest.offset
            self._place["n"][at:end] = manifest.length
            self._packs.extend(manifest.packs)
            at = end
        keys = np.ascontiguousarray(self._digests[:, :8]).view("<u8").reshape(-1)
        order = np.argsort(keys, kind="stable")
        self._keys, self._digests, self._place = keys[order], self._digests[order], self._place[order]

    def find_all(self, digests: list[bytes]) -> list[Place | None]:
        """``(pack, offset, length)`` of each chunk, None where it is not known."""
        if not len(self._keys) or not digests:
            return [None] * len(digests)
        wanted = np.frombuffer(b"".join(digests), np.uint8).reshape(-1, DIGEST)
        keys = np.ascontiguousarray(wanted[:, :8]).view("<u8").reshape(-1)
        rows = np.minimum(np.searchsorted(self._keys, keys), len(self._keys) - 1)
        # Of two different digests with the same first eight bytes the second is taken for new: no harm is done.
        here = (self._digests[rows] == wanted).all(axis=1).tolist()
        places = self._place[rows].tolist()
        return [
            (self._packs[pack], offset, length) if found else None
            for (pack, offset, length), found in zip(places, here, strict=True)
        ]
