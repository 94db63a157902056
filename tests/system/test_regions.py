"""Versions in other regions: what moves, what proves it, what happens when a region, a worker or a pack is lost."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import Refused
from bathotype.core.store.region import RegionStore
from tests.support import System, until

MIB = 1024 * 1024


@pytest.fixture(autouse=True)
def _no_faults_left(system: System):  # type: ignore[no-untyped-def]
    yield
    system.clear_faults()


@pytest.fixture(scope="module")
def version(system: System) -> str:
    """A released version of a demo machine, in skerry-1 alone."""
    # Of a machine that no other test brings elsewhere: equal content would not have to move.
    return system.captured("travels", machine="gauge-seed-02", mode="stopped", number="1.0.0")


def store(system: System, region: str) -> RegionStore:
    return RegionStore(region, f"file://{system.data}/stores/{region}")


def damage(system: System, region: str, version_id: str) -> str:
    """Change a byte of the version's first pack; returns the pack's name."""
    manifest = store(system, region).get_manifest(version_id)
    pack = manifest.packs[0]
    path = system.data / "stores" / region / "packs" / pack[:2] / pack
    raw = bytearray(path.read_bytes())
    raw[int(manifest.offset[manifest.pack == 0][0]) + 20] ^= 1
    path.write_bytes(raw)
    return pack


def test_only_what_is_missing_moves_and_it_can_be_launched_there(system: System, version: str, tmp_path: Path) -> None:
    with system.core as client:
        plan = client.plan_replication(version, [{"region": "fjord-2", "copies": 2, "multi_zone": True}])
        stored = client.version(version).sizes.stored
        assert plan.moves[0].source == "skerry-1" and 0.8 * stored < plan.moves[0].bytes <= stored
        with pytest.raises(Refused, match="not in fjord-2"):
            client.launch(reference=version, region="fjord-2", name="too-early")
        [operation] = client.replicate(version, [{"region": "fjord-2", "copies": 2, "multi_zone": True}])
        done = client.wait(operation.id)
        assert (done.result or {})["moved_bytes"] == plan.moves[0].bytes
        here, there = (store(system, r).get_manifest(client.version(version).id) for r in ("skerry-1", "fjord-2"))
        assert here.content_digest == there.content_digest == client.version(version).content_digest
        replica = next(r for r in client.replicas(version) if r.region == "fjord-2")
        assert replica.standing == 2 and sorted(replica.zones.values()) == [1, 1] and len(replica.zones) == 2
        assert client.plan_replication(version, [{"region": "fjord-2"}]).moves[0].bytes == 0
        second = system.captured("travels", machine="gauge-seed-02", mode="stopped", number="1.1.0")
        moved = client.plan_replication(second, [{"region": "fjord-2"}]).moves[0].bytes
        assert moved < stored / 4, "many versions of a line cost about their changes"
        client.wait(client.replicate(second, [{"region": "fjord-2"}])[0].id)
        launched = client.wait(client.launch(reference=version, region="fjord-2", count=3, name="fjord-{n}").id)
        assert {i["state"] for i in (launched.result or {})["instances"]} == {"running"}
        image = tmp_path / "out.raw"
        client.export(version, image, region="fjord-2")


def test_copies_are_raised_lowered_and_spread(system: System, version: str) -> None:
    with system.core as client:
        for copies, multi, zones in ((4, True, 2), (1, False, 1), (3, True, 2), (0, False, 0)):
            place = {"region": "lagoon-3", "copies": copies, "multi_zone": multi}
            client.wait(client.replicate(version, [place])[0].id)
            row = next(r for r in client.replicas(version) if r.region == "lagoon-3")
            assert (row.standing, len(row.zones)) == (copies, zones), place
        at_site = list(system.site().disks("lagoon-3", tag=("owner", "tide-core")))
        assert [d for d in at_site if d.name == f"base-{client.version(version).id}"] == []


def test_two_that_want_the_same_move_it_once(system: System, tmp_path: Path) -> None:
    reference = system.imported_noise("at-once", tmp_path, size=16 * MIB)
    with system.core as client:
        began = [client.replicate(reference, [{"region": "lagoon-3", "copies": n}])[0] for n in (1, 2)]
        moved = [(client.wait(o.id).result or {})["moved_bytes"] for o in began]
        assert sorted(moved)[0] == 0 and sorted(moved)[1] > 0
        assert next(r for r in client.replicas(reference) if r.region == "lagoon-3").standing == 2
    assert system.query("select count(*) from arrivals") == [(0,)]


def test_a_transfer_survives_kill_9_and_moves_nothing_again(system: System, tmp_path: Path) -> None:
    """The line to lagoon-3 is limited, so that there is time to kill."""
    reference = system.imported_noise("killed-move", tmp_path, size=72 * MIB)
    with system.core as client:
        stored = client.version(reference).sizes.stored
        system.limit_link("skerry-1/lagoon-3", stored / 6)
        operation = client.replicate(reference, [{"region": "lagoon-3", "copies": 0}])[0]
        system.when_running(operation, "move")
        arrived = until(
            lambda: system.query("select coalesce(sum(length), 0) from arrivals where pack is not null")[0][0] or None,
            seconds=60,
        )
        system.kill("worker")
        system.limit_link("skerry-1/lagoon-3", None)
        system.revive()
        done = client.wait(operation.id)
        moved_after = (done.result or {})["moved_bytes"]
        assert moved_after <= stored - arrived + 2 * MIB, "what had arrived is not moved again"
        client.wait(client.verify(reference, "lagoon-3").id)
        log = " ".join(line.text for line in client.operation_log(operation.id))
        assert "Taken up again" in log


def test_a_region_that_is_out_is_waited_for(system: System, version: str) -> None:
    reference = system.captured("waits", number="1.0.0")
    place = system.data / "stores" / "fjord-2"
    with system.core as client:
        place.rename(place.with_name("away"))
        place.write_text("a file where the store was")
        operation = client.replicate(reference, [{"region": "fjord-2", "copies": 0}])[0]
        until(lambda: any("waits" in line.text for line in client.operation_log(operation.id)))
        assert client.operation(operation.id).state == "running"
        place.unlink()
        place.with_name("away").rename(place)
        assert client.wait(operation.id).state == "succeeded"
        # And launches there say why not, and where else.
        system.fault("region-out", target="fjord-2", count=1000)
        plan = client.plan_launch(reference=reference, region="fjord-2", name="nowhere")
        assert any("Region fjord-2 is out" in b and "skerry-1" in b for b in plan.blockers)
        with pytest.raises(Refused, match="could be launched in skerry-1"):
            client.launch(reference=reference, region="fjord-2", name="nowhere")


def test_a_damaged_replica_is_taken_out_and_healed(system: System, tmp_path: Path) -> None:
    reference = system.captured("hurt", number="1.0.0")
    second = system.captured("hurt", number="1.1.0")
    with system.core as client:
        for ref in (reference, second):
            client.wait(client.replicate(ref, [{"region": "lagoon-3", "copies": 0}])[0].id)
        damage(system, "lagoon-3", client.version(reference).id)
        operation = client.verify(reference, "lagoon-3")
        done = client.wait(operation.id)
        assert (done.result or {})["healed"] >= 1 and (done.result or {})["healed_from"] == "skerry-1"
        actions = [e.action for e in client.events(subject=reference)]
        assert actions.index("replica.healed") < actions.index("replica.damaged")
        assert not [a for a in client.alerts() if a.subject == f"{reference} in lagoon-3"]
        assert [a for a in client.alerts(cleared=True) if a.subject == f"{reference} in lagoon-3"]
        # The other version shared the pack: it was healed with it.
        until(lambda: {r.region: r.state for r in client.replicas(second)}["lagoon-3"] == "ready")
        assert (client.wait(client.verify(second, "lagoon-3").id).result or {})["healed"] == 0
        # With the only sound copy elsewhere gone too, nothing is healed and launches are refused.
        only = system.imported_noise("alone", tmp_path, size=4 * MIB)
        damage(system, "skerry-1", client.version(only).id)
        with pytest.raises(OperationFailed, match="damaged"):
            client.wait(client.verify(only, "skerry-1").id)
        with pytest.raises(Refused, match="is damaged"):
            client.launch(reference=only, region="skerry-1", name="hurt")


def test_a_source_that_is_damaged_gives_way_to_the_next(system: System, tmp_path: Path) -> None:
    reference = system.imported_noise("two-homes", tmp_path, size=4 * MIB)
    with system.core as client:
        client.wait(client.replicate(reference, [{"region": "lagoon-3", "copies": 0}])[0].id)
        damage(system, "skerry-1", client.version(reference).id)  # the nearest to fjord-2
        done = client.wait(client.replicate(reference, [{"region": "fjord-2", "copies": 0}])[0].id)
        assert (done.result or {})["moved_bytes"] > 0
        states = {r.region: r.state for r in client.replicas(reference)}
        assert states == {"skerry-1": "damaged", "lagoon-3": "ready", "fjord-2": "ready"}
        client.wait(client.verify(reference, "skerry-1").id)
        assert {r.state for r in client.replicas(reference)} == {"ready"}


def test_scrubbing_comes_by_itself(system: System, version: str) -> None:
    with system.core as client:
        number = client.version(version).id
        system.execute(
            "update replicas set verified_at = now() - interval '90 days' where version_id = %s and region = 'skerry-1'",
            number,
        )
        until(lambda: any(o.kind == "verify" and o.created_by == "scrub" for o in client.operations(limit=50)))
        until(
            lambda: system.query(
                "select verified_at > now() - interval '1 day' from replicas where version_id = %s and region = 'skerry-1'",
                number,
            )[0][0]
        )


def test_a_placement_is_kept_by_releases_and_changes(system: System) -> None:
    with system.core as client:
        client.create_line("placed")
        client.set_placement("placed", [{"region": "skerry-1"}, {"region": "fjord-2", "copies": 2}])
        reference = system.captured("placed", number="1.0.0")
        until(lambda: {r.region for r in client.replicas(reference) if r.state == "ready" and r.standing >= 1}
              == {"skerry-1", "fjord-2"}, seconds=60)  # fmt: skip
        launched = client.wait(client.launch(reference=reference, region="fjord-2", name="stays").id)
        assert launched.state == "succeeded"
        client.share(subject="placed", consumer="chart-house", regions=["fjord-2"])
        change = [{"region": "skerry-1"}, {"region": "lagoon-3"}]
        plan = client.plan_placement("placed", change)
        assert any("could not be renewed" in b for b in plan.blockers)
        with pytest.raises(Refused, match="could not be renewed"):
            client.set_placement("placed", change)
        client.act_on_instance("stays", "terminate")
        with system.client("chart-house") as other:
            other.accept_share(other.shares("inbox")[0].id)
        with pytest.raises(Refused, match="share with chart-house is for fjord-2 only"):
            client.set_placement("placed", change)
        client.end_share(next(s for s in client.shares("given") if s.subject == "placed").id)
        client.set_placement("placed", change)
        until(lambda: {r.region: r.standing for r in client.replicas(reference)} == {"skerry-1": 1, "lagoon-3": 1},
              seconds=60)  # fmt: skip
        with pytest.raises(Refused, match="placement of placed names lagoon-3"):
            client.drain(reference, "lagoon-3")
        client.set_placement("placed", [])
        client.wait(client.drain(reference, "lagoon-3").id)
        with pytest.raises(Refused, match="last replica"):
            client.drain(reference, "skerry-1")
    folder = system.data / "stores" / "lagoon-3" / "manifests"
    with system.core as client:
        assert not (folder / client.version(reference).id).exists()


def test_launches_take_the_least_busy_copy_of_their_zone(system: System) -> None:
    reference = system.captured("busy", number="1.0.0")
    with system.core as client:
        client.wait(client.replicate(reference, [{"region": "skerry-1", "copies": 2, "multi_zone": True}])[0].id)
        client.wait(client.launch(reference=reference, region="skerry-1", zone="skerry-1b", name="in-b").id)
        client.wait(client.launch(reference=reference, region="skerry-1", count=6, name="spread-{n}").id)
        made = {m.name: m for m in system.site().machines("skerry-1")}
        base = dict(system.query("select site_disk, zone from base_disks b join versions v on v.id = b.version_id "
                                 "join lines l on l.id = v.line_id where l.name = 'busy' and b.state = 'ready'"))  # fmt: skip
        assert base[made["in-b"].created_from] == "skerry-1b" == made["in-b"].zone
        assert {made[f"spread-{n}"].created_from for n in range(1, 7)} == set(base), "both copies are used"
        assert system.query("select sum(launching) from base_disks") == [(0,)]


def test_a_purge_waits_for_a_transfer(system: System, version: str) -> None:
    """Purging one version while another is on its way keeps every chunk that the other needs."""
    first = system.captured("purged-beside", number="1.0.0", machine="surge-old-01")
    second = system.captured("purged-beside", number="1.1.0", machine="surge-old-01")
    with system.core as client:
        client.wait(client.replicate(first, [{"region": "fjord-2", "copies": 0}])[0].id)
        client.retire(first)
        results: list[str] = []

        def move() -> None:
            results.append(client.wait(client.replicate(second, [{"region": "fjord-2", "copies": 0}])[0].id).state)

        mover = threading.Thread(target=move)
        mover.start()
        client.wait(client.purge(first, waive_grace=True).id)
        mover.join(60)
        assert results == ["succeeded"]
        for region in ("skerry-1", "fjord-2"):
            client.wait(client.verify(second, region).id)
