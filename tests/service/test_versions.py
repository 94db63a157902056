"""Versions: what a name means, marks, what a launch is refused for, holds, and the way to the end."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta

import pytest

from bathotype.core.errors import Invalid, NotFound, Refused
from bathotype.core.generalize.residue import Finding
from tests.office import Office

HIGH = Finding("private-key-1", "private-key", "high", "/root/id", 1, "-----BEGIN", "Remove it.")


def test_a_pin_only_version_is_launched_only_by_name(office: Office) -> None:
    first, second = office.version("pinned@1.0.0"), office.version("pinned@1.1.0")
    with office.core as client:
        client.change(second, pin_only=True, notes="only for the harbour")
        assert client.resolve("pinned").reference == f"tide-core/{first}"
        assert client.plan_launch(reference=second, region="skerry-1").blockers == []
        client.change(first, pin_only=True)
        with pytest.raises(NotFound, match="is pin-only: name one exactly"):
            client.resolve("pinned")
        client.change(first, pin_only=False)
        client.set_mark("pinned", "stable", "1.1.0")
        marked = client.plan_launch(reference="pinned@stable", region="skerry-1")
        assert any("pin-only" in b for b in marked.blockers), "a mark is not an exact name"


def test_a_line_that_was_a_mistake_is_described_and_removed(office: Office) -> None:
    with office.core as client, office.client("chart-house") as other:
        client.create_line("gage", about="Reads gages.")
        assert client.describe_line("gage", "Reads tide gauges.").about == "Reads tide gauges."
        client.describe_line("gage", "Reads tide gauges.")
        [event] = client.events(action="line.described")
        assert (event.before, event.after) == ({"about": "Reads gages."}, {"about": "Reads tide gauges."})
        client.set_placement("gage", [{"region": "fjord-2", "copies": 0}])
        client.set_allowance("few", kind="line", line="gage", most=3)
        share = client.share(subject="gage", consumer="chart-house")
        with pytest.raises(NotFound, match="no line 'gage'"):
            other.drop_line("gage")
        with pytest.raises(Refused, match=r"It is shared with 1 account\. 1 allowance counts it\.") as refused:
            client.drop_line("gage")
        assert "bathotype shares list" in refused.value.advice
        other.decline_share(share.id)
        client.drop_allowance("few")
        client.drop_line("gage")
        with pytest.raises(NotFound, match="no line 'gage'"):
            client.line("gage")
        assert [e.before for e in client.events(action="line.dropped")] == [{"about": "Reads tide gauges."}]
        assert client.create_line("gage").versions == 0, "the name is free again"
        client.retire(office.version("gage@1.0.0", release=False))
        client.wait(client.purge("gage@1.0.0", waive_grace=True).id)
        with pytest.raises(Refused, match=r"gage has 1 version, whose records are kept\."):
            client.drop_line("gage")


def test_of_two_that_remove_a_line_at_once_one_finds_none(office: Office) -> None:
    office.core.create_line("gage")
    gate = threading.Barrier(2)

    def drop(_: int) -> int:
        http = office.http()
        gate.wait()
        return http.delete("/lines/gage").status_code

    with ThreadPoolExecutor(2) as at_once:
        assert sorted(at_once.map(drop, range(2))) == [204, 404]


def test_a_line_stays_while_a_version_of_it_is_made_or_a_sheet_makes_them(office: Office) -> None:
    base = office.version("gauge@1.0.0")
    sheet = f"sheet: piers\nbase: {base}\nsteps: [{{id: a, do: restart}}]\nresult: {{line: pier}}\n"
    with office.core as client:
        client.create_line("pier")
        client.save_sheet("piers", sheet)
        making = client.build(sheet)
        with pytest.raises(Refused, match=r"1 version of it is being made\. 1 saved sheet makes versions of it\."):
            client.drop_line("pier")
        client.cancel(making.id)
        client.drop_sheet("piers")
        office.work()
        client.drop_line("pier")


def test_marks_move_and_remember(office: Office) -> None:
    office.version("marked@1.0.0")
    staged = office.version("marked@1.1.0", release=False)
    with office.core as client:
        client.set_mark("marked", "stable", "1.0.0")
        with pytest.raises(Refused, match="released versions only"):
            client.set_mark("marked", "stable", "1.1.0")
        client.release(staged)
        mark = client.set_mark("marked", "stable", "1.1.0")
        assert [m.number for m in mark.history] == ["1.1.0", "1.0.0"]
        assert client.version("marked@stable").number == "1.1.0"
        with pytest.raises(NotFound, match=r"no mark 'unheard-of' \(it has: stable\)"):
            client.version("marked@unheard-of")


def test_every_reason_against_a_launch_is_told_at_once(office: Office) -> None:
    reference = office.version("choosy@1.0.0")
    with office.core as client:
        office.cloud.most_machines = 100
        plan = client.plan_launch(
            reference=reference, region="skerry-1", zone="atlantis-1", machine_size="vast", count=500
        )
        told = " ".join(plan.blockers)
        for reason in ("no zone atlantis-1", "skerry-1a, skerry-1b", "no machine size 'vast'", "small, medium, large",
                       "quota (0 of 100 in use)"):  # fmt: skip
            assert reason in told, reason
        elsewhere = client.plan_launch(reference=reference, region="fjord-2")
        assert any("is not in fjord-2" in b and "skerry-1" in b for b in elsewhere.blockers), "where it would work"
        with pytest.raises(NotFound, match="no saved first-boot settings 'none'"):
            client.launch(reference=reference, region="skerry-1", first_boot="none")
        with pytest.raises(Invalid, match="not a host name"):
            client.launch(reference=reference, region="skerry-1", name="Quay_1")
        office.cloud.out.add("skerry-1")
        out = client.plan_launch(reference=reference, region="skerry-1")
        assert any("Region skerry-1 is out" in b and "replicate it" in b for b in out.blockers)
        assert list(client.instances(version=reference)) == []


def test_a_line_can_demand_that_more_is_accepted(office: Office) -> None:
    medium = Finding("name-1", "source-host-name", "medium", "/etc/hosts", 1, "gauge", "Remove it.")
    low = Finding("log-1", "log", "low", "/var/log/x", 1, "x", "Remove it.")
    first = office.version("gauge@1.0.0", findings=(medium, low))
    with office.core as client:
        assert client.version(first).findings.blocking == 0, "by default high ones alone"
        assert client.demand("gauge", "medium").demands == "medium"
        second = office.version("gauge@1.1.0", findings=(medium, low), release=False)
        assert client.version(second).findings.blocking == 1
        with pytest.raises(Refused, match="1 open finding that its line demands to be accepted: name-1"):
            client.release(second)
        client.demand("gauge", "low")
        with pytest.raises(Refused, match="2 open findings"):
            client.release(second)
        for finding in (medium, low):
            client.accept(second, finding.id, "looked at")
        assert client.release(second).state == "released"
        told = [e.after for e in client.events(action="line.demands.changed")]
        assert [after["demands"] for after in told if after] == ["low", "medium"]


def test_findings_of_high_severity_forbid_a_release_until_each_is_accepted(office: Office) -> None:
    reference = office.version("found@1.0.0", release=False, findings=(HIGH,))
    with office.core as client:
        with pytest.raises(Refused, match=r"1 open finding of high severity: private-key-1"):
            client.release(reference)
        with pytest.raises(NotFound, match="no finding 'other'"):
            client.accept(reference, "other", "because")
        client.accept(reference, "private-key-1", "a test key without use")
        assert client.release(reference).state == "released"
        told = client.findings(reference)[0]
        assert (told.accepted_by, told.accepted_reason) == ("tide-core-demo", "a test key without use")


def test_from_sunset_to_purge(office: Office) -> None:
    old, new = office.version("farewell@1.0.0"), office.version("farewell@1.1.0")
    office.launched(old, "last-one")
    with office.core as client:
        client.set_mark("farewell", "stable", "1.0.0")
        client.hold(old, "audit", "kept for the audit")
        client.sunset(old, retire_on=date.today() + timedelta(days=9))
        assert any("sunset" in w for w in client.plan_launch(reference=old, region="skerry-1", name="x").warnings)
        with pytest.raises(Refused, match="mark stable"):
            client.retire(old)
        client.set_mark("farewell", "stable", "1.1.0")
        assert any("1 instance" in w for w in client.retirement_plan(old).warnings)
        client.retire(old)
        with pytest.raises(Refused, match="no new launches"):
            client.launch(reference=old, region="skerry-1", name="too-late")
        blockers = " ".join(client.purge_plan(old).blockers)
        assert "1 instance" in blockers and "'audit'" in blockers and "grace" in blockers
        client.act_on_instance("last-one", "terminate")
        client.lift_hold(old, "audit")
        office.upkeep("base-disks")
        assert office.query("select distinct state from base_disks") == [("removed",)]
        operation = client.purge(old, waive_grace=True)
        with pytest.raises(Refused, match="cannot be cancelled"):
            client.cancel(operation.id)
        assert (client.wait(operation.id).result or {})["freed_bytes"] > 0
        gone = client.version(old)
        assert gone.state == "purged" and gone.packages == 2 and gone.regions == []
        client.wait(client.verify(new, "skerry-1").id)
        history = [e.action for e in client.events(subject=old)]
        assert history[:2] == ["operation.succeeded", "version.purged"] and "version.released" in history
        assert client.event_chain().whole


def test_a_sunset_ends_on_its_date(office: Office) -> None:
    reference = office.version("evening@1.0.0")
    with office.core as client:
        with pytest.raises(Invalid, match="not in the future"):
            client.sunset(reference, retire_on=date.today())
        client.set_mark("evening", "stable", "1.0.0")
        client.sunset(reference, retire_on=date.today() + timedelta(days=1))
        office.upkeep("sunsets")
        assert client.version(reference).state == "sunset"
        office.execute("update versions set retire_on = current_date")
        office.upkeep("sunsets")
        assert client.version(reference).state == "retired"
        assert next(e for e in client.events(subject=reference) if e.action == "version.retired").actor == "bathotype"
        assert not client.marks("evening") and client.alerts()[0].subject == "evening@stable"
        office.version("evening@1.1.0")
        client.set_mark("evening", "stable", "1.1.0")
        assert not client.alerts()


def test_what_holds_a_package_and_how_versions_differ(office: Office) -> None:
    old = office.version("differs@1.0.0", data=bytes(70_000) + b"a" * 70_000)
    new = office.version("differs@1.1.0", data=bytes(70_000) + b"b" * 70_000)
    office.launched(new, "one", "two")
    with office.core as client:
        uses = {u.reference: (u.version, u.running) for u in client.versions_with_package("openssl")}
        assert uses == {old: ("3.0.15-1", 0), new: ("3.0.15-1", 2)}
        assert client.difference(old, new).changed_bytes == 2 * 65536
        counts = {c.reference: c.states for c in client.instance_counts(line="differs")}
        assert counts == {new: {"running": 2}}


def test_the_audit_trail_cannot_be_rewritten_and_tampering_is_found(office: Office) -> None:
    import psycopg

    office.version("trail@1.0.0")
    for statement in ("update events set actor = 'nobody'", "delete from events", "truncate events"):
        with pytest.raises(psycopg.errors.RaiseException, match="append-only"):
            office.execute(statement)
    with office.core as client:
        office.upkeep("trail")
        whole = client.event_chain()
        assert whole.whole and whole.kept_at and whole.end.startswith("blake3:")
        office.execute("alter table events disable trigger events_append_only")
        office.execute("create table aside as select * from events order by id desc limit 2")
        office.execute("delete from events where id in (select id from aside)")
        office.upkeep("trail")  # a shorter trail does not take the longer one's place
        cut = client.event_chain()
        assert not cut.whole and not cut.broken_at and f"had {whole.events} events" in cut.missing
        office.execute("delete from events where id > (select max(id) from aside)")  # that the check was made
        office.execute("insert into events overriding system value select * from aside order by id")
        assert client.event_chain().whole
        office.execute("update events set actor = 'somebody-else' where id = (select min(id) + 1 from events)")
        found = client.event_chain()
        assert not found.whole and found.broken_at


def test_a_mark_that_lost_its_version_is_an_alert_until_it_is_set_or_nobody_wants_it(office: Office) -> None:
    first = office.version("dated@1.0.0")
    office.version("dated@1.1.0")
    with office.core as client:
        for mark in ("stable", "quay"):
            client.set_mark("dated", mark, "1.0.0")
        client.sunset(first, retire_on=date(2099, 1, 1))
        office.execute("update versions set retire_on = current_date where state = 'sunset'")
        office.upkeep("sunsets")
        assert client.version(first).state == "retired"
        assert {alert.subject for alert in client.alerts()} == {"dated@stable", "dated@quay"}
        client.set_mark("dated", "stable", "1.1.0")
        [left] = client.alerts()
        client.acknowledge(left.id, reason="nobody launches the quay any more")
        assert client.alerts() == []
