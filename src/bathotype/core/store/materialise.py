"""From a region store back to a disk: every chunk is checked by digest before it is written or shown."""

from __future__ import annotations

import threading
from collections import OrderedDict, deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged
from bathotype.core.store.chunks import CHUNK, digest
from bathotype.core.store.ingest import Progress
from bathotype.core.store.manifest import Manifest
from bathotype.core.store.region import RegionStore

_MOST_FETCH = 4 * 1024 * 1024
_GAP = 256 * 1024  # frames this close are fetched in one request
_IN_FLIGHT = 6
_FRAMES_AHEAD = 32


class DiskWriter(Protocol):
    """What a disk is materialised to; written from several threads."""

    def write(self, offset: int, data: bytes) -> None:
        """Write all of ``data`` at ``offset``."""
        ...

    def flush(self) -> None:
        """Make it durable."""
        ...


@dataclass(frozen=True)
class _Fetch:
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

    def bring(fetch: _Fetch) -> int:
        for index, data in _load(manifest, store, fetch):
            target.write(index * CHUNK, data)
        return len(fetch.rows)

    with ThreadPoolExecutor(workers, thread_name_prefix="materialise") as pool:
        pending: deque[Future[int]] = deque()
        try:
            for fetch in _fetches(manifest):
                pending.append(pool.submit(bring, fetch))
                if len(pending) >= _IN_FLIGHT:
                    done += pending.popleft().result() * CHUNK
                    progress(done, total)
            while pending:
                done += pending.popleft().result() * CHUNK
                progress(done, total)
        finally:
            for future in pending:
                future.cancel()
    target.flush()


def verify(manifest: Manifest, store: RegionStore, *, progress: Progress = lambda done, total: None) -> list[Damaged]:
    """Read every chunk of a version and return what is wrong, one finding a pack."""
    found: dict[str, Damaged] = {}
    total, done = len(manifest) * CHUNK, 0
    for fetch in _fetches(manifest):
        name = manifest.packs[fetch.pack]
        done += len(fetch.rows) * CHUNK
        if name not in found:
            try:
                _load(manifest, store, fetch)
            except Damaged as error:
                found[name] = error
        progress(done, total)
    return list(found.values())


def compare(manifest: Manifest, disk: BlockSource, *, progress: Progress = lambda done, total: None) -> list[int]:
    """Positions at which a disk differs from a version, zeros included: an empty list proves it equal."""
    wrong = []
    if disk.size < manifest.size:
        raise Damaged(f"The disk has {disk.size} bytes where the version has {manifest.size}.")
    total = len(manifest) * CHUNK
    for row, index in enumerate(manifest.index.tolist()):
        data = disk.read(index * CHUNK, manifest.chunk_size(index))
        if digest(data) != manifest.digests[row].tobytes():
            wrong.append(index)
        progress((row + 1) * CHUNK, total)
    present = set(manifest.index.tolist())
    for index in disk.allocated().windows(CHUNK).tolist():
        if index in present or index * CHUNK >= manifest.size:
            continue
        if any(disk.read(index * CHUNK, manifest.chunk_size(index))):
            wrong.append(index)
    return wrong


def _fetches(manifest: Manifest, part: range | None = None) -> Iterator[_Fetch]:
    """Group rows, in order of place in the packs, so that each request brings many chunks."""
    chosen = slice(part.start, part.stop) if part is not None else slice(None)
    order = np.lexsort((manifest.offset[chosen], manifest.pack[chosen])) + (part.start if part is not None else 0)
    rows: list[int] = []
    pack = start = end = -1
    for row in order.tolist():
        at, length = int(manifest.offset[row]), int(manifest.length[row])
        near = manifest.pack[row] == pack and at - end <= _GAP and at + length - start <= _MOST_FETCH
        if rows and not near:
            yield _Fetch(pack, start, end, rows)
            rows = []
        if not rows:
            pack, start, end = int(manifest.pack[row]), at, at
        rows.append(row)
        end = max(end, at + length)
    if rows:
        yield _Fetch(pack, start, end, rows)


def _load(manifest: Manifest, store: RegionStore, fetch: _Fetch) -> list[tuple[int, bytes]]:
    name = manifest.packs[fetch.pack]
    raw = store.get_frames(name, fetch.start, fetch.end - fetch.start)
    out = []
    for row in fetch.rows:
        at = int(manifest.offset[row]) - fetch.start
        frame = raw[at : at + int(manifest.length[row])]
        index = int(manifest.index[row])
        data = store.read_chunk(name, frame, manifest.digests[row].tobytes())
        if len(data) != manifest.chunk_size(index):
            raise Damaged(f"A chunk of pack {name[:16]} has the wrong length.")
        out.append((index, data))
    return out


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
        out = bytearray(length)
        low, high = np.searchsorted(self.manifest.index, [offset // CHUNK, (offset + length - 1) // CHUNK + 1])
        for fetch in _fetches(self.manifest, range(int(low), int(high))):
            for index, data in _load(self.manifest, self._store, fetch):
                at = index * CHUNK - offset
                piece = data[max(0, -at) : length - at]
                out[max(0, at) : max(0, at) + len(piece)] = piece
        return bytes(out)

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
