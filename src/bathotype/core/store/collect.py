"""Collecting: which packs nothing needs any more, and rewriting packs that are mostly dead.

The catalogue says which manifests are live; the caller makes sure that no capture or copy is in progress in
the region while this runs (the service holds a lock that captures share).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

import numpy as np

from bathotype.core.store.manifest import Manifest
from bathotype.core.store.pack import PACK_OVERHEAD, ROW_SIZE, PackBuilder
from bathotype.core.store.region import RegionStore

#: A pack of which less than this share is needed is rewritten.
_KEEP_SHARE = 0.5


@dataclass(frozen=True)
class CollectPlan:
    """``dead`` packs go; ``sparse`` packs are rewritten with what is still needed.  Sizes in bytes."""

    dead: dict[str, int]
    sparse: dict[str, int]

    @property
    def freed_bytes(self) -> int:
        """Bytes that removing the dead packs frees (rewriting frees more)."""
        return sum(self.dead.values())


def plan_collect(present: Iterable[tuple[str, int]], live: Iterable[Manifest]) -> CollectPlan:
    """Decide what happens to each pack in a store."""
    needed: dict[str, dict[int, int]] = {}
    for manifest in live:
        for number, name in enumerate(manifest.packs):
            rows = manifest.pack == number
            places = needed.setdefault(name, {})
            places.update(zip(manifest.offset[rows].tolist(), manifest.length[rows].tolist(), strict=True))
    dead, sparse = {}, {}
    for name, size in present:
        if name not in needed:
            dead[name] = size
        elif PACK_OVERHEAD + sum(n + ROW_SIZE for n in needed[name].values()) < size * _KEEP_SHARE:
            sparse[name] = size
    return CollectPlan(dead, sparse)


def repack(
    store: RegionStore, live: dict[str, Manifest], sparse: Iterable[str], on_pack: Callable[[str, int], None]
) -> dict[str, Manifest]:
    """Copy the needed chunks of sparse packs into new ones; returns the manifests that changed, by version.

    The new packs are stored before this returns; the caller stores the manifests and then removes the old packs,
    so that a crash in between leaves every chunk where some manifest finds it.
    """
    moved: dict[tuple[str, int], tuple[str, int]] = {}
    for name in sorted(sparse):
        places: dict[int, tuple[int, bytes]] = {}
        for manifest in live.values():
            if name in manifest.packs:
                for row in np.flatnonzero(manifest.pack == manifest.packs.index(name)).tolist():
                    places[int(manifest.offset[row])] = (
                        int(manifest.length[row]),
                        manifest.digests[row].tobytes(),
                    )
        builder, waiting = PackBuilder(), []
        for offset, (length, digest) in sorted(places.items()):
            frame = store.get_frames(name, offset, length)
            store.read_chunk(name, frame, digest)
            waiting.append((offset, builder.add(digest, frame)[0]))
        new_name, data = builder.seal()
        on_pack(new_name, len(data))
        store.put_pack(new_name, data)
        moved.update({(name, old): (new_name, new) for old, new in waiting})
    return {version: changed for version, m in live.items() if (changed := _moved(m, moved)) is not m}


def _moved(manifest: Manifest, moved: dict[tuple[str, int], tuple[str, int]]) -> Manifest:
    old_names = {name for name, _ in moved}
    if not old_names.intersection(manifest.packs):
        return manifest
    names: dict[str, int] = {}
    pack, offset = manifest.pack.copy(), manifest.offset.copy()
    for row in range(len(manifest)):
        key = (manifest.packs[int(manifest.pack[row])], int(manifest.offset[row]))
        name, at = moved.get(key, key)
        pack[row], offset[row] = names.setdefault(name, len(names)), at
    return replace(manifest, pack=pack, offset=offset, packs=tuple(names))
