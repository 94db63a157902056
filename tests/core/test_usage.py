"""Stored bytes: what one holder alone needs, and what others need as well, held against plain sets."""

from __future__ import annotations

import numpy as np
import pytest
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.store import usage
from bathotype.core.store.manifest import Manifest
from bathotype.core.store.usage import Usage, measure

HOLDERS = {"gauge": "core", "surge": "core", "charts": "house"}


def manifest(chunks: list[int]) -> Manifest:
    """A disk of chunks, each told by a number, which is also its compressed length."""
    count = len(chunks)
    digests = np.frombuffer(b"".join(blake3(bytes([c])).digest() for c in chunks), np.uint8).reshape(count, 32)
    return Manifest(
        size=count * 65536, index=np.arange(count), digests=digests, pack=np.zeros(count, np.int32),
        offset=np.zeros(count, np.int64), length=np.array(chunks, np.int32), packs=("p",),
    )  # fmt: skip


disks = st.lists(st.tuples(st.sampled_from(sorted(HOLDERS)), st.lists(st.integers(1, 30), max_size=12)), max_size=8)


@given(disks)
@pytest.mark.parametrize("rows", [0, usage.AT_ONCE * 7])
def test_bytes_are_those_of_sets(rows: int, held: list[tuple[str, list[int]]]) -> None:
    found = measure(lambda: ((holder, manifest(chunks)) for holder, chunks in held), HOLDERS, rows=rows)
    need = {holder: {c for h, chunks in held if h == holder for c in chunks} for holder in HOLDERS}
    groups = {g: set().union(*(need[h] for h in HOLDERS if HOLDERS[h] == g)) for g in ("core", "house")}
    for sets, told in ((need, found.holders), (groups, found.groups)):
        for name, mine in sets.items():
            others = set().union(*(theirs for other, theirs in sets.items() if other != name))
            assert told[name] == Usage(sum(mine - others), sum(mine & others)), name
    assert found.total == sum(set().union(*need.values()))
