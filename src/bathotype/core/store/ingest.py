"""From a disk into a region store: read, hash, compress and write, overlapping and in bounded memory."""

from __future__ import annotations

from collections import OrderedDict, deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from queue import SimpleQueue
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, Masked, read_into
from bathotype.core.store.chunks import CHUNK, compress, digest
from bathotype.core.store.manifest import KnownChunks, Manifest, ManifestBuilder, Place
from bathotype.core.store.pack import PackBuilder
from bathotype.core.store.region import RegionStore

#: Called with (bytes done, bytes in all); may raise to stop the work.
Progress = Callable[[int, int], None]

_BATCH = 32  # chunks read and handled together: 2 MiB
_READERS = 1  # with more, they and the server wait for each other
_IN_FLIGHT = 8  # batches between reader and writer: bounds memory to some tens of MiB
_PUTS = 2
_RECENT = 65536  # digests remembered to recognise repeats within one disk
_BEGINNING = bytes(64)


@dataclass(frozen=True)
class Ingested:
    """What was stored: the manifest, the packs written, and the bytes that were new to the region."""

    manifest: Manifest
    new_packs: tuple[str, ...]
    new_bytes: int


def ingest(
    source: BlockSource,
    used: Ranges,
    store: RegionStore,
    known: KnownChunks,
    *,
    on_pack: Callable[[str, int], None] = lambda name, size: None,
    progress: Progress = lambda done, total: None,
    workers: int = 2,
    unchanged: Unchanged | None = None,
) -> Ingested:
    """Store the used ranges of a disk; what lies outside them reads as zeros in the result.

    With ``unchanged``, chunks that it vouches for are taken over from its manifest without being read.

    ``on_pack`` is called with each pack's name and size *before* it is uploaded, so that a catalogue can claim it.
    The order of chunks is the order on the disk, so that doing it again makes the very same packs.
    """
    visible = Masked(source, used)
    wanted = used.windows(CHUNK)
    kept = unchanged.rows(wanted) if unchanged is not None else np.empty(0, np.int64)
    if unchanged is not None:
        wanted = wanted[unchanged.changed.covers(wanted)]
    indices = wanted.tolist()
    total = len(indices) * CHUNK
    builder = ManifestBuilder(source.size, getattr(source, "disks", ()))
    with (
        ThreadPoolExecutor(_READERS, thread_name_prefix="read") as readers,
        ThreadPoolExecutor(workers, thread_name_prefix="ingest") as pool,
        ThreadPoolExecutor(_PUTS, thread_name_prefix="put") as puts,
    ):
        writer = _Writer(store, builder, known, on_pack, puts)
        buffers = _Buffers()
        pending: deque[tuple[int, Future[list[_Chunk]]]] = deque()
        done = 0
        try:
            for batch in (*_batches(indices), None):
                if batch:
                    reading = readers.submit(_read, visible, batch, buffers)
                    pending.append((len(batch) * CHUNK, pool.submit(_handle, reading, batch, known, buffers)))
                while len(pending) >= _IN_FLIGHT or (pending and batch is None):
                    length, handled = pending.popleft()
                    writer.take(handled.result())
                    done += length
                    progress(done, total)
        except BaseException:
            for _, handled in pending:
                handled.cancel()
            raise
        writer.finish()
    if unchanged is not None:
        builder.take_over(unchanged.manifest, kept)
    return Ingested(builder.build(), tuple(writer.packs), writer.new_bytes)


