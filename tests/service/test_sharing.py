"""Shares between accounts: proposed, accepted, used, ended, adopted, and signed all the way."""

from __future__ import annotations

import base64
import threading
from datetime import date

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import BathotypeError, Damaged, Forbidden, NotFound, Refused
from bathotype.core.signing.envelope import open_envelope
from tests.office import Office

TAGS = {"owner": "harbour-watch", "purpose": "none"}


def test_a_share_is_proposed_accepted_used_and_ended(office: Office) -> None:
    reference = office.version("lent@1.0.0")
    with office.core as client, office.client("harbour-watch") as other, office.client("chart-house") as stranger:
        client.wait(client.replicate(reference, [{"region": "fjord-2", "copies": 1}])[0].id)
        share = client.share(subject="lent", consumer="harbour-watch", regions=["fjord-2"], note="for the quays").id
        with pytest.raises(NotFound):
            other.version("tide-core/lent@1.0.0")  # proposed is not granted
        assert [s.note for s in other.shares("inbox") if s.id == share] == ["for the quays"]
        with pytest.raises(NotFound):
            stranger.accept_share(share)
        with pytest.raises(Refused, match="Only harbour-watch can accept or decline this share"):
            client.accept_share(share)
        other.accept_share(share)
        seen = other.version("tide-core/lent")
        assert (seen.reference, seen.regions, seen.packages) == ("tide-core/lent@1.0.0", ["fjord-2"], 2)
        assert seen.source == {} and seen.holds == []
        assert other.resolve("tide-core/lent", region="fjord-2").base_disk
        for call in (other.findings, other.replicas, other.holds, other.retirement_plan):
            with pytest.raises(Forbidden, match="to be launched and looked at"):
                call("tide-core/lent@1.0.0")  # numbers, not the findings themselves
        with pytest.raises(NotFound):
            stranger.version("tide-core/lent@1.0.0")
        with pytest.raises(Refused, match="is not shared for skerry-1"):
            other.launch(reference="tide-core/lent", region="skerry-1", name="wrong-place")
        other.wait(other.launch(reference="tide-core/lent", region="fjord-2", count=2, name="berth-{n}").id)
        assert other.instance("berth-1").reference == "tide-core/lent@1.0.0"
        counts = client.consumers("lent")  # the owner is told numbers, and no names
        assert [(c.account, c.version, c.region, c.running) for c in counts] == [
            ("harbour-watch", "1.0.0", "fjord-2", 2)
        ]
        assert list(client.instances()) == []
        office.version("lent@1.1.0", release=False)
        assert [v.reference for v in other.shared_versions()] == ["tide-core/lent@1.0.0"], (
            "what is staged is not shared"
        )
        client.release("lent@1.1.0")
        assert other.version("tide-core/lent").number == "1.1.0"
        client.sunset("lent@1.0.0", retire_on=date(2030, 1, 1))
        [due] = other.calendar()
        assert (due.reference, due.running, due.newest) == ("tide-core/lent@1.0.0", 2, "1.1.0")
        assert "2030-01-01" in str(due.notice)
        assert client.calendar() == [], "the owner runs none of it"
        assert any(e.action == "notice.sunset" for e in other.events(action="notice"))
        client.release("lent@1.0.0")
        assert other.calendar() == [] and "released again" in str(next(iter(other.events(action="notice"))).after)
        client.sunset("lent@1.0.0", retire_on=date(2030, 1, 1))
        ended = client.end_share(share)
        assert (ended.state, ended.running) == ("ended", 2)
        with pytest.raises(NotFound):
            other.launch(reference="tide-core/lent@1.0.0", region="fjord-2", name="late")
        assert {i.name for i in other.instances(version="tide-core/lent")} == {"berth-1", "berth-2"}
        base = str(next(office.site("harbour-watch").machines("fjord-2")).created_from)
        office.upkeep("shares")
        with pytest.raises(NotFound):  # the site refuses by itself, too
            office.site("harbour-watch").create_machine(
                key="late", name="late", region="fjord-2", zone=None, machine_size="small", boot_disk=base, tags=TAGS
            )


