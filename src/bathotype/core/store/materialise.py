"""From a region store back to a disk: every chunk is checked by digest before it is written or shown."""

from __future__ import annotations

import threading
from collections import OrderedDict, deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged
from bathotype.core.store.chunks import CHUNK
from bathotype.core.store.ingest import Progress
from bathotype.core.store.manifest import Indices, Manifest
from bathotype.core.store.region import RegionStore

_MOST_FETCH = 4 * 1024 * 1024
_GAP = 256 * 1024  # frames this close are fetched in one request
_IN_FLIGHT = 4
_MOST_PIECES = 256
_FRAMES_AHEAD = 32


class DiskWriter(Protocol):
    """What a disk is materialised to."""

    def write_pieces(self, offset: int, pieces: Sequence[bytes]) -> None:
        """Write all pieces one after another from ``offset``."""
        ...

    def flush(self) -> None:
        """Make it durable."""
        ...


@dataclass(frozen=True)
class Fetch:
    """Rows of the manifest whose frames lie close together in one pack."""

    pack: int
    start: int
    end: int
    rows: list[int]


def materialise(
    manifest: Manifest,
    store: RegionStore,
    target: DiskWriter,
    *,
    progress: Progress = lambda done, total: None,
    workers: int = 2,
) -> None:
    """Write a version's non-zero chunks to a target that reads as zeros elsewhere, and flush it.

    Raises `Damaged` at the first chunk that is not what its digest says; nothing of it is written.
    """
    total, done = len(manifest) * CHUNK, 0

    # One writes for all: writers of one file wait for each other anyway, at the expense of those who unpack.
    with ThreadPoolExecutor(workers, thread_name_prefix="materialise") as pool:
        pending: deque[Future[list[tuple[int, bytes]]]] = deque()
        try:
            for fetch in (*fetches(manifest), None):
                if fetch:
                    pending.append(pool.submit(_load, manifest, store, fetch))
                while len(pending) >= _IN_FLIGHT or (pending and fetch is None):
                    loaded = pending.popleft().result()
                    for offset, pieces in _runs(loaded):
                        target.write_pieces(offset, pieces)
                    done += len(loaded) * CHUNK
                    progress(done, total)
        finally:
            for future in pending:
                future.cancel()
    target.flush()


def _runs(loaded: list[tuple[int, bytes]]) -> Iterator[tuple[int, list[bytes]]]:
    """Chunks that follow one another on the disk, put together: ``(offset, pieces)``."""
    pieces: list[bytes] = []
    start = following = -1
    for index, data in sorted(loaded):
        if index != following or len(pieces) == _MOST_PIECES:
            if pieces:
                yield start * CHUNK, pieces
            start, pieces = index, []
        pieces.append(data)
        following = index + 1
    if pieces:
        yield start * CHUNK, pieces


def damaged_rows(
    manifest: Manifest, store: RegionStore, *, progress: Progress = lambda done, total: None, workers: int = 2
) -> tuple[Indices, list[str]]:
    """Read every chunk back: rows whose bytes are not what their digest says, and what is wrong, one text a pack."""
    bad: list[int] = []
    reasons: dict[int, str] = {}
    total, done = max(1, manifest.stored_bytes), 0

    def check(part: Fetch) -> tuple[Fetch, list[int], str]:
        name = manifest.packs[part.pack]
        try:
            raw = memoryview(store.get_frames(name, part.start, part.end - part.start))
        except Damaged as error:
            return part, part.rows, error.message
        wrong, why = [], ""
        unpacked: list[tuple[int, bytes]] = []
        for row in part.rows:  # first all are unpacked, then checked: see the same in ingest
            at = int(manifest.offset[row]) - part.start
            try:
                unpacked.append((row, store.unpack(name, raw[at : at + int(manifest.length[row])])))
            except Damaged as error:
                wrong.append(row)
                why = error.message
        for row, data in unpacked:
            try:
                store.check_chunk(name, data, manifest.digests[row].tobytes())
            except Damaged as error:
                wrong.append(row)
                why = error.message
        return part, wrong, why

    with ThreadPoolExecutor(workers, thread_name_prefix="check") as pool:
        pending: deque[Future[tuple[Fetch, list[int], str]]] = deque()
        try:
            for part in (*fetches(manifest), None):
                if part:
                    pending.append(pool.submit(check, part))
                while len(pending) > workers or (pending and part is None):
                    checked, wrong, why = pending.popleft().result()
                    bad += wrong
                    if wrong:
                        reasons.setdefault(checked.pack, why)
                    done += checked.end - checked.start
                    progress(min(done, total), total)
        finally:
            for future in pending:
                future.cancel()
    return np.array(sorted(bad), np.int64), list(reasons.values())


