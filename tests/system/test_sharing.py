"""Versions between accounts: proposed, accepted, used, ended, adopted, and signed all the way."""

from __future__ import annotations

import base64
import json
import threading
from datetime import date
from typing import Any

import httpx
import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import BathotypeError, Damaged, NotFound, Refused
from bathotype.core.signing.envelope import open_envelope
from tests.support import System, until


@pytest.fixture(scope="module")
def version(system: System) -> str:
    """A released version of tide-core in skerry-1 and fjord-2."""
    reference = system.captured("lent", number="1.0.0")
    with system.core as client:
        client.wait(client.replicate(reference, [{"region": "fjord-2", "copies": 1}])[0].id)
    return reference


def shared(system: System, subject: str, consumer: str = "harbour-watch", **options: Any) -> str:
    """An accepted share; returns its id."""
    with system.core as client, system.client(consumer) as other:
        made = client.share(subject=subject, consumer=consumer, **options)
        return other.accept_share(made.id).id


def test_make_in_one_account_use_in_another(system: System, version: str, cli: Any) -> None:
    done = cli("share", "lent", "--with", "harbour-watch", "--regions", "fjord-2", "--note", "for the quays", "--json")
    assert done.returncode == 0, done.stderr
    share = json.loads(done.stdout)["id"]
    with system.client("harbour-watch") as other, system.client("chart-house") as stranger, system.core as client:
        with pytest.raises(NotFound):
            other.version("tide-core/lent@1.0.0")  # proposed is not granted
        assert [s.note for s in other.shares("inbox") if s.id == share] == ["for the quays"]
        with pytest.raises(NotFound):
            stranger.accept_share(share)
        with pytest.raises(Refused):
            client.accept_share(share)
        accepted = cli("shares", "accept", share, account="harbour-watch")
        assert accepted.returncode == 0, accepted.stderr
        seen = other.version("tide-core/lent")
        assert (seen.reference, seen.regions, seen.packages) == ("tide-core/lent@1.0.0", ["fjord-2"], 58)
        assert seen.source == {} and seen.holds == [] and seen.findings.low + seen.findings.medium == 1
        assert other.resolve("tide-core/lent", region="fjord-2").base_disk
        with pytest.raises(NotFound):
            other.findings("tide-core/lent@1.0.0")  # numbers, not the findings themselves
        with pytest.raises(NotFound):
            stranger.version("tide-core/lent@1.0.0")
        with pytest.raises(Refused, match=r"not shared for skerry-1.*fjord-2|is in fjord-2"):
            other.launch(reference="tide-core/lent", region="skerry-1", name="wrong-place")
        launched = other.wait(other.launch(reference="tide-core/lent", region="fjord-2", count=2, name="berth-{n}").id)
        assert {i["state"] for i in (launched.result or {})["instances"]} == {"running"}
        assert {m.name for m in system.site("harbour-watch").machines("fjord-2")} >= {"berth-1", "berth-2"}
        assert other.instance("berth-1").reference == "tide-core/lent@1.0.0"
        # The owner is told numbers, and no names.
        counts = client.consumers("lent")
        assert [(c.account, c.version, c.region, c.running) for c in counts] == [
            ("harbour-watch", "1.0.0", "fjord-2", 2)
        ]
        told = cli("shares", "consumers", "lent", "--json").stdout + cli("instances", "list", "--json").stdout
        assert "berth" not in told
        # A later release is in the share; what is staged is not.
        system.captured("lent", number="1.1.0", release=False)
        assert [v.reference for v in other.shared_versions()] == ["tide-core/lent@1.0.0"]
        with pytest.raises(NotFound):
            other.version("tide-core/lent@1.1.0")
        client.release("lent@1.1.0")
        assert other.version("tide-core/lent").number == "1.1.0"
        # A sunset is told, and stands in the calendar.
        client.sunset("lent@1.0.0", retire_on=date(2030, 1, 1))
        due = other.calendar()
        assert [(d.reference, d.running, d.newest) for d in due] == [("tide-core/lent@1.0.0", 2, "1.1.0")]
        assert "2030-01-01" in str(due[0].notice) and client.calendar() == []
        assert any(e.action == "notice.sunset" for e in other.events(action="notice"))
        # Ended: no new launch at once, what runs is listed on both sides.
        ended = client.end_share(share)
        assert ended.state == "ended" and ended.running == 2
        with pytest.raises(NotFound):
            other.launch(reference="tide-core/lent@1.0.0", region="fjord-2", name="late")
        assert {i.name for i in other.instances(version="tide-core/lent")} == {"berth-1", "berth-2"}
        # The site refuses by itself, too: what was granted there is revoked.
        base = next(m for m in system.site("harbour-watch").machines("fjord-2") if m.name == "berth-1").created_from
        granted = """select count(*) from base_disks d join versions v on v.id = d.version_id
            join lines l on l.id = v.line_id where l.name = 'lent' and d.granted_to <> '[]'"""
        until(lambda: system.query(granted) == [(0,)])
        with pytest.raises(NotFound):
            system.site("harbour-watch").create_machine(
                key="late", name="late", region="fjord-2", zone=None, size="small", boot_disk=str(base),
                tags={"owner": "harbour-watch", "purpose": "none"},
            )  # fmt: skip
        for name in ("berth-1", "berth-2"):
            other.act_on_instance(name, "terminate")


