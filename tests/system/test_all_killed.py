"""Worker, service, stand-in and PostgreSQL killed at once while work of several kinds is under way in three accounts."""

from __future__ import annotations

import time
from collections import Counter

from tests.support import damage_pack, running_system
from tests.system.test_sharing import shared

LINE, ACCOUNTS = "all-killed", ("harbour-watch", "chart-house")


def test_everything_is_killed_at_once_and_everything_is_finished() -> None:
    with running_system() as system, system.core as client:
        reference = system.captured(LINE, number="1.0.0", machine="surge-old-01")
        client.wait(client.replicate(reference, [{"region": "fjord-2", "copies": 1}])[0].id)
        for account in ACCOUNTS:
            shared(system, LINE, account)
        harbour, charts = (system.client(account) for account in ACCOUNTS)
        charts.create_line("kept-gauge")
        damage_pack(system.data / "stores" / "fjord-2", client.version(reference).id)
        shared_reference, names = f"tide-core/{reference}", [f"killed-{n}" for n in (1, 2, 3)]
        began = [
            (client, client.verify(reference, "fjord-2")),
            (client, client.replicate(reference, [{"region": "lagoon-3", "copies": 2}])[0]),
            (client, client.capture(machine="gauge-seed-01", line=LINE, number="2.0.0")),
            (harbour, harbour.launch(reference=shared_reference, region="skerry-1", count=3, name="killed-{n}")),
            (charts, charts.adopt(shared_reference, line="kept-gauge", number="1.0.0")),
        ]
        time.sleep(0.6)  # somewhere among their steps: each step by itself is for the kill points
        for name in ("worker", "serve", "standin", "postgres"):
            system.kill(name)
        system.revive()
        for caller, operation in began:
            caller.wait(operation.id)
        version = client.version(reference)
        assert {r.region: (r.state, r.standing) for r in client.replicas(reference) if r.region != "skerry-1"} == {
            "fjord-2": ("ready", 1),
            "lagoon-3": ("ready", 2),
        }
        at_site = [d.name for d in system.site().disks("lagoon-3", tag=("owner", "tide-core"))]
        assert at_site.count(f"base-{version.id}") == 2, "none is lost or doubled"
        assert [harbour.instance(name).state for name in names] == ["running"] * 3
        there = Counter(m.name for m in system.site("harbour-watch").machines("skerry-1"))
        assert [there[name] for name in names] == [1, 1, 1]
        assert [v.number for v in charts.versions("kept-gauge")] == ["1.0.0"]
        assert charts.signature("kept-gauge@1.0.0").holds
        for region in ("fjord-2", "lagoon-3", "skerry-1"):
            assert (client.wait(client.verify(reference, region).id).result or {})["healed"] == 0
        client.wait(client.verify(f"{LINE}@2.0.0", "skerry-1").id)
        assert system.query("select count(*) from arrivals") == [(0,)]
        assert client.event_chain().whole
        assert not [a for a in client.alerts() if a.kind == "replica-damaged"]
