"""Which chunks a region's store holds already, so that none of them is moved or stored again.

The index lists chunks of recorded versions only, and every pack that it names is in the store: a pack's rows are
removed before the pack is.  Whoever relies on a place that it found holds the region's lock, shared, until the manifest
that names the place is recorded; packs are removed by who holds that lock alone."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TypeVar

import numpy as np
from psycopg import Connection as Driver
from sqlalchemy import ARRAY, LargeBinary, String, bindparam, delete, func, select, update
from sqlalchemy.dialects.postgresql import insert

from bathotype.core.store.manifest import ChunkIndex, Manifest, Place
from bathotype.service.database import Database
from bathotype.service.records import Replica, StoredChunk, StoredPack
from bathotype.service.statements import Statement, as_sqlalchemy_errors

T = TypeVar("T")
_BATCH = 65536  # rows a transaction: some 4 MB

_FIND = Statement(
    select(StoredChunk.digest, StoredPack.name, StoredChunk.offset, StoredChunk.length)
    .join(StoredPack, StoredPack.id == StoredChunk.pack_id)
    .where(
        StoredChunk.digest == func.any(bindparam("digests", type_=ARRAY(LargeBinary))),
        StoredPack.region == bindparam("region", type_=String),
    )
)
# Through a table of its own, since COPY cannot pass over rows that are there already: twice as fast as arrays.
_INCOMING = 'create temp table incoming (digest bytea, pack_id bigint, "offset" integer, length integer) on commit drop'
_COPY = "copy incoming from stdin (format binary)"
_ADD = "insert into stored_chunks select * from incoming on conflict do nothing"


class RegionChunks:
    """The chunks of a region, as `ingest` and `transfer` ask for them: those of ``near`` first, which are in memory."""

    def __init__(self, database: Database, region: str, near: Sequence[Manifest] = ()) -> None:
        self._database, self._region, self._near = database, region, ChunkIndex(list(near))

    def find_all(self, digests: list[bytes]) -> list[Place | None]:
        """``(pack, offset, length)`` of each chunk, None where the region does not hold it."""
        places = self._near.find_all(digests)
        wanted = {digest for digest, place in zip(digests, places, strict=True) if place is None}
        if not wanted:
            return places
        with self._database.reading.connect() as connection:
            rows = _FIND.rows(connection, digests=list(wanted), region=self._region)
        found = {row.digest: (row.name, row.offset, row.length) for row in rows}
        return [place or found.get(digest) for digest, place in zip(digests, places, strict=True)]


def add_version(database: Database, region: str, version_id: str, manifest: Manifest) -> None:
    """Index a version that is recorded in a region; doing it again changes nothing.

    The caller holds the region's lock, shared.
    """
    add_chunks(database, region, manifest)
    with database.sessions.begin() as session:
        session.execute(
            update(Replica).where(Replica.version_id == version_id, Replica.region == region).values(indexed=True)
        )


def add_chunks(database: Database, region: str, manifest: Manifest) -> None:
    """Index the chunks of a manifest."""
    with database.sessions.begin() as session:
        for names in _parts(sorted(manifest.packs)):
            rows = [{"region": region, "name": name} for name in names]
            session.execute(insert(StoredPack).values(rows).on_conflict_do_nothing())
        query = select(StoredPack.name, StoredPack.id).where(
            StoredPack.region == region,
            StoredPack.name == func.any(bindparam("names", list(manifest.packs), ARRAY(String))),
        )
        ids = dict(session.execute(query).all())
    numbers = np.array([ids[name] for name in manifest.packs], np.int64)
    # By digest, and each of them once: two that index equal chunks then wait for each other, and never in a circle.
    _, rows_ = np.unique(np.ascontiguousarray(manifest.digests).view("V32").reshape(-1), return_index=True)
    for start in range(0, len(rows_), _BATCH):
        part = rows_[start : start + _BATCH]
        packs, offsets, lengths = (
            values[part].tolist() for values in (numbers[manifest.pack], manifest.offset, manifest.length)
        )
        with database.sessions.begin() as session:
            driver = session.connection().connection.driver_connection
            assert isinstance(driver, Driver)
            with as_sqlalchemy_errors(_COPY), driver.cursor() as cursor:
                cursor.execute(_INCOMING)
                with cursor.copy(_COPY) as copy:
                    copy.set_types(("bytea", "int8", "int4", "int4"))
                    for digest, *place in zip(manifest.digests[part], packs, offsets, lengths, strict=True):
                        copy.write_row((digest.tobytes(), *place))
                cursor.execute(_ADD)


def forget_packs(database: Database, region: str, names: Iterable[str]) -> None:
    """Forget packs that are about to be removed, with all their chunks."""
    for part in _parts(sorted(names)):
        with database.sessions.begin() as session:
            named = (StoredPack.region == region, StoredPack.name.in_(part))
            session.execute(delete(StoredChunk).where(StoredChunk.pack_id.in_(select(StoredPack.id).where(*named))))
            session.execute(delete(StoredPack).where(*named))


def forget_chunks(database: Database, region: str, digests: Iterable[bytes]) -> None:
    """Forget chunks that were found damaged: nothing may rely on them."""
    here = select(StoredPack.id).where(StoredPack.region == region)
    for part in _parts(sorted(set(digests))):
        with database.sessions.begin() as session:
            session.execute(delete(StoredChunk).where(StoredChunk.digest.in_(part), StoredChunk.pack_id.in_(here)))


def _parts(items: list[T]) -> Iterator[list[T]]:
    return (items[at : at + 1000] for at in range(0, len(items), 1000))
