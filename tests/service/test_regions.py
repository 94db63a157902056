"""Versions in other regions: what moves, what proves it, what a placement keeps, what is healed."""

from __future__ import annotations

import secrets
import threading

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import Damaged, Refused
from bathotype.service import audit
from bathotype.service.access.principals import make_account
from tests.office import Office


def test_only_what_is_missing_moves(office: Office) -> None:
    content = bytearray(secrets.token_bytes(600_000))
    version = office.version("travels@1.0.0", data=bytes(content))
    with office.core as client:
        place = [{"region": "fjord-2", "copies": 2, "multi_zone": True}]
        [plan] = client.plan_replication(version, place).moves
        assert (plan.source, plan.bytes) == ("skerry-1", client.version(version).sizes.stored)
        with pytest.raises(Refused, match="not in fjord-2"):
            client.launch(reference=version, region="fjord-2", name="too-early")
        done = client.wait(client.replicate(version, place)[0].id)
        assert (done.result or {})["moved_bytes"] == plan.bytes
        number = client.version(version).id
        digests = {office.store(r).get_manifest(number).content_digest for r in ("skerry-1", "fjord-2")}
        assert digests == {client.version(version).content_digest}
        replica = next(r for r in client.replicas(version) if r.region == "fjord-2")
        assert replica.standing == 2 and sorted(replica.zones.values()) == [1, 1]
        assert client.plan_replication(version, [{"region": "fjord-2"}]).moves[0].bytes == 0
        content[100_000:100_100] = secrets.token_bytes(100)
        second = office.version("travels@1.1.0", data=bytes(content))
        moved = client.plan_replication(second, [{"region": "fjord-2"}]).moves[0].bytes
        assert 0 < moved < plan.bytes / 4, "many versions of a line cost about their changes"
        client.wait(client.launch(reference=version, region="fjord-2", count=3, name="fjord-{n}").id)


def test_copies_are_raised_lowered_and_spread(office: Office) -> None:
    version = office.version("copied@1.0.0")
    with office.core as client:
        for copies, multi, zones in ((4, True, 2), (1, False, 1), (3, True, 2), (0, False, 0)):
            place = {"region": "lagoon-3", "copies": copies, "multi_zone": multi}
            client.wait(client.replicate(version, [place])[0].id)
            row = next(r for r in client.replicas(version) if r.region == "lagoon-3")
            assert (row.standing, len(row.zones)) == (copies, zones), place
        assert list(office.site().disks("lagoon-3", tag=("owner", "tide-core"))) == []


def test_two_that_want_the_same_move_it_once(office: Office) -> None:
    version = office.version("at-once@1.0.0", data=secrets.token_bytes(4 * 1024 * 1024))
    with office.core as client:
        began = [client.replicate(version, [{"region": "lagoon-3", "copies": n}])[0].id for n in (1, 2)]
        threads = [threading.Thread(target=office.runner.run, args=(o,)) for o in began]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        moved = sorted((client.wait(o).result or {})["moved_bytes"] for o in began)
        assert moved[0] == 0 and moved[1] > 0
        assert next(r for r in client.replicas(version) if r.region == "lagoon-3").standing == 2
    assert office.query("select count(*) from arrivals") == [(0,)]


def test_a_damaged_replica_is_taken_out_and_healed_with_all_that_share_its_packs(office: Office) -> None:
    content = secrets.token_bytes(300_000)
    reference, second = office.version("hurt@1.0.0", data=content), office.version("hurt@1.1.0", data=content + b"x")
    with office.core as client:
        for ref in (reference, second):
            client.wait(client.replicate(ref, [{"region": "lagoon-3", "copies": 0}])[0].id)
        office.damage("lagoon-3", reference)
        done = client.wait(client.verify(reference, "lagoon-3").id)
        assert (done.result or {})["healed"] >= 1 and (done.result or {})["healed_from"] == "skerry-1"
        actions = [e.action for e in client.events(subject=reference)]
        assert actions.index("replica.healed") < actions.index("replica.damaged")
        assert client.alerts() == [] or all(second in a.subject for a in client.alerts())
        office.work()
        assert {r.region: r.state for r in client.replicas(second)}["lagoon-3"] == "ready"
        assert (client.wait(client.verify(second, "lagoon-3").id).result or {})["healed"] == 0
        assert client.alerts() == [] and len(client.alerts(cleared=True)) >= 1
        only = office.version("alone@1.0.0")
        office.damage("skerry-1", only)
        with pytest.raises(OperationFailed, match="damaged"):
            client.wait(client.verify(only, "skerry-1").id)
        with pytest.raises(Refused, match="is damaged"):
            client.launch(reference=only, region="skerry-1", name="hurt")