def compare(manifest: Manifest, disk: BlockSource, *, progress: Progress = lambda done, total: None) -> list[int]:
    """Positions at which a disk differs from a version, zeros included: an empty list proves it equal."""
    wrong = []
    if disk.size < manifest.size:
        raise Damaged(f"The disk has {disk.size} bytes where the version has {manifest.size}.")
    total = len(manifest) * CHUNK
    for row, index in enumerate(manifest.index.tolist()):
        if not manifest.holds(row, disk.read(index * CHUNK, manifest.chunk_size(index))):
            wrong.append(index)
        progress((row + 1) * CHUNK, total)
    present = set(manifest.index.tolist())
    for index in disk.allocated().windows(CHUNK).tolist():
        if index in present or index * CHUNK >= manifest.size:
            continue
        if any(disk.read(index * CHUNK, manifest.chunk_size(index))):
            wrong.append(index)
    return wrong


def fetches(manifest: Manifest, rows: Indices | None = None) -> Iterator[Fetch]:
    """Group rows (all, if none are given), in order of place in the packs, so that each request brings many chunks."""
    chosen = np.arange(len(manifest)) if rows is None else rows
    order = chosen[np.lexsort((manifest.offset[chosen], manifest.pack[chosen]))]
    together: list[int] = []
    pack = start = end = -1
    for row in order.tolist():
        at, length = int(manifest.offset[row]), int(manifest.length[row])
        near = manifest.pack[row] == pack and at - end <= _GAP and at + length - start <= _MOST_FETCH
        if together and not near:
            yield Fetch(pack, start, end, together)
            together = []
        if not together:
            pack, start, end = int(manifest.pack[row]), at, at
        together.append(row)
        end = max(end, at + length)
    if together:
        yield Fetch(pack, start, end, together)


def _load(manifest: Manifest, store: RegionStore, fetch: Fetch) -> list[tuple[int, bytes]]:
    name = manifest.packs[fetch.pack]
    raw = store.get_frames(name, fetch.start, fetch.end - fetch.start)
    frames = memoryview(raw)
    at = (manifest.offset[fetch.rows] - fetch.start).tolist()
    lengths, indices = manifest.length[fetch.rows].tolist(), manifest.index[fetch.rows].tolist()
    # First all are unpacked, then checked: see the same in ingest.
    unpacked = [store.unpack(name, frames[a : a + n]) for a, n in zip(at, lengths, strict=True)]
    for row, index, data in zip(fetch.rows, indices, unpacked, strict=True):
        store.check_chunk(name, data, manifest.digests[row].tobytes())
        if len(data) != (CHUNK if manifest.filled else manifest.chunk_size(index)):
            raise Damaged(f"A chunk of pack {name[:16]} has the wrong length.")
    return [(index, data[: manifest.chunk_size(index)]) for index, data in zip(indices, unpacked, strict=True)]


