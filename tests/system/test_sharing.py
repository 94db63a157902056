"""Versions between accounts: proposed, accepted, used, ended, adopted, and signed all the way."""

from __future__ import annotations

import json
from datetime import date
from typing import Any

import pytest

from bathotype.core.errors import Forbidden, NotFound, Refused
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
        with pytest.raises(Forbidden):
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
                key="late", name="late", region="fjord-2", zone=None, machine_size="small", boot_disk=str(base),
                tags={"owner": "harbour-watch", "purpose": "none"},
            )  # fmt: skip
        for name in ("berth-1", "berth-2"):
            other.act_on_instance(name, "terminate")


def test_the_site_itself_refuses_what_was_never_granted(system: System, version: str) -> None:
    disk = system.query("select site_disk from base_disks where region = 'fjord-2' and state = 'ready' limit 1")[0][0]
    with pytest.raises(NotFound):
        system.site("chart-house").create_machine(
            key="x", name="thief", region="fjord-2", zone=None, machine_size="small", boot_disk=disk,
            tags={"owner": "chart-house", "purpose": "none"},
        )  # fmt: skip