def test_an_alert_about_a_replica_ends_with_it_and_a_damaged_one_can_be_removed(office: Office) -> None:
    reference, only = office.version("worn@1.0.0"), office.version("worn@1.1.0")
    with office.core as client:
        client.wait(client.replicate(reference, [{"region": "lagoon-3", "copies": 0}])[0].id)
        office.execute("update replicas set state = 'damaged' where region = 'lagoon-3'")
        with office.database.sessions.begin() as session:
            owner = make_account(session, "tide-core").id
            for subject in (f"{reference} in lagoon-3", f"{only} in skerry-1"):
                audit.raise_alert(session, owner, "replica-damaged", subject, "A pack is damaged.")
        assert client.drain_plan(reference, "skerry-1").blockers == [
            f"It is the last sound replica of {reference}. Retire and purge it instead."
        ]
        operation = client.drain(reference, "lagoon-3").id
        client.cancel(operation)
        office.work()
        assert {r.region: r.state for r in client.replicas(reference)}["lagoon-3"] == "damaged", "as it was"
        client.wait(client.drain(reference, "lagoon-3").id)
        assert [r.region for r in client.replicas(reference)] == ["skerry-1"]
        assert [alert.subject for alert in client.alerts()] == [f"{only} in skerry-1"]
        client.retire(only)
        client.wait(client.purge(only, waive_grace=True).id)
        assert client.alerts() == []