@dataclass(frozen=True)
class Chunks:
    """A sorted set of chunk positions."""

    index: npt.NDArray[np.int64]

    @classmethod
    def touched(cls, ranges: Ranges) -> Chunks:
        """Chunks that any of the ranges touches."""
        return cls(ranges.windows(CHUNK))

    def ranges(self, size: int) -> Ranges:
        """The bytes of these chunks on a disk of ``size`` bytes."""
        return Ranges.of_arrays(self.index * CHUNK, np.minimum((self.index + 1) * CHUNK, size))

    def covers(self, index: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
        """For each position, whether it is in the set."""
        return np.isin(index, self.index, assume_unique=True)


@dataclass(frozen=True)
class Unchanged:
    """An earlier version of the same disk, and where the disk may differ from it."""

    manifest: Manifest
    changed: Chunks

    def rows(self, wanted: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
        """Rows of the manifest that hold for the disk as well."""
        same = np.isin(self.manifest.index, wanted, assume_unique=True) & ~self.changed.covers(self.manifest.index)
        return np.flatnonzero(same)


class _Chunk(NamedTuple):
    at: int
    digest: bytes
    frame: bytes | None
    place: Place | None


def _batches(indices: list[int]) -> Iterator[list[int]]:
    """Runs of neighbouring chunks, at most `_BATCH` long, each read in one go."""
    batch: list[int] = []
    for index in indices:
        if batch and (len(batch) == _BATCH or index != batch[-1] + 1):
            yield batch
            batch = []
        batch.append(index)
    if batch:
        yield batch


class _Buffers:
    """Room for each batch under way, used again and again: fresh memory costs more than reading into it."""

    def __init__(self) -> None:
        self._free: SimpleQueue[memoryview] = SimpleQueue()
        for _ in range(_IN_FLIGHT):
            self._free.put(memoryview(bytearray(_BATCH * CHUNK)))

    def take(self) -> memoryview:
        return self._free.get()

    def give_back(self, buffer: memoryview) -> None:
        self._free.put(buffer)


def _read(source: BlockSource, batch: list[int], buffers: _Buffers) -> tuple[memoryview, int]:
    """A batch in a buffer, and how many bytes it has.  The readers run ahead of those who hash and compress."""
    buffer = buffers.take()
    start = batch[0] * CHUNK
    length = min((batch[-1] + 1) * CHUNK, source.size) - start
    try:
        read_into(source, start, buffer[:length])
    except BaseException:
        buffers.give_back(buffer)
        raise
    return buffer, length


def _handle(
    reading: Future[tuple[memoryview, int]], batch: list[int], known: KnownChunks, buffers: _Buffers
) -> list[_Chunk]:
    buffer, length = reading.result()
    try:
        return _chunks(buffer[:length], batch, known)
    finally:
        buffers.give_back(buffer)


def _chunks(data: memoryview, batch: list[int], known: KnownChunks) -> list[_Chunk]:
    start = batch[0] * CHUNK
    pieces = {}
    for index in batch:
        piece = data[index * CHUNK - start : (index + 1) * CHUNK - start]
        # The beginning shows of most pieces that they are not zero.
        if piece[:64] != _BEGINNING[: len(piece)] or np.frombuffer(piece, np.uint8).any():
            pieces[index] = piece
    # First all are hashed, then compressed: a processor that slows down for BLAKE3's wide registers stays slow for
    # a while afterwards, and in turns the compressor would always run in that while.
    names = [digest(piece) for piece in pieces.values()]
    places = known.find_all(names)
    return [
        _Chunk(index, name, None if place else compress(piece), place)
        for (index, piece), name, place in zip(pieces.items(), names, places, strict=True)
    ]


class _Writer:
    def __init__(
        self,
        store: RegionStore,
        builder: ManifestBuilder,
        known: KnownChunks,
        on_pack: Callable[[str, int], None],
        puts: ThreadPoolExecutor,
    ) -> None:
        self._puts = puts
        self._writing: deque[Future[None]] = deque()
        self._store, self._builder, self._known, self._on_pack = store, builder, known, on_pack
        self._pack = PackBuilder()
        self._serial = 0
        self._recent: OrderedDict[bytes, tuple[int, int, int]] = OrderedDict()
        self.packs: list[str] = []
        self.new_bytes = 0

    def take(self, chunks: list[_Chunk]) -> None:
        for index, name, frame, known in chunks:
            if known:
                pack, offset, length = known
                self._builder.add(index, name, self._builder.pack_number(pack), offset, length)
                continue
            place = self._recent.get(name)
            if place is None:
                assert frame is not None
                number = self._builder.pack_number(self._placeholder)
                offset, length = self._pack.add(name, frame)
                self.new_bytes += length
                place = self._recent[name] = (number, offset, length)
                if len(self._recent) > _RECENT:
                    self._recent.popitem(last=False)
            self._builder.add(index, name, *place)
            if self._pack.full:
                self.seal()

    @property
    def _placeholder(self) -> str:
        return f"open-{self._serial}"

    def finish(self) -> None:
        """Seal the last pack and wait until every one is stored."""
        self.seal()
        while self._writing:
            self._writing.popleft().result()

    def seal(self) -> None:
        """Send the pack that is being filled on its way."""
        if not len(self._pack):
            return
        name, data = self._pack.seal()
        self._on_pack(name, len(data))
        # Written while the next one fills; a few at most, since each lies in memory.
        self._writing.append(self._puts.submit(self._store.put_pack, name, data))
        while len(self._writing) > _PUTS:
            self._writing.popleft().result()
        self._builder.rename_pack(self._placeholder, name)
        self.packs.append(name)
        self._pack, self._serial = PackBuilder(), self._serial + 1