def test_the_site_itself_refuses_what_was_never_granted(system: System, version: str) -> None:
    disk = system.query("select site_disk from base_disks where region = 'fjord-2' and state = 'ready' limit 1")[0][0]
    with pytest.raises(NotFound):
        system.site("chart-house").create_machine(
            key="x", name="thief", region="fjord-2", zone=None, size="small", boot_disk=disk,
            tags={"owner": "chart-house", "purpose": "none"},
        )  # fmt: skip


def test_a_share_that_ends_in_the_middle_of_a_launch(system: System) -> None:
    reference = system.captured("cut-short", number="1.0.0")
    share = shared(system, "cut-short")
    with system.client("harbour-watch") as other, system.core as client:
        system.fault("slow", target="/v1/machines", count=400, seconds=0.4)
        operation = other.launch(reference=f"tide-core/{reference}", region="skerry-1", count=12, name="half-{n}")
        until(lambda: system.query("select 1 from instances where state = 'starting' and name like 'half-%%'"))
        client.end_share(share)
        system.clear_faults()
        with pytest.raises(OperationFailed, match=r"share of tide-core/cut-short@1\.0\.0 has ended"):
            other.wait(operation.id)
        states = [i.state for i in other.instances(state=["running", "failed"]) if i.name.startswith("half-")]
        assert states.count("running") >= 1 and states.count("failed") >= 1 and len(states) == 12
        there = [m.name for m in system.site("harbour-watch").machines("skerry-1") if m.name.startswith("half-")]
        assert len(there) == states.count("running"), "nothing half-launched stays"


def test_a_share_past_its_last_day_grants_nothing_and_ends(system: System) -> None:
    reference = system.captured("dated", number="1.0.0")
    share = shared(system, reference, "chart-house", until=str(date.today()))
    with system.client("chart-house") as other:
        assert other.version(f"tide-core/{reference}").state == "released"
        system.execute("update shares set until = current_date - 1 where id = %s", share)
        with pytest.raises(NotFound):
            other.version(f"tide-core/{reference}")
        until(lambda: other.show_share(share).state == "ended")


def test_publishing_asks_and_reaches_every_account(system: System, cli: Any) -> None:
    reference = system.captured("public-gauge", number="1.0.0")
    refused = cli("share", "public-gauge", "--publish")
    assert refused.returncode == 4 and "every account" in refused.stderr
    with system.client("chart-house") as other, system.core as client:
        with pytest.raises(Refused, match="every account"):
            client.share(subject="public-gauge")
        with pytest.raises(NotFound):
            other.version(f"tide-core/{reference}")
        assert cli("share", "public-gauge", "--publish", "--yes").returncode == 0
        assert other.version(f"tide-core/{reference}").state == "released"
        client.end_share(next(s.id for s in client.shares("given") if s.consumer is None))