def test_a_share_that_ends_in_the_middle_of_a_launch(office: Office) -> None:
    reference = office.version("cut-short@1.0.0")
    share = office.shared("cut-short")
    made: list[str] = []

    def on_create(name: str) -> None:
        made.append(name)
        if len(made) == 3:
            with office.core as owner:
                owner.end_share(share)

    office.cloud.on_create = on_create
    with office.client("harbour-watch") as other:
        operation = other.launch(reference=f"tide-core/{reference}", region="skerry-1", count=24, name="half-{n}")
        with pytest.raises(OperationFailed, match=r"share of tide-core/cut-short@1\.0\.0 has ended"):
            other.wait(operation.id)
        states = [i.state for i in other.instances(state=["running", "failed"])]
        assert states.count("running") >= 1 and states.count("failed") >= 1 and len(states) == 24
        there = list(office.site("harbour-watch").machines("skerry-1"))
        assert len(there) == states.count("running"), "nothing half-launched stays"


def test_a_share_past_its_last_day_grants_nothing_and_ends(office: Office) -> None:
    reference = office.version("dated@1.0.0")
    share = office.shared(reference, "chart-house", until=date.today())
    with office.client("chart-house") as other:
        assert other.version(f"tide-core/{reference}").state == "released"
        office.execute("update shares set until = current_date - 1")
        with pytest.raises(NotFound):
            other.version(f"tide-core/{reference}")
        office.upkeep("shares")
        assert other.show_share(share).state == "ended"


def test_what_a_share_for_fewer_regions_no_longer_grants_is_revoked_at_the_site(office: Office) -> None:
    reference = office.version("lent@1.0.0")
    with office.core as client, office.client("harbour-watch") as other:
        client.wait(client.replicate(reference, [{"region": "fjord-2", "copies": 1}])[0].id)
        first = office.shared("lent")
        for region in ("skerry-1", "fjord-2"):
            office.launched(f"tide-core/{reference}", f"berth-{region}", account="harbour-watch", region=region)
        client.end_share(first)
        office.shared("lent", regions=["fjord-2"])
        office.upkeep("shares")
        granted = dict(office.query("select region, granted_to from base_disks"))
        assert granted == {"skerry-1": [], "fjord-2": ["harbour-watch"]}
        assert [e.subject for e in client.events(action="share.ended")] == ["lent"]
        assert [e.subject for e in other.events(action="share.ended")] == ["tide-core/lent"]


def test_a_proposal_whose_last_day_is_over_can_be_declined_and_not_accepted(office: Office) -> None:
    office.version("lent@1.0.0")
    with office.core as client, office.client("harbour-watch") as other:
        share = client.share(subject="lent@1.0.0", consumer="harbour-watch", until=date.today()).id
        office.execute("update shares set until = until - 1")
        with pytest.raises(Refused, match="last day was"):
            other.accept_share(share)
        assert other.decline_share(share).state == "declined"
        assert [e.subject for e in other.events(action="share.declined")] == ["tide-core/lent@1.0.0"]


def test_publishing_must_be_confirmed_and_reaches_every_account(office: Office) -> None:
    reference = office.version("public-gauge@1.0.0")
    with office.client("chart-house") as other, office.core as client:
        with pytest.raises(Refused, match="every account"):
            client.share(subject="public-gauge")
        with pytest.raises(NotFound):
            other.version(f"tide-core/{reference}")
        made = client.share(subject="public-gauge", confirm_public=True)
        assert other.version(f"tide-core/{reference}").state == "released"
        with pytest.raises(NotFound):
            other.end_share(made.id)
        client.end_share(made.id)


