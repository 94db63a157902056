"""Plans, changes of many instances at once, and changes that are meant for what was seen."""

from __future__ import annotations

from datetime import timedelta

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import ChangedMeanwhile, Refused
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.rules import LaunchRule
from bathotype.service.records.base import utcnow
from bathotype.wire.fleet import InstanceFilter
from tests.office import Office

OLD = InstanceFilter(version="gauge", behind=True)


@pytest.fixture
def fleet(office: Office) -> Office:
    for number in ("1.0.0", "1.1.0"):
        office.version(f"gauge@{number}")
    office.launched("gauge@1.0.0", "pier-1", "pier-2", "pier-3")
    office.launched("gauge@1.1.0", "quay-1")
    return office


def test_many_instances_are_changed_as_planned_and_no_others(fleet: Office) -> None:
    with fleet.core as client:
        client.act_on_instance("pier-3", "stop")
        plan = client.plan_instance_change("stop", where=OLD)
        assert (plan.count, plan.names, plan.blockers) == (2, ["pier-1", "pier-2"], [])
        assert plan.warnings == ["1 instance is stopped already."]
        assert client.instance("pier-1").state == "running", "a plan changes nothing"
        fleet.launched("gauge@1.0.0", "pier-4")
        with pytest.raises(Refused, match="it would stop 3 instances now") as caught:
            client.change_instances("stop", where=OLD, selection=plan.selection)
        assert caught.value.code == "changed-meanwhile"
        plan = client.plan_instance_change("stop", where=OLD)
        started = client.change_instances("stop", where=OLD, selection=plan.selection, key="once")
        assert client.change_instances("stop", where=OLD, selection=plan.selection, key="once").id == started.id
        done = client.wait(started.id)
        assert (done.kind, done.subject, done.result) == (
            "change-instances", "stop 3 instances", {"verb": "stop", "instances": 3},
        )  # fmt: skip
        assert {i.name for i in client.instances(state=["stopped"])} == {"pier-1", "pier-2", "pier-3", "pier-4"}
        assert client.instance("quay-1").state == "running"
        site = fleet.site()
        assert {m.name for m in site.machines("skerry-1") if m.state == "stopped"} >= {"pier-1", "pier-4"}
        ends = client.plan_instance_change("terminate", instances=["quay-1", "pier-1"])
        assert ends.warnings == ["1 of them runs the newest release of the line."] and ends.regions == {"skerry-1": 2}
        client.wait(client.change_instances("terminate", instances=["quay-1", "pier-1", "pier-1"]).id)
        assert site.machine_named("skerry-1", "quay-1") is None
        with pytest.raises(Refused, match="nothing to start: no instance among these is stopped"):
            client.change_instances("start", instances=["quay-1"])
        with pytest.raises(Refused, match="No instance fits"):
            client.change_instances("stop", where=InstanceFilter(find="nothing-like-it"))
        actions = [e.action for e in client.events(subject="pier-2")]
        assert actions[0] == "instance.stopped"


def test_what_cannot_be_changed_is_named_and_left_for_a_retry(fleet: Office) -> None:
    with fleet.core as client:
        started = client.change_instances("stop", instances=["pier-1", "pier-2", "quay-1"])
        client.act_on_instance("pier-2", "terminate")  # meanwhile
        fleet.cloud.out.add("skerry-1")
        with pytest.raises(OperationFailed, match="2 of 3 instances are not stopped: pier-1, quay-1"):
            client.wait(started.id)
        assert any("skerry-1 is out" in line.text for line in client.operation_log(started.id))
        fleet.cloud.out.clear()
        client.wait(client.retry(started.id).id)
        assert [client.instance(n).state for n in ("pier-1", "pier-2", "quay-1")] == [
            "stopped",
            "terminated",
            "stopped",
        ]


def test_only_ones_own_instances_are_chosen(fleet: Office) -> None:
    fleet.shared("gauge")
    fleet.launched("tide-core/gauge@1.1.0", "watch-1", account="harbour-watch")
    with fleet.core as client, fleet.client("harbour-watch") as other:
        theirs = other.instance("watch-1").id
        with pytest.raises(Exception, match=f"no instance '{theirs}'"):
            client.change_instances("terminate", instances=[theirs])
        assert client.plan_instance_change("stop", where=InstanceFilter()).count == 4
        assert other.plan_instance_change("stop", where=InstanceFilter()).count == 1
    http = fleet.http()
    for body in ({"verb": "stop"}, {"verb": "stop", "instances": []}, {"verb": "melt", "where": {}}):
        assert http.post("/instance-changes", json=body).status_code == 422


