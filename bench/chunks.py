"""The index of a region's chunks with two million of them: adding a version to it, and looking one up."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import numpy as np
import psycopg

from bathotype.core.store.chunks import CHUNK
from bathotype.core.store.manifest import Manifest
from bathotype.core.store.transfer import missing_rows
from bathotype.service.chunks import RegionChunks, add_chunks
from bench.report import Row

if TYPE_CHECKING:
    from bench.scale import Stage

_IN_ALL, _OF_A_VERSION = 2_000_000, 17_740  # the chunks of 1.1 GiB
_A_PACK = 700
_MOST_SECONDS, _MOST_BYTES = 1.0, 200


def rows(made: Stage) -> list[Row]:
    """Time of an average version while the index grows, time of looking one up when it has grown, and its size."""
    chance = np.random.default_rng(7)
    versions = [_version(chance, number) for number in range(-(-_IN_ALL // _OF_A_VERSION))]
    began = time.perf_counter()
    for version in versions:
        add_chunks(made.database, "skerry-1", version)
    adding = (time.perf_counter() - began) / len(versions)
    with psycopg.connect(made.url, autocommit=True) as connection:
        connection.execute("vacuum analyze stored_chunks, stored_packs")
        size = connection.execute("select pg_total_relation_size('stored_chunks')").fetchone()
    assert size is not None
    known = RegionChunks(made.database, "skerry-1")
    seconds = []
    for version, missing in ((versions[11], 0), (_version(chance, len(versions)), _OF_A_VERSION)):
        began = time.perf_counter()
        assert len(missing_rows(version, known).rows) == missing
        seconds.append(time.perf_counter() - began)
    count = f"{len(versions) * _OF_A_VERSION:,} chunks"
    limit = f"{_MOST_SECONDS:.0f} s"
    each = size[0] / (len(versions) * _OF_A_VERSION)
    return [
        Row(f"index a version of 1.1 GiB beside {count}", f"{adding:.2f} s", limit, "", adding / _MOST_SECONDS, 1.0),
        Row(f"look up a version that is there, among {count}", f"{seconds[0]:.2f} s", limit, "", seconds[0] / _MOST_SECONDS, 1.0),
        Row(f"look up a version that is new, among {count}", f"{seconds[1]:.2f} s", limit, "", seconds[1] / _MOST_SECONDS, 1.0),
        Row("size of the index, a chunk", f"{each:.0f} B", f"{_MOST_BYTES} B", "", each / _MOST_BYTES, 1.0),
    ]  # fmt: skip


def _version(chance: np.random.Generator, number: int) -> Manifest:
    place = np.arange(_OF_A_VERSION)
    return Manifest(
        _OF_A_VERSION * CHUNK,
        place.astype(np.int64),
        np.frombuffer(chance.bytes(_OF_A_VERSION * 32), np.uint8).reshape(-1, 32),
        (place // _A_PACK).astype(np.int32),
        (8 + place % _A_PACK * 24_000).astype(np.int64),
        np.full(_OF_A_VERSION, 24_000, np.int32),
        tuple(f"{number:08d}{pack:056d}" for pack in range(-(-_OF_A_VERSION // _A_PACK))),
    )