def test_an_adopted_version_outlives_its_origin_and_copies_no_chunk(office: Office) -> None:
    reference = office.version("given-away@1.0.0")
    office.shared("given-away", "chart-house")
    packs = lambda: sorted(office.store("skerry-1").packs())  # noqa: E731
    before = packs()
    with office.client("chart-house") as other, office.core as client:
        other.create_line("own-gauge")
        with pytest.raises(Refused):
            client.adopt(reference, line="given-away", number="9.0.0")
        done = other.wait(other.adopt(f"tide-core/{reference}", line="own-gauge", number="1.0.0").id)
        made = other.version(str((done.result or {})["reference"]))
        assert made.adopted_from == f"tide-core/{reference}" and made.sizes.new == 0 and packs() == before
        assert made.content_digest == client.version(reference).content_digest and made.packages == 2
        assert made.profile is None and made.steps == [], "the owner's profile is the owner's"
        assert other.signature("own-gauge@1.0.0").holds
        client.retire(reference)
        client.wait(client.purge(reference, waive_grace=True).id)
        assert other.shared_versions() == [], "nothing of it is left"
        other.release("own-gauge@1.0.0")
        other.wait(other.launch(reference="own-gauge", region="skerry-1", name="kept").id)
        other.wait(other.verify("own-gauge@1.0.0", "skerry-1").id)
        assert other.instance("kept").state == "running"


def test_what_was_changed_after_signing_is_refused_everywhere(office: Office) -> None:
    reference = office.version("tampered@1.0.0")
    with office.core as client, office.client("harbour-watch") as other:
        proof = client.signature(reference)
        keys = {k.id: base64.b64decode(k.public) for k in other.keys("tide-core")}
        statement = open_envelope(proof.envelope, keys)
        told = statement["predicate"]["buildDefinition"]["externalParameters"]
        assert set(told) == {"mode", "source", "profile"} and set(told["source"]) == {"sha256"}, (
            "no machine, no address"
        )
        assert statement["subject"][0]["digest"] == {"blake3": client.version(reference).content_digest[7:]}
        share = client.share(subject="tampered", consumer="harbour-watch").id
        digest = client.version(reference).content_digest
        office.execute("update versions set content_digest = %s", "blake3:" + "0" * 64)
        assert not client.signature(reference).holds
        for attempt in (
            lambda: other.accept_share(share),
            lambda: client.launch(reference=reference, region="skerry-1", name="no"),
            lambda: client.wait(client.replicate(reference, [{"region": "fjord-2"}])[0].id),
        ):
            with pytest.raises((Refused, Damaged, OperationFailed, BathotypeError), match="not what was signed"):
                attempt()
        office.execute("update versions set content_digest = %s", digest)
        assert other.accept_share(share).state == "active"
        # A lost key: what it signed counts no more, until it is signed anew.
        key = client.keys("tide-core")[0].id
        with pytest.raises(Refused, match="key in use"):
            client.distrust_key(key)
        client.rotate_key()
        assert client.signature(reference).holds, "a rotated key's signatures stand"
        client.distrust_key(key)
        assert not client.signature(reference).holds
        with pytest.raises(Refused, match="which its owner does not have"):
            client.launch(reference=reference, region="skerry-1", name="no")
    kept = office.query("select private from account_keys where state = 'active'")
    assert kept and all(row[0].startswith("gAAAA") for row in kept), "the private halves are encrypted"


def test_of_several_equal_proposals_at_once_one_is_made(office: Office) -> None:
    reference = office.version("wanted@1.0.0")
    outcomes: list[str] = []
    gate = threading.Barrier(4)

    def propose() -> None:
        with office.core as client:
            gate.wait()
            try:
                outcomes.append(client.share(subject=reference, consumer="chart-house").state)
            except Refused as error:
                outcomes.append(error.code)

    threads = [threading.Thread(target=propose) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes) == ["exists", "exists", "exists", "proposed"]
    with office.client("chart-house") as other, office.core as client:
        assert other.decline_share(other.shares("inbox")[0].id).state == "declined"
        first, again = (client.share(subject=reference, consumer="chart-house", key="same") for _ in range(2))
        assert first.id == again.id, "a repeated request gets the first answer"


def test_exports_stay_with_the_owner(office: Office) -> None:
    reference = office.version("bytes@1.0.0")
    office.shared(reference, "chart-house")
    with office.http("chart-house") as http:
        for path in ("disk", "manifest", "findings", "holds", "replicas", "retirement"):
            answer = http.get(f"/versions/tide-core/{reference}/{path}")
            assert (answer.status_code, answer.json()["code"]) == (403, "forbidden"), path
