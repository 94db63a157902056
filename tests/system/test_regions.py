"""Versions in other regions: what moves, what proves it, what happens when a region, a worker or a pack is lost."""

from __future__ import annotations

from pathlib import Path

import pytest

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
        assert "Continued after an interruption" in log


def test_a_region_that_is_out_is_waited_for(system: System, version: str) -> None:
    reference = system.captured("waits", number="1.0.0")
    place = system.data / "stores" / "fjord-2"
    place.mkdir(exist_ok=True)
    system.give(place)
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
