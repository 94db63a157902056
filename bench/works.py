"""One piece of our work in a process of its own: ``python -m bench.works NAME JSON``; prints seconds and peak memory."""

from __future__ import annotations

import json
import resource
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from bathotype.core.confined.asking import look
from bathotype.core.confined.changing import PLAN, ProfileQuestion
from bathotype.core.confined.judging import JUDGE, JudgeQuestion
from bathotype.core.confined.reader import ConfinedReader
from bathotype.core.disk.nbdpool import NbdPool
from bathotype.core.disk.source import BlockSource, FileSource, open_file
from bathotype.core.formats.catalogue import lay_out
from bathotype.core.formats.laidout import stream
from bathotype.core.formats.ovf import Appliance
from bathotype.core.generalize.profile import builtin_profile
from bathotype.core.generalize.residue import SourceIdentity
from bathotype.core.store.ingest import Unchanged, ingest
from bathotype.core.store.manifest import ChunkIndex
from bathotype.core.store.materialise import StoredDisk, materialise
from bathotype.core.store.note import CaptureNote
from bathotype.core.store.region import RegionStore
from bathotype.core.store.threads import hand_over_quickly

Given = dict[str, Any]
#: The confined child, which an operation starts while it waits for the site's snapshot.
_reader = ConfinedReader()


def capture(given: Given) -> Given:
    """Site to store: over NBD, used blocks only; with ``parent`` a manifest is known, with ``bitmap`` what changed."""
    store = RegionStore("bench", f"file://{given['store']}")
    with NbdPool(given["address"], changes=given.get("bitmap")) as disk:
        used = look(_reader, disk).used
        parent = store.get_manifest(given["parent"]) if given.get("parent") else None
        unchanged = None
        if given.get("bitmap"):
            changed = disk.changed()
            assert changed is not None and parent is not None
            note = CaptureNote.loads(store.get_note(given["parent"]))
            unchanged = Unchanged(parent, note.fresh(used, changed, disk.size))
        stored = ingest(disk, used, store, ChunkIndex([parent] if parent else []), unchanged=unchanged)
    if given.get("version"):
        store.put_manifest(given["version"], stored.manifest)
        store.put_note(given["version"], CaptureNote.of(used, None, stored.manifest).dumps())
    return {"new": stored.new_bytes, "data": stored.manifest.data_bytes, "digest": stored.manifest.content_digest}


class _NotDurable(FileSource):
    def flush(self) -> None:
        """Left to the operating system."""


def restore(given: Given) -> Given:
    """A version to a raw file, every chunk verified; not made durable, as the reference is not."""
    store = RegionStore("bench", f"file://{given['store']}")
    manifest = store.get_manifest(given["version"])
    target = Path(given["target"])
    with target.open("wb") as file:
        file.truncate(manifest.size)
    writer = _NotDurable(target, writable=True)
    materialise(manifest, store, writer)
    writer.close()
    return {}


def export(given: Given) -> Given:
    """A version to a qcow2 file: from its store, every chunk verified, or from a raw file."""
    disk: BlockSource
    if given.get("raw"):
        disk = FileSource(Path(given["raw"]))
    else:
        store = RegionStore("bench", f"file://{given['store']}")
        disk = StoredDisk(store.get_manifest(given["version"]), store)
    file = lay_out("qcow2", disk, appliance=Appliance("bench", "bench", "1.0.0"), identity=bytes(16))
    with Path(given["target"]).open("wb") as out:
        for piece in stream(file):
            out.write(piece)
    return {}


def judge(given: Given) -> Given:
    """Generalization plan, residue scan and contents of a disk, by the confined child."""
    identity = SourceIdentity("bench-01", "5d3f0cfae1d04c5ab5f0c3e6f1b2a394", ("192.0.2.10",))
    with open_file(Path(given["image"])) as source:
        found = _reader.ask(PLAN, ProfileQuestion(builtin_profile("linux"), {"host_name": "bench-01"}), source)
        judged = _reader.ask(JUDGE, JudgeQuestion(identity), source)
    changes = len(found.planned.changes)
    return {"files": judged.contents.files, "changes": changes, "findings": len(judged.findings)}


WORKS: dict[str, Callable[[Given], Given]] = {f.__name__: f for f in (capture, restore, export, judge)}


def main() -> None:
    """Do one work and tell how long it took."""
    given = json.loads(sys.argv[2])
    hand_over_quickly()  # as a worker does
    with tempfile.NamedTemporaryFile() as nothing:
        nothing.write(bytes(65536))
        nothing.flush()
        with open_file(Path(nothing.name)) as source:
            look(_reader, source)
    began = time.perf_counter()
    told = WORKS[sys.argv[1]](given)
    seconds = time.perf_counter() - began
    _reader.close()
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    print(json.dumps({"seconds": seconds, "peak": peak, **told}))


if __name__ == "__main__":
    main()
