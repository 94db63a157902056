"""The index of a region's chunks: what is there is never moved or stored again, and what it says is true."""

from __future__ import annotations

import secrets

import pytest
from sqlalchemy.exc import OperationalError

from bathotype.client import OperationFailed
from bathotype.core.store.chunks import CHUNK
from bathotype.service.chunks import RegionChunks
from tests.office import Office


def entries(office: Office, region: str) -> int:
    """How many chunks a region's index lists; each of them must be where it says."""
    rows = office.query(
        'select digest, name, "offset", length from stored_chunks join stored_packs on id = pack_id where region = %s',
        region,
    )
    store = office.store(region)
    for digest, name, offset, length in rows:
        store.read_chunk(name, store.get_frames(name, offset, length), digest)
    return len(rows)


def test_a_chunk_that_is_anywhere_in_a_region_does_not_move_there(office: Office) -> None:
    shared, own = secrets.token_bytes(8 * CHUNK), secrets.token_bytes(2 * CHUNK)
    first, second = office.version("one@1.0.0", data=shared), office.version("other@1.0.0", data=own + shared)
    with office.core as client:
        client.wait(client.replicate(first, [{"region": "fjord-2"}])[0].id)
        assert entries(office, "fjord-2") == 8
        [plan] = client.plan_replication(second, [{"region": "fjord-2"}]).moves
        moved = (client.wait(client.replicate(second, [{"region": "fjord-2"}])[0].id).result or {})["moved_bytes"]
    # The lines have nothing in common but the bytes.
    assert moved == plan.bytes and 2 * CHUNK <= moved < 2.1 * CHUNK
    assert entries(office, "fjord-2") == 10


def test_versions_from_before_there_was_an_index_are_listed_by_upkeep(office: Office) -> None:
    office.version("old@1.0.0", data=secrets.token_bytes(3 * CHUNK))
    assert entries(office, "skerry-1") == 0
    for _ in range(2):
        office.upkeep("chunks")
        assert entries(office, "skerry-1") == 3
    assert office.query("select indexed from replicas") == [(True,)]


def test_what_a_purge_removes_is_not_listed_any_more(office: Office) -> None:
    shared = secrets.token_bytes(4 * CHUNK)
    kept, gone = (
        office.version("kept@1.0.0", data=shared),
        office.version("gone@1.0.0", data=shared + bytes(range(256)) * 512),
    )
    office.upkeep("chunks")
    before = entries(office, "skerry-1")
    with office.core as client:
        client.retire(gone)
        client.wait(client.purge(gone, waive_grace=True).id)
        assert 4 <= entries(office, "skerry-1") < before
        client.wait(client.verify(kept, region="skerry-1").id)


def test_a_damaged_chunk_is_not_relied_upon(office: Office) -> None:
    data = secrets.token_bytes(4 * CHUNK)
    version = office.version("damaged@1.0.0", data=data)
    office.upkeep("chunks")
    digests = [d for (d,) in office.query("select digest from stored_chunks")]
    chunks = RegionChunks(office.database, "skerry-1")
    assert (
        None not in chunks.find_all(digests)
        and RegionChunks(office.database, "fjord-2").find_all(digests) == [None] * 4
    )
    office.damage("skerry-1", version)
    with office.core as client, pytest.raises(OperationFailed):
        client.wait(client.verify(version, region="skerry-1").id)
    assert None in chunks.find_all(digests)
    entries(office, "skerry-1")


def test_a_lost_connection_is_a_lost_database(office: Office) -> None:
    """A worker takes an operation up again after such an error, and only after such an error."""
    chunks = RegionChunks(office.database, "skerry-1")
    assert chunks.find_all([bytes(32)]) == [None]
    office.execute(
        "select pg_terminate_backend(pid) from pg_stat_activity "
        "where datname = current_database() and pid <> pg_backend_pid()"
    )
    with pytest.raises(OperationalError):
        chunks.find_all([bytes(32)])
    assert chunks.find_all([bytes(32)]) == [None]
