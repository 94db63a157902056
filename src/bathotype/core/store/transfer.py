"""From one region store to another: only chunks that the target lacks move, each checked on the way and read back.

Several transfers may run at once, also in other processes.  A `Ledger` that they share says who brings a chunk, so
that none is moved twice, and keeps what has arrived, so that nothing is moved again after a crash.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np

from bathotype.core.errors import Damaged
from bathotype.core.store.ingest import Progress
from bathotype.core.store.manifest import ChunkIndex, Indices, KnownChunks, Manifest, Place
from bathotype.core.store.materialise import Fetch, fetches
from bathotype.core.store.pack import PackBuilder
from bathotype.core.store.region import RegionStore

_LOOKED_UP = 4096


class Ledger(Protocol):
    """What transfers to one region agree upon.  Every method is durable when it returns."""

    def claim(self, digests: list[bytes]) -> dict[bytes, Place | None]:
        """Claim chunks.  Left out of the answer are those that another transfer is bringing; a place means that it
        has arrived, None that it is ours to bring."""
        ...

    def arrived(self, pack: str, chunks: list[tuple[bytes, int, int]]) -> None:
        """``(digest, offset, length)`` of claimed chunks now lie in a pack of the target."""
        ...

    def wait(self) -> None:
        """Give the others a moment; raises where the work must stop."""
        ...


@dataclass(frozen=True)
class Missing:
    """What a target lacks: rows of the manifest, each distinct chunk once, and their compressed bytes."""

    rows: Indices
    bytes: int


def missing_rows(manifest: Manifest, known: KnownChunks) -> Missing:
    """Which chunks of a version a region lacks, going by what is known of it."""
    digests = manifest.digests
    found = [
        row
        for at in range(0, len(manifest), _LOOKED_UP)
        for row, place in enumerate(known.find_all([d.tobytes() for d in digests[at : at + _LOOKED_UP]]), at)
        if place is None
    ]
    rows = np.array(found, np.int64)
    if len(rows):
        _, first = np.unique(np.ascontiguousarray(digests[rows]).view("V32").reshape(-1), return_index=True)
        rows = rows[np.sort(first)]
    return Missing(rows, int(manifest.length[rows].sum()))


def transfer(
    manifest: Manifest,
    source: RegionStore,
    target: RegionStore,
    known: KnownChunks,
    ledger: Ledger,
    *,
    streams: int = 4,
    pace: Callable[[int], None] = lambda count: None,
    on_pack: Callable[[str, int], None] = lambda name, size: None,
    progress: Progress = lambda done, total: None,
) -> Manifest:
    """Bring what the target lacks; returns the version's manifest there, which is not stored yet.

    ``pace`` is called before bytes are fetched and returns when the line is free for them.  Raises `Damaged` where the
    source's bytes are not what they should be: nothing of such a chunk reaches the target.
    """
    missing = missing_rows(manifest, known)
    mover = _Mover(manifest, source, target, ledger, pace, on_pack)
    waiting = missing.rows
    done, stuck = 0, False
    while len(waiting):
        if stuck:
            ledger.wait()
        before, so_far = len(waiting), done

        def report(settled: int, so_far: int = so_far) -> None:
            progress(so_far + settled, missing.bytes)

        waiting, settled = mover.round(waiting, streams, report)
        done += settled
        stuck = len(waiting) == before
    return _placed(manifest, known, mover.places)


class _Mover:
    """One transfer under way; ``places`` is where each chunk that it asked for lies in the target."""

    def __init__(
        self,
        manifest: Manifest,
        source: RegionStore,
        target: RegionStore,
        ledger: Ledger,
        pace: Callable[[int], None],
        on_pack: Callable[[str, int], None],
    ) -> None:
        self._manifest, self._source, self._target, self._ledger = manifest, source, target, ledger
        self._pace, self._on_pack = pace, on_pack
        self.places: dict[bytes, Place] = {}
        self._pack = PackBuilder()
        self._chunks: list[tuple[bytes, int, int]] = []
        self._lock = threading.Lock()

    def round(self, rows: Indices, streams: int, report: Callable[[int], None]) -> tuple[Indices, int]:
        """Bring what nobody else brings; returns the rows that others do, and the bytes that were settled."""
        others: list[int] = []
        settled = 0
        with ThreadPoolExecutor(streams, thread_name_prefix="transfer") as pool:
            pending: deque[Future[_Brought]] = deque()
            try:
                for part in (*fetches(self._manifest, rows), None):
                    if part:
                        pending.append(pool.submit(self._bring, part))
                    while len(pending) > streams or (pending and part is None):
                        brought = pending.popleft().result()
                        others += brought.others
                        settled += self._take(brought)
                        report(settled)
            finally:
                for future in pending:
                    future.cancel()
        self._seal()
        return np.array(sorted(others), np.int64), settled

    def _bring(self, part: Fetch) -> _Brought:
        manifest = self._manifest
        names = {row: manifest.digests[row].tobytes() for row in part.rows}
        answers = self._ledger.claim(list(names.values()))
        out = _Brought(
            others=[row for row, name in names.items() if name not in answers],
            arrived=[(row, place) for row, name in names.items() if (place := answers.get(name)) is not None],
            frames=[],
        )
        mine = [row for row, name in names.items() if name in answers and answers[name] is None]
        for piece in fetches(manifest, np.array(mine, np.int64)) if mine else ():
            pack, length = manifest.packs[piece.pack], piece.end - piece.start
            self._pace(length)
            raw = memoryview(self._source.get_frames(pack, piece.start, length))
            for row in piece.rows:
                at = int(manifest.offset[row]) - piece.start
                frame = raw[at : at + int(manifest.length[row])]
                data = self._source.read_chunk(pack, frame, names[row])
                if len(data) != manifest.chunk_size(int(manifest.index[row])):
                    raise Damaged(f"A chunk of pack {pack[:16]} has the wrong length.")
                out.frames.append((row, bytes(frame)))
        return out

    def _take(self, brought: _Brought) -> int:
        digests, settled = self._manifest.digests, 0
        for row, place in brought.arrived:
            self.places[digests[row].tobytes()] = place
            settled += place[2]
        for row, frame in brought.frames:
            name = digests[row].tobytes()
            offset, length = self._pack.add(name, frame)
            self._chunks.append((name, offset, length))
            settled += length
            if self._pack.full:
                self._seal()
        return settled

    def _seal(self) -> None:
        if not len(self._pack):
            return
        pack, data = self._pack.seal()
        self._on_pack(pack, len(data))
        self._target.put_pack(pack, data)
        self._ledger.arrived(pack, self._chunks)
        self.places.update({name: (pack, offset, length) for name, offset, length in self._chunks})
        self._pack, self._chunks = PackBuilder(), []


@dataclass(frozen=True)
class _Brought:
    others: list[int]
    arrived: list[tuple[int, Place]]
    frames: list[tuple[int, bytes]]


def _placed(manifest: Manifest, known: KnownChunks, places: dict[bytes, Place]) -> Manifest:
    """The manifest with the places that its chunks have in the target."""
    packs: dict[str, int] = {}
    table = np.zeros((len(manifest), 3), np.int64)
    for at in range(0, len(manifest), _LOOKED_UP):
        names = [d.tobytes() for d in manifest.digests[at : at + _LOOKED_UP]]
        for row, (name, place) in enumerate(zip(names, known.find_all(names), strict=True), at):
            pack, offset, length = places.get(name) or place or _lost()
            table[row] = (packs.setdefault(pack, len(packs)), offset, length)
    return replace(
        manifest,
        pack=table[:, 0].astype(np.int32),
        offset=table[:, 1].copy(),
        length=table[:, 2].astype(np.int32),
        packs=tuple(packs),
    )


def _lost() -> Place:
    raise Damaged("A chunk was neither there nor moved.", advice="Retry the operation.")


def moved_places(manifest: Manifest, healed: Manifest, rows: Indices) -> Manifest | None:
    """Another version's manifest with chunks that were brought anew, where it has some of them; else None."""
    fresh = ChunkIndex([healed.only(rows)])
    names = [d.tobytes() for d in manifest.digests]
    found = fresh.find_all(names)
    if not any(found):
        return None
    packs = {name: number for number, name in enumerate(manifest.packs)}
    pack, offset, length = manifest.pack.copy(), manifest.offset.copy(), manifest.length.copy()
    for row, place in enumerate(found):
        if place:
            pack[row] = packs.setdefault(place[0], len(packs))
            offset[row], length[row] = place[1], place[2]
    return replace(manifest, pack=pack, offset=offset, length=length, packs=tuple(packs))
