"""What a version is for, what its disk needs of a machine, when it ends, and the proof sheet of it."""

from __future__ import annotations

import json
from datetime import timedelta
from pathlib import Path

import pytest

from bathotype.core.contents.platform import Platform, PlatformOffered, unmet
from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.purpose import Capacity, Purpose, SizeOffered, judge_size
from bathotype.core.signing.statement import digest_of
from bathotype.service.records.base import utcnow
from tests.office import Office

GAUGE = Purpose(
    least=Capacity(processors=2), recommended=Capacity(memory_mib=4096), excluded_sizes=["large"], contact="orla"
)


def test_a_size_is_judged_by_what_the_site_tells_of_it() -> None:
    for size, offered, blocked, warned in (
        ("small", SizeOffered(1, 512), "at least 2 processors; small has 1", ""),
        ("medium", SizeOffered(2, 2048), "", "recommends 4096 MiB of memory; medium has 2048"),
        ("large", SizeOffered(8, 65536), "not for machines of size large", ""),
        ("odd", SizeOffered(), "", ""),
    ):
        blockers, warnings = judge_size("gauge@1.0.0", GAUGE, size, offered)
        assert (bool(blockers), bool(warnings)) == (bool(blocked), bool(warned)), size
        assert blocked in " ".join(blockers) and warned in " ".join(warnings)
    only = Purpose(compatible_sizes=["medium"])
    assert "made for the sizes medium" in judge_size("x@1.0.0", only, "small", SizeOffered())[0][0]


def test_what_is_unknown_forbids_nothing() -> None:
    offered = PlatformOffered(("bios",), ("x86_64",), False, ("virtio-blk",), ("virtio-net",))
    assert unmet(Platform((), ""), offered, "skerry-1") == []
    assert unmet(Platform(("bios", "uefi"), "x86_64", disk_drivers=("virtio-blk", "nvme")), offered, "skerry-1") == []
    told = unmet(Platform(("uefi",), "aarch64", False, True, ("nvme",), ("e1000",)), offered, "lagoon-3")
    assert len(told) == 5 and "boots by uefi; machines in lagoon-3 have bios" in told[0] and "TPM" in told[4]


def test_a_launch_keeps_to_what_a_version_is_for(office: Office) -> None:
    office.version("gauge@1.0.0")
    with office.core as client:
        version = client.change("gauge@1.0.0", purpose=GAUGE)
        assert version.purpose == GAUGE and client.resolve("gauge@1.0.0").purpose == GAUGE
        plan = client.plan_launch(reference="gauge", region="skerry-1", machine_size="large")
        assert "not for machines of size large" in plan.blockers[0]
        plan = client.plan_launch(reference="gauge", region="skerry-1", machine_size="medium")
        assert not plan.blockers and "recommends 4096 MiB" in plan.warnings[0]
        office.version("gauge@1.1.0")
        assert client.version("gauge@1.1.0").purpose == GAUGE, "the next one is for the same"


def test_a_version_goes_only_where_machines_can_run_it(office: Office) -> None:
    office.version("gauge@1.0.0")
    needs = {"boot": ["uefi"], "architecture": "x86_64", "disk_drivers": ["virtio-blk"]}
    office.execute("update versions set contents = contents || %s::jsonb", json.dumps({"needs": needs}))
    with office.core as client:
        move = client.plan_replication("gauge@1.0.0", [{"region": "lagoon-3", "copies": 0}]).moves[0]
        assert move.blockers == ["It boots by uefi; machines in lagoon-3 have bios."]
        with pytest.raises(Refused, match="could not be launched there"):
            client.replicate("gauge@1.0.0", [{"region": "lagoon-3", "copies": 0}])
        assert client.plan_replication("gauge@1.0.0", [{"region": "fjord-2", "copies": 0}]).blockers == []
        assert client.resolve("gauge@1.0.0").needs is not None


def test_an_end_is_planned_moved_announced_and_taken_back(office: Office) -> None:
    today = utcnow().date()
    office.version("gauge@1.0.0", release=False)
    with office.core as client:
        client.change("gauge@1.0.0", retire_on=today + timedelta(days=90))
        assert client.release("gauge@1.0.0").retire_on == today + timedelta(days=90), "a release keeps it"
        assert client.change("gauge@1.0.0", retire_on="never").retire_on is None
        client.change("gauge@1.0.0", retire_on=today + timedelta(days=29))
        office.upkeep("sunsets")
        version = client.version("gauge@1.0.0")
        assert (version.state, version.retire_on) == ("sunset", today + timedelta(days=29)), "announced a month before"
        with pytest.raises(Refused, match="--until DATE"):
            client.change("gauge@1.0.0", retire_on="never")
        later = today + timedelta(days=60)
        assert "moves from" in client.sunset_plan("gauge@1.0.0", retire_on=later).effects[0]
        assert client.sunset("gauge@1.0.0", retire_on=later).retire_on == later
        back = client.release("gauge@1.0.0")
        assert (back.state, back.retire_on) == ("released", None)
        client.change("gauge@1.0.0", retire_on=later)
        office.execute("update versions set retire_on = current_date")
        office.upkeep("sunsets")
        assert client.version("gauge@1.0.0").state == "retired"
        actions = [event.action for event in client.events(subject="gauge@1.0.0")]
        assert actions.count("version.end-moved") == 5 and actions.count("version.sunset") == 2


def test_the_proof_sheet_is_counted_on_the_bytes_and_signed(office: Office, demo_disk: Path) -> None:
    with office.core as client, office.client("harbour-watch") as other:
        client.create_line("piers")
        upload = client.upload(demo_disk, region="skerry-1").id
        client.wait(client.import_image(upload=upload, line="piers", number="1.0.0").id)
        sheet = client.proof("piers@1.0.0")
        rows = {row.name: row for row in sheet.rows}
        for name in ("machine-id", "host-keys", "host-name", "histories", "users-keys", "leases", "logs", "mail"):
            row = rows[name]
            assert row.before is not None and row.before.paths and row.done and row.outcome in ("gone", "left"), name
        assert {n for n, r in rows.items() if r.outcome == "left"} <= {"logs", "caches"}, "empty folders of logs stay"
        assert rows["host-keys"].after is not None and rows["host-keys"].after.paths == 0
        assert "ssh-host-keys: 4 removed" in rows["host-keys"].done
        version = client.version("piers@1.0.0")
        assert sheet.disk_bytes == version.sizes.virtual and sheet.used_before is not None
        assert 0 < sheet.used_after < sheet.used_before
        assert sheet.swap_before == 16 * 1024**2 - 4096
        assert sheet.used_before + sheet.swap_before < sheet.disk_bytes
        assert version.needs is not None and version.needs.boot == ["bios"]
        assert version.needs.disk_drivers == ["sata", "virtio-blk"]
        kept = office.query("select proof from versions")[0][0]
        assert sheet.digest == f"sha256:{(digest_of(kept) or {})['sha256']}"
        assert client.signature("piers@1.0.0").holds
        for finding in client.findings("piers@1.0.0"):
            client.accept("piers@1.0.0", finding.id, "of the test")
        client.release("piers@1.0.0")
        office.shared("piers")
        assert all(not row.done for row in other.proof("tide-core/piers@1.0.0").rows), "the steps are the owner's own"
        office.execute("update versions set proof = jsonb_set(proof, '{used_after}', '1')")
        assert not client.signature("piers@1.0.0").holds, "a sheet that was changed is noticed"
        office.version("noise@1.0.0")
        with pytest.raises(NotFound, match="no proof sheet"):
            client.proof("noise@1.0.0")