def test_an_adopted_version_outlives_its_origin_and_copies_no_chunk(system: System) -> None:
    reference = system.captured("given-away", number="1.0.0")
    shared(system, "given-away", "chart-house")
    packs = lambda: sorted(p.name for p in (system.data / "stores/skerry-1/packs").glob("*/*"))  # noqa: E731
    before = packs()
    with system.client("chart-house") as other, system.core as client:
        other.create_line("own-gauge")
        with pytest.raises(Refused):
            client.adopt(reference, line="given-away", number="9.0.0")
        done = other.wait(other.adopt(f"tide-core/{reference}", line="own-gauge", number="1.0.0").id)
        made = other.version(str((done.result or {})["reference"]))
        assert made.adopted_from == f"tide-core/{reference}" and made.sizes.new == 0 and packs() == before
        assert made.content_digest == client.version(reference).content_digest and made.packages == 58
        assert other.signature("own-gauge@1.0.0").holds
        client.retire(reference)
        assert f"tide-core/{reference}" in [v.reference for v in other.shared_versions()]
        client.wait(client.purge(reference, waive_grace=True).id)
        assert f"tide-core/{reference}" not in [v.reference for v in other.shared_versions()], "nothing of it is left"
        client.end_share(next(s.id for s in client.shares("given") if s.subject == "given-away"))
        other.release("own-gauge@1.0.0")
        other.wait(other.launch(reference="own-gauge", region="skerry-1", name="kept").id)
        other.wait(other.verify("own-gauge@1.0.0", "skerry-1").id)
        assert other.instance("kept").state == "running"


def test_what_was_changed_after_signing_is_blocked_everywhere(system: System) -> None:
    reference = system.captured("tampered", number="1.0.0")
    with system.core as client, system.client("harbour-watch") as other:
        proof = client.signature(reference)
        keys = {k.id: base64.b64decode(k.public) for k in other.keys("tide-core")}
        statement = open_envelope(proof.envelope, keys)
        assert statement["subject"][0]["digest"] == {"blake3": client.version(reference).content_digest[7:]}
        share = client.share(subject="tampered", consumer="harbour-watch").id
        number = client.version(reference).id
        digest = client.version(reference).content_digest
        system.execute("update versions set content_digest = %s where id = %s", "blake3:" + "0" * 64, number)
        assert not client.signature(reference).holds
        for attempt in (
            lambda: other.accept_share(share),
            lambda: client.launch(reference=reference, region="skerry-1", name="no"),
            lambda: client.wait(client.replicate(reference, [{"region": "fjord-2"}])[0].id),
        ):
            with pytest.raises((Refused, Damaged, OperationFailed, BathotypeError), match="not what was signed"):
                attempt()
        system.execute("update versions set content_digest = %s where id = %s", digest, number)
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
        system.execute("update account_keys set state = 'rotated' where id = %s", key)


def test_the_private_halves_are_encrypted(system: System) -> None:
    kept = system.query("select private from account_keys where state = 'active'")
    assert kept and all(row[0].startswith("gAAAA") for row in kept)
    assert (system.data / "bathotype.secret").stat().st_mode & 0o077 == 0


def test_two_stewards_propose_the_same_share_at_once(system: System, version: str) -> None:
    outcomes: list[str] = []
    gate = threading.Barrier(4)

    def propose() -> None:
        with system.core as client:
            gate.wait()
            try:
                outcomes.append(client.share(subject=version, consumer="chart-house").state)
            except Refused as error:
                outcomes.append(error.code)

    threads = [threading.Thread(target=propose) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes) == ["exists", "exists", "exists", "proposed"]
    with system.client("chart-house") as other:
        inbox = [s for s in other.shares("inbox") if s.subject == version]
        assert other.decline_share(inbox[0].id).state == "declined"
    # A repeated request gets the first answer.
    with system.core as client:
        first, again = (client.share(subject=version, consumer="chart-house", key="same") for _ in range(2))
        assert first.id == again.id
        client.end_share(first.id)


def test_exports_stay_with_the_owner(system: System, version: str) -> None:
    share = shared(system, version, "chart-house")
    headers = {"Authorization": f"Bearer {system.secrets['api']['chart-house']}"}
    for path in ("disk", "manifest", "findings", "holds", "replicas", "retirement"):
        answer = httpx.get(f"{system.url}/api/v1/versions/tide-core/{version}/{path}", headers=headers, trust_env=False)
        assert answer.status_code == 404, path
    with system.core as client:
        client.end_share(share)