class StoredDisk:
    """A version read straight from its store: a `BlockSource` with a small cache of chunks."""

    def __init__(self, manifest: Manifest, store: RegionStore, *, cached_chunks: int = 128) -> None:
        self.manifest, self._store = manifest, store
        self._cache: OrderedDict[int, bytes] = OrderedDict()
        self._frames: OrderedDict[int, bytes] = OrderedDict()
        self._most = cached_chunks
        self._lock = threading.Lock()

    @property
    def size(self) -> int:
        return self.manifest.size

    def allocated(self) -> Ranges:
        index = self.manifest.index
        return Ranges.of_arrays(index * CHUNK, np.minimum((index + 1) * CHUNK, self.size))

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or offset + length > self.size:
            raise Damaged(f"Read of {length} bytes at {offset} is beyond the disk.")
        if length >= 2 * CHUNK:
            return self._read_run(offset, length)
        first, last = offset // CHUNK, (offset + length - 1) // CHUNK
        data = b"".join(self._chunk(i) for i in range(first, last + 1)) if length else b""
        skip = offset - first * CHUNK
        return data[skip : skip + length]

    def _read_run(self, offset: int, length: int) -> bytes:
        """Many chunks at once: those that lie together in a pack come in one request, and pass by the cache."""
        low, high = np.searchsorted(self.manifest.index, [offset // CHUNK, (offset + length - 1) // CHUNK + 1])
        rows = np.arange(int(low), int(high))
        loaded = dict(
            part for fetch in fetches(self.manifest, rows) for part in _load(self.manifest, self._store, fetch)
        )
        out: list[bytes] = []
        reached, end = offset, offset + length
        for index in sorted(loaded):
            at = index * CHUNK
            piece = loaded[index][max(0, offset - at) : end - at]
            out += bytes(max(0, at - reached)), piece
            reached = max(at, offset) + len(piece)
        return b"".join((*out, bytes(end - reached)))

    def frame(self, index: int) -> bytes:
        """The compressed frame of the chunk at a disk position, checked.  Raises `Damaged` where there is none."""
        row = self.manifest.find(index)
        if row is None:
            raise Damaged(f"The version has no chunk {index}.")
        with self._lock:
            frame = self._frames.pop(index, None)
        if frame is None:
            frame = self._fetch_frames(row)
        name = self.manifest.packs[int(self.manifest.pack[row])]
        self._store.read_chunk(name, frame, self.manifest.digests[row].tobytes())
        return frame

    def _fetch_frames(self, row: int) -> bytes:
        """The frame of a row; the next ones that lie behind it in its pack are kept for whoever reads in order."""
        m = self.manifest
        end = row + 1
        while end < min(len(m), row + _FRAMES_AHEAD) and m.pack[end] == m.pack[row] and m.offset[end] > m.offset[row]:
            end += 1
        start = int(m.offset[row])
        reach = int((m.offset[row:end] + m.length[row:end]).max())
        if reach - start > _MOST_FETCH:
            end, reach = row + 1, start + int(m.length[row])
        raw = self._store.get_frames(m.packs[int(m.pack[row])], start, reach - start)
        frames = [raw[int(m.offset[r]) - start :][: int(m.length[r])] for r in range(row, end)]
        with self._lock:
            for number, frame in enumerate(frames[1:], row + 1):
                self._frames[int(m.index[number])] = frame
            while len(self._frames) > 8 * _FRAMES_AHEAD:
                self._frames.popitem(last=False)
        return frames[0]

    def _chunk(self, index: int) -> bytes:
        with self._lock:
            data = self._cache.get(index)
            if data is not None:
                self._cache.move_to_end(index)
                return data
        row = self.manifest.find(index)
        if row is None:
            data = bytes(self.manifest.chunk_size(index))
        else:
            name = self.manifest.packs[int(self.manifest.pack[row])]
            frame = self._store.get_frames(name, int(self.manifest.offset[row]), int(self.manifest.length[row]))
            data = self._store.read_chunk(name, frame, self.manifest.digests[row].tobytes())
        with self._lock:
            self._cache[index] = data
            if len(self._cache) > self._most:
                self._cache.popitem(last=False)
        return data
