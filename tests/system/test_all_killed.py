"""Worker, service, stand-in and PostgreSQL killed at once, somewhere in the work between accounts and regions."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Iterator

import pytest

from bathotype.client import Client
from bathotype.wire.operations import Operation
from tests.support import System, running_system
from tests.system.test_regions import damage
from tests.system.test_sharing import shared

#: Seconds after the start of an operation: somewhere among its steps; each of them by itself is for the kill points.
MOMENTS = (0.4,)


@pytest.fixture(scope="module")
def system() -> Iterator[System]:
    """A system of these tests' own: what they move, damage and share is in nobody's way."""
    with running_system() as running:
        yield running


@pytest.fixture(scope="module")
def reference(system: System) -> str:
    """A released version in skerry-1 and fjord-2, shared with two accounts."""
    made = system.captured("all-killed", number="1.0.0", machine="surge-old-01")
    with system.core as client:
        client.wait(client.replicate(made, [{"region": "fjord-2", "copies": 1}])[0].id)
    for account in ("harbour-watch", "chart-house"):
        shared(system, "all-killed", account)
    return made


def survives(system: System, account: str, moment: float, start: Callable[[Client], Operation]) -> Operation:
    """Start something, kill everything at a moment, start everything again; what became of it."""
    with system.client(account) as client:
        operation = start(client)
        time.sleep(moment)
        for name in ("worker", "serve", "standin", "postgres"):
            system.kill(name)
        system.revive()
        return client.wait(operation.id)


def bases_at_site(system: System, reference: str, region: str) -> int:
    with system.core as client:
        name = f"base-{client.version(reference).id}"
    return [d.name for d in system.site().disks(region, tag=("owner", "tide-core"))].count(name)


@pytest.mark.parametrize("moment", MOMENTS)
def test_in_a_replication_and_in_its_end(system: System, reference: str, moment: float) -> None:
    survives(system, "tide-core", moment, lambda c: c.replicate(reference, [{"region": "lagoon-3", "copies": 2}])[0])
    with system.core as client:
        there = next(r for r in client.replicas(reference) if r.region == "lagoon-3")
        assert (there.state, there.copies, there.standing) == ("ready", 2, 2)
        assert bases_at_site(system, reference, "lagoon-3") == 2, "none is lost or doubled"
        assert (client.wait(client.verify(reference, "lagoon-3").id).result or {})["healed"] == 0
    survives(system, "tide-core", moment, lambda c: c.drain(reference, "lagoon-3"))
    with system.core as client:
        assert sorted(r.region for r in client.replicas(reference)) == ["fjord-2", "skerry-1"]
        assert bases_at_site(system, reference, "lagoon-3") == 0
        manifest = system.data / "stores" / "lagoon-3" / "manifests" / client.version(reference).id
        assert not list(manifest.parent.glob(f"{manifest.name}*"))
        assert (client.wait(client.verify(reference, "fjord-2").id).result or {})["healed"] == 0
    assert system.query("select count(*) from arrivals") == [(0,)]


@pytest.mark.parametrize("moment", MOMENTS)
def test_in_a_healing(system: System, reference: str, moment: float) -> None:
    with system.core as client:
        damage(system, "fjord-2", client.version(reference).id)
        survives(system, "tide-core", moment, lambda c: c.verify(reference, "fjord-2"))
        assert {r.region: r.state for r in client.replicas(reference)}["fjord-2"] == "ready"
        assert (client.wait(client.verify(reference, "fjord-2").id).result or {})["healed"] == 0
        assert not [a for a in client.alerts() if a.subject == f"{reference} in fjord-2"]


@pytest.mark.parametrize("moment", MOMENTS)
def test_in_a_launch_of_what_is_shared(system: System, reference: str, moment: float) -> None:
    names = [f"killed-{moment}-{n}".replace(".", "") for n in (1, 2, 3)]
    pattern = names[0].removesuffix("1") + "{n}"
    survives(
        system, "harbour-watch", moment,
        lambda c: c.launch(reference=f"tide-core/{reference}", region="fjord-2", count=3, name=pattern),
    )  # fmt: skip
    with system.client("harbour-watch") as client:
        assert [client.instance(name).state for name in names] == ["running"] * 3
        there = Counter(m.name for m in system.site("harbour-watch").machines("fjord-2"))
        assert [there[name] for name in names] == [1, 1, 1]
        for name in names:
            client.act_on_instance(name, "terminate")
    with system.core as client:
        assert client.consumers("all-killed") == []


@pytest.mark.parametrize("moment", MOMENTS)
def test_in_an_adoption(system: System, reference: str, moment: float) -> None:
    number = f"1.{round(moment * 100)}.0"
    with system.client("chart-house") as client:
        if "kept-gauge" not in {line.name for line in client.lines()}:
            client.create_line("kept-gauge")
        survives(
            system, "chart-house", moment,
            lambda c: c.adopt(f"tide-core/{reference}", line="kept-gauge", number=number),
        )  # fmt: skip
        assert [v.number for v in client.versions("kept-gauge")].count(number) == 1
        assert client.signature(f"kept-gauge@{number}").holds
        assert client.version(f"kept-gauge@{number}").regions == ["fjord-2", "skerry-1"]
        for region in ("fjord-2", "skerry-1"):
            client.wait(client.verify(f"kept-gauge@{number}", region).id)