def test_a_drain_that_failed_is_not_retried_onto_the_last_replica(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    reference = office.version("both@1.0.0")
    with office.core as client:
        client.wait(client.replicate(reference, [{"region": "fjord-2", "copies": 0}])[0].id)
        with monkeypatch.context() as patch:

            def broken(*_: object) -> int:
                raise Damaged("The store is broken.")

            patch.setattr("bathotype.service.kinds.drain.collect_region", broken)
            failed = client.drain(reference, "fjord-2")
            with pytest.raises(OperationFailed, match="broken"):
                client.wait(failed.id)
        states = {r.region: r.state for r in client.replicas(reference)}
        assert states == {"skerry-1": "ready", "fjord-2": "ready"}, "it is there still"
        client.wait(client.drain(reference, "skerry-1").id)
        with pytest.raises(Refused, match="last sound replica"):
            client.retry(failed.id)
        client.wait(client.replicate(reference, [{"region": "skerry-1", "copies": 0}])[0].id)
        client.wait(client.retry(failed.id).id)
        assert [r.region for r in client.replicas(reference)] == ["skerry-1"]


def test_a_source_that_is_damaged_gives_way_to_the_next(office: Office) -> None:
    reference = office.version("two-homes@1.0.0")
    with office.core as client:
        client.wait(client.replicate(reference, [{"region": "lagoon-3", "copies": 0}])[0].id)
        office.damage("skerry-1", reference)  # the nearest to fjord-2
        done = client.wait(client.replicate(reference, [{"region": "fjord-2", "copies": 0}])[0].id)
        assert (done.result or {})["moved_bytes"] > 0
        states = {r.region: r.state for r in client.replicas(reference)}
        assert states == {"skerry-1": "damaged", "lagoon-3": "ready", "fjord-2": "ready"}
        client.wait(client.verify(reference, "skerry-1").id)
        assert {r.state for r in client.replicas(reference)} == {"ready"}


def test_scrubbing_comes_by_itself(office: Office) -> None:
    reference = office.version("scrubbed@1.0.0")
    office.upkeep("scrub")
    assert office.query("select count(*) from operations where kind = 'verify'") == [(0,)], "verified a moment ago"
    office.execute("update replicas set verified_at = now() - interval '90 days'")
    office.upkeep("scrub")
    office.upkeep("scrub")
    office.work()
    with office.core as client:
        assert [(o.kind, o.created_by, o.state) for o in client.operations() if o.kind == "verify"] == [
            ("verify", "scrub", "succeeded")
        ]
        assert client.replicas(reference)[0].verified_at is not None
    assert office.query("select verified_at > now() - interval '1 day' from replicas") == [(True,)]


def test_a_placement_is_kept_by_releases_upkeep_and_changes(office: Office) -> None:
    with office.core as client, office.client("chart-house") as other:
        client.create_line("placed")
        client.set_placement("placed", [{"region": "skerry-1"}, {"region": "fjord-2", "copies": 2}])
        reference = office.version("placed@1.0.0")
        office.work()
        places = lambda: {r.region: r.standing for r in client.replicas(reference) if r.state == "ready"}  # noqa: E731
        assert places() == {"skerry-1": 1, "fjord-2": 2}
        office.execute("update base_disks set state = 'removed' where region = 'fjord-2'")  # a zone lost them
        office.upkeep("placements")
        office.work()
        assert places() == {"skerry-1": 1, "fjord-2": 2}
        office.launched(reference, "stays", region="fjord-2")
        client.share(subject="placed", consumer="chart-house", regions=["fjord-2"])
        change = [{"region": "skerry-1"}, {"region": "lagoon-3"}]
        assert any("could not be renewed" in b for b in client.plan_placement("placed", change).blockers)
        with pytest.raises(Refused, match="could not be renewed"):
            client.set_placement("placed", change)
        client.act_on_instance("stays", "terminate")
        other.accept_share(other.shares("inbox")[0].id)
        with pytest.raises(Refused, match="share with chart-house is for fjord-2 only"):
            client.set_placement("placed", change)
        client.end_share(client.shares("given")[0].id)
        client.set_placement("placed", change)
        office.work()
        office.upkeep("placements")
        office.work()
        assert places() == {"skerry-1": 1, "lagoon-3": 1}
        with pytest.raises(Refused, match="placement of placed names lagoon-3"):
            client.drain(reference, "lagoon-3")
        client.set_placement("placed", [])
        client.wait(client.drain(reference, "lagoon-3").id)
        with pytest.raises(Refused, match="last sound replica"):
            client.drain(reference, "skerry-1")
        assert list(office.store("lagoon-3").packs()) == []


def test_an_old_version_leaves_a_region_in_which_a_newer_one_stays(office: Office) -> None:
    old, new = office.version("quay@1.0.0"), office.version("quay@1.1.0")
    fjord = [{"region": "fjord-2", "copies": 0}]
    with office.core as client, office.client("chart-house") as other:
        for reference in (old, new):
            client.wait(client.replicate(reference, fjord)[0].id)
        office.launched(old, "moored", region="fjord-2")
        share = other.accept_share(client.share(subject=old, consumer="chart-house", regions=["fjord-2"]).id)
        assert client.drain_plan(new, "fjord-2").blockers == [], (
            "what is shared, and what runs, has the other one there"
        )
        [blocker] = client.drain_plan(old, "fjord-2").blockers
        assert "share with chart-house is for fjord-2 only" in blocker
        client.end_share(share.id)
        assert not client.drain_plan(old, "fjord-2").blockers, "what runs can be renewed with the other one"
        client.wait(client.drain(old, "fjord-2").id)
        [blocker] = client.drain_plan(new, "fjord-2").blockers
        assert "1 instance of quay in fjord-2 could not be renewed there" in blocker
        client.act_on_instance("moored", "terminate")
        assert not client.drain_plan(new, "fjord-2").blockers


def test_launches_take_the_least_busy_copy_of_their_zone(office: Office) -> None:
    reference = office.version("busy@1.0.0")
    with office.core as client:
        client.wait(client.replicate(reference, [{"region": "skerry-1", "copies": 2, "multi_zone": True}])[0].id)
        client.wait(client.launch(reference=reference, region="skerry-1", zone="skerry-1b", name="in-b").id)
        client.wait(client.launch(reference=reference, region="skerry-1", count=8, name="spread-{n}").id)
    made = {m.name: m for m in office.site().machines("skerry-1")}
    base = dict(office.query("select site_disk, zone from base_disks where state = 'ready'"))
    assert base[made["in-b"].created_from] == "skerry-1b" == made["in-b"].zone
    assert {made[f"spread-{n}"].created_from for n in range(1, 9)} == set(base), "both copies are used"
    assert office.query("select sum(launching) from base_disks") == [(0,)]


def test_a_purge_keeps_what_a_transfer_beside_it_needs(office: Office) -> None:
    content = secrets.token_bytes(2_000_000)
    first, second = office.version("beside@1.0.0", data=content), office.version("beside@1.1.0", data=content + b"x")
    with office.core as client:
        client.wait(client.replicate(first, [{"region": "fjord-2", "copies": 0}])[0].id)
        client.retire(first)
        began = [
            client.replicate(second, [{"region": "fjord-2", "copies": 0}])[0].id,
            client.purge(first, waive_grace=True).id,
        ]
        threads = [threading.Thread(target=office.runner.run, args=(o,)) for o in began]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert [client.wait(o).state for o in began] == ["succeeded", "succeeded"]
        for region in ("skerry-1", "fjord-2"):
            assert (client.wait(client.verify(second, region).id).result or {})["healed"] == 0