def test_every_verb_has_a_plan_of_one_shape(fleet: Office) -> None:
    with fleet.core as client:
        client.set_mark("gauge", "stable", "1.1.0")
        day = (utcnow() + timedelta(days=9)).date()
        plans = [
            client.sunset_plan("gauge@1.1.0", retire_on=day),
            client.retirement_plan("gauge@1.1.0"),
            client.purge_plan("gauge@1.1.0"),
            client.drain_plan("gauge@1.1.0", "skerry-1"),
            client.plan_launch(reference="gauge", region="skerry-1"),
            client.plan_replication("gauge@1.1.0", [{"region": "fjord-2", "copies": 2}]),
            client.plan_placement("gauge", [{"region": "fjord-2", "copies": 1}]),
            client.plan_edit(
                reference="gauge@1.1.0", bump="patch",
                steps=[{"id": "motd", "do": "put-file", "path": "/etc/motd", "content": "Halvane\n"}],
            ),
            client.inspect("quay-1"),
            client.plan_instance_change("stop", instances=["quay-1"]),
        ]  # fmt: skip
        assert [plan.verb for plan in plans] == [
            "sunset", "retire", "purge", "drain", "launch", "replicate", "placement", "edit", "capture", "stop",
        ]  # fmt: skip
        possible = {plan.verb: not plan.blockers for plan in plans}
        assert possible == {
            "sunset": True, "retire": False, "purge": False, "drain": False, "launch": True, "replicate": True,
            "placement": False, "edit": False, "capture": possible["capture"], "stop": True,
        }  # fmt: skip
        assert "no ext4 file system" in plans[7].blockers[0], "its disk is noise"
        assert all(plan.subject for plan in plans)
        assert all(plan.effects for plan in plans if not plan.blockers)
        assert f"It is retired on {day}" in plans[0].effects[-1]
        past = client.sunset_plan("gauge@1.1.0", retire_on=utcnow().date())
        assert "not in the future" in past.blockers[0] and not past.effects
        client.sunset("gauge@1.1.0", retire_on=day)
        assert client.sunset_plan("gauge@1.1.0").blockers == ["gauge@1.1.0 is in sunset already."]


def test_a_change_is_refused_where_somebody_else_was_faster(fleet: Office) -> None:
    with fleet.core as client:
        seen = client.set_rule(LaunchRule(name="north", regions=["skerry-1"]))
        other = client.set_rule(LaunchRule(name="north", regions=["skerry-1", "fjord-2"]), revision=seen.revision)
        assert other.revision != seen.revision
        with pytest.raises(ChangedMeanwhile, match="The rule north was changed by somebody else"):
            client.set_rule(LaunchRule(name="north", regions=["lagoon-3"]), revision=seen.revision)
        assert (
            client.rules()[0].rule.regions == ["skerry-1", "fjord-2"] and client.rules()[0].revision == other.revision
        )
        mark = client.set_mark("gauge", "stable", "1.0.0")
        client.set_mark("gauge", "stable", "1.1.0")
        with pytest.raises(ChangedMeanwhile):
            client.set_mark("gauge", "stable", "1.0.0", revision=mark.revision)
        version = client.version("gauge@1.1.0")
        client.change("gauge@1.1.0", notes="For the piers.", revision=version.revision)
        with pytest.raises(ChangedMeanwhile):
            client.change("gauge@1.1.0", pin_only=True, revision=version.revision)
        kept = client.save_first_boot("piers", FirstBoot(domain="tide.example"))
        with pytest.raises(ChangedMeanwhile):
            client.save_first_boot("piers", FirstBoot(), revision="0" * 16)
        used = client.set_allowance("all", kind="account", most=9)
        fleet.launched("gauge@1.1.0", "quay-2")
        assert client.set_allowance("all", kind="account", most=9, revision=used.revision).used == used.used + 1
        placed = client.placement("gauge")
        client.set_placement("gauge", [{"region": "skerry-1", "copies": 1}], revision=placed.revision)
        with pytest.raises(ChangedMeanwhile):
            client.set_placement("gauge", [], revision=placed.revision)
    http = fleet.http()
    answer = http.get("/first-boot/piers")
    assert answer.headers["ETag"] == f'"{kept.revision}"'
    assert http.get("/versions/gauge@1.1.0").headers["ETag"] == f'"{http.get("/versions/gauge").json()["revision"]}"'
    fresh = {"If-None-Match": "*"}
    assert http.put("/first-boot/piers", json={}, headers=fresh).status_code == 412
    assert http.put("/first-boot/jetty", json={}, headers=fresh).status_code == 200
    assert http.put("/first-boot/none", json={}, headers={"If-Match": "*"}).status_code == 412
    assert http.delete("/first-boot/jetty", headers={"If-Match": '"0"'}).status_code == 412
    assert http.delete("/first-boot/jetty", headers={"If-Match": '"0", *'}).status_code == 204
