"""Instances: launched, failed, followed behind the service's back, and identities that occur twice."""

from __future__ import annotations

import re
import threading
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import Refused
from bathotype.core.lifecycle.rules import LaunchRule
from bathotype.service.database import Database
from bathotype.service.upkeep.instances import Follower
from bathotype.sites.protocol import SiteMachine
from tests.memorysite import MemorySite
from tests.office import Office

TAGS = {"owner": "tide-core", "purpose": "trial"}
STATIC = {"mode": "static", "addresses": ["192.0.2.77/24"], "gateway": "192.0.2.1"}


def test_one_bad_neighbour_costs_the_others_nothing(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    reference = office.version("gauge@1.0.0")
    with office.core as client:
        done = client.wait(client.launch(reference=reference, region="skerry-1", count=3, name="near-{n}").id)
        odd, mine, last = (client.instance(i["name"]) for i in (done.result or {})["instances"])
        machines, agent = MemorySite.machines, MemorySite.agent

        def odd_machines(site: MemorySite, region: str) -> Iterator[SiteMachine]:
            if (site._account, region) in (("chart-house", "skerry-1"), ("tide-core", "fjord-2")):
                raise KeyError("what no site should answer")
            return machines(site, region)

        def odd_agent(site: MemorySite, machine: str, *, timeout: float = 10.0) -> Any:
            if machine == odd.machine_id:
                raise RuntimeError("what no guest should answer")
            return agent(site, machine, timeout=timeout)

        monkeypatch.setattr(MemorySite, "machines", odd_machines)
        monkeypatch.setattr(MemorySite, "agent", odd_agent)
        office.execute("update instances set asked_at = null")
        office.site().power(str(mine.machine_id), "off")
        office.upkeep("instances")
        assert client.instance(mine.id).state == "stopped" and client.instance(last.id).state == "running"
        asked = dict(office.query("select name, asked_at is not null from instances"))
        assert asked == {odd.name: True, mine.name: False, last.name: True}


def test_what_a_clean_up_left_is_removed_later(office: Office) -> None:
    reference, site = office.version("gauge@1.0.0"), office.site()
    with office.core as client:
        done = client.wait(client.launch(reference=reference, region="skerry-1", name="kept-01").id)
        machine = site.machine(str(client.instance("kept-01").machine_id))
        base = str(machine.created_from)
        left = {**TAGS, "bathotype-operation": done.id}
        half = site.create_machine(
            key="half", name="half-01", region="skerry-1", zone=None, machine_size="small", boot_disk=base,
            tags={**left, "bathotype-instance": "in_that_failed"},
        )  # fmt: skip
        clone = site.create_machine(
            key="clone", name="clone", region="skerry-1", zone=None, machine_size="small", boot_disk=base, tags=left
        )
        site.create_disk("skerry-1", 4096, key="room", name="room", tags=left)
        office.cloud.out.add("skerry-1")
        office.upkeep("leftovers")  # fails, and is done again
        office.cloud.out.clear()
        office.upkeep("leftovers")
        there = {m.id for m in site.machines("skerry-1")}
        assert machine.id in there and not {half.id, clone.id} & there
        kept = {d.name for d in site.disks("skerry-1", tag=("bathotype-operation", done.id))}
        assert kept == {"kept-01-boot"} | {d.facts.name for d in office.cloud.disks.values() if d.facts.id == base}
        client.wait(client.launch(reference=reference, region="skerry-1", name="kept-02").id)


def test_each_instance_is_itself_and_is_followed(office: Office) -> None:
    reference = office.version("gauge@1.0.0")
    with office.core as client:
        done = client.wait(client.launch(reference=reference, region="skerry-1", count=4, name="drift-{n}").id)
        names = [i["name"] for i in (done.result or {})["instances"]]
        one, two, three, four = (client.instance(name) for name in names)
        identities = [i.identity for i in (one, two, three, four)]
        assert len({i["machine_id"] for i in identities}) == len({i["host_keys"][0] for i in identities}) == 4
        assert [i["host_name"] for i in identities] == names
        site = office.site()
        site.power(str(one.machine_id), "off")
        site.delete_machine(str(two.machine_id))
        site.rename(str(three.machine_id), "drift-3-renamed")
        base = site.machine(str(four.machine_id)).created_from
        site.create_machine(
            key="twin",
            name="twin-01",
            region="skerry-1",
            zone=None,
            machine_size="small",
            boot_disk=str(base),
            tags=TAGS,
        )
        office.upkeep("instances")
        assert client.instance(one.id).state == "stopped"
        assert (client.instance(two.id).state, client.instance(two.id).reason) == (
            "terminated", "It was deleted at the site.",
        )  # fmt: skip
        assert client.instance(three.id).name == "drift-3-renamed"
        assert [i.origin for i in client.instances(version=reference) if i.name == "twin-01"] == ["found"]
        (gone,) = client.alerts()
        assert (gone.kind, client.acknowledge(gone.id).cleared_at is not None) == ("deleted-at-site", True)
        office.cloud.out.add("skerry-1")
        office.upkeep("instances")
        assert client.instance(four.id).state == "lost"
        assert [a.kind for a in client.alerts()] == ["site-silent"]
        office.cloud.out.clear()
        office.upkeep("instances")
        assert client.instance(four.id).state == "running" and client.alerts() == []
        newer = office.version("gauge@2.0.0")
        behind = client.instance(four.id)
        assert (behind.behind, behind.newest) == (1, newer.split("@")[1])
        assert four.id in {i.id for i in client.instances(behind=True)}
        told = [e.action for e in client.events(subject="drift-4")]
        assert told == ["instance.running", "instance.lost", "instance.running"], "each change once"


def test_a_machine_of_an_operation_under_way_is_no_instance(office: Office) -> None:
    reference = office.version("brief@1.0.0")
    office.launched(reference, "brief-1")
    with office.core as client:
        operation = client.prove(reference)
        base = office.site().machine(str(client.instance("brief-1").machine_id)).created_from
        for name, tag in (("ours", operation.id), ("nobodys", "op-0-0")):
            office.site().create_machine(
                key=name, name=name, region="skerry-1", zone=None, machine_size="small", boot_disk=str(base),
                tags={**TAGS, "bathotype-operation": tag},
            )  # fmt: skip
        office.upkeep("instances")
        assert [i.name for i in client.instances(version=reference) if i.origin == "found"] == ["nobodys"]
        office.runner.run(operation.id)
        assert client.operation(operation.id).state == "succeeded", "a site in memory is enough to prove a version"


def test_one_identity_in_two_machines_is_an_alert_until_one_is_gone(office: Office) -> None:
    reference = office.version("twins@1.0.0", mode="as-is")
    office.launched(reference, "copy-1", "copy-2")
    with office.core as client:
        plan = client.plan_launch(reference=reference, region="skerry-1", name="x")
        assert any("keeps the identity of its source" in told for told in plan.warnings)
        one, two = (office.cloud.machines[str(client.instance(n).machine_id)] for n in ("copy-1", "copy-2"))
        two.guest.files["/etc/machine-id"] = one.guest.files["/etc/machine-id"]
        office.execute("update instances set asked_at = null")
        office.upkeep("instances")
        [alert] = client.alerts()
        assert alert.kind == "identity-twice" and "copy-1, copy-2 have the same machine id" in alert.text
        client.act_on_instance("copy-1", "terminate")
        assert client.alerts() == []


def test_a_launch_that_does_not_come_up_fails_with_the_console_and_is_retried(office: Office) -> None:
    reference = office.version("half@1.0.0")
    office.cloud.boots = False
    with office.core as client:
        operation = client.launch(reference=reference, region="skerry-1", name="half-1", wait_seconds=5)
        with pytest.raises(OperationFailed, match=r"(?s)The instance did not come up.*no bootable system") as caught:
            client.wait(operation.id)
        assert caught.value.code == "instances-failed"
        assert office.site().machine_named("skerry-1", "half-1") is None, "what failed is removed"
        office.cloud.boots = True
        client.retry(operation.id)
        client.wait(operation.id)
        assert client.instance("half-1").state == "running"
        assert list(client.operations(state="failed")) == []


def test_a_retry_is_refused_where_a_launch_would_be(office: Office) -> None:
    reference = office.version("ended@1.0.0")

    def full(name: str) -> None:
        raise Refused("The site is full.")

    office.cloud.on_create = full
    with office.core as client:
        operation = client.launch(reference=reference, region="skerry-1", name="ended-1")
        with pytest.raises(OperationFailed, match="The site is full"):
            client.wait(operation.id)
        client.retire(reference)
        with pytest.raises(Refused, match="takes no new launches"):
            client.retry(operation.id)


@pytest.mark.parametrize(
    ("meanwhile", "told"),
    [
        ({"name": "half-1"}, "The name half-1 is in use in skerry-1 by now."),
        ({"first_boot": {"network": STATIC}}, "The address 192.0.2.77 is in use in skerry-1 by now."),
        ({"rule": {"regions": ["fjord-2"]}}, "Rule new: region skerry-1 is not allowed."),
        ({"rule": {"subnets": ["office"]}}, "Rule new: subnet quays is not allowed."),
        ({"rule": {"subnets": ["quays"], "tags": ["owner"]}}, ""),
    ],
)
def test_a_retry_takes_nothing_that_others_have_by_now(office: Office, meanwhile: dict[str, Any], told: str) -> None:
    reference = office.version("half@1.0.0")
    office.cloud.boots = False
    with office.core as client:
        started = client.launch(
            reference=reference, region="skerry-1", name="half-1", wait_seconds=5, first_boot={"network": STATIC}
        )
        with pytest.raises(OperationFailed):
            client.wait(started.id)
        office.cloud.boots = True
        if rule := meanwhile.get("rule"):
            client.set_rule(LaunchRule(name="new", **rule))
        else:
            client.wait(
                client.launch(**{"reference": reference, "region": "skerry-1", "name": "other", **meanwhile}).id
            )
        if told:
            with pytest.raises(Refused, match=re.escape(told)):
                client.retry(started.id)
        else:
            client.wait(client.retry(started.id).id)
            assert client.instance("half-1").state == "running"


def test_of_two_launches_at_once_one_gets_the_name(office: Office) -> None:
    reference, gate = office.version("named@1.0.0"), threading.Barrier(6)
    outcomes: list[str] = []

    def launch() -> None:
        with office.core as mine:
            gate.wait()
            try:
                outcomes.append(mine.launch(reference=reference, region="skerry-1", name="only-one").state)
            except Refused as error:
                outcomes.append("in use" if "The name only-one is in use" in str(error) else str(error))

    threads = [threading.Thread(target=launch) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes) == ["in use"] * 5 + ["queued"]


def test_what_somebody_starts_at_the_site_against_the_rules_is_reported(office: Office) -> None:
    reference = office.version("past-rules@1.0.0")
    office.launched(reference, "by-the-book")
    with office.core as client:
        client.set_rule(LaunchRule(name="not-here", applies_to="past-rules", regions=["fjord-2"]))
        made = office.site().machine_named("skerry-1", "by-the-book")
        assert made is not None and made.created_from is not None
        office.site().create_machine(
            key="past", name="past-the-rules", region="skerry-1", zone=None, machine_size="small",
            boot_disk=made.created_from, tags=TAGS,
        )  # fmt: skip
        office.upkeep("instances")
        [alert] = client.alerts()
        assert (alert.kind, alert.subject) == (
            "not-admitted",
            "past-the-rules in skerry-1",
        ) and "not-here" in alert.text
        client.drop_rule("not-here")
        office.upkeep("instances")
        assert client.alerts() == [], "the rules admit it now"
        client.set_rule(LaunchRule(name="not-here", applies_to="past-rules", regions=["fjord-2"]))
        office.site().create_machine(
            key="again", name="again", region="skerry-1", zone=None, machine_size="small",
            boot_disk=made.created_from, tags=TAGS,
        )  # fmt: skip
        office.upkeep("instances")
        assert [alert.subject for alert in client.alerts()] == ["again in skerry-1"]
        machine = office.cloud.machines[str(client.instance("again").machine_id)]
        for name in ("harmless", "again"):
            machine.facts = replace(machine.facts, name=name)
            office.upkeep("instances")
            assert [alert.subject for alert in client.alerts()] == [f"{name} in skerry-1"], "another name is no excuse"
        client.act_on_instance("again", "terminate")
        assert client.alerts() == [], "it is gone"


def test_people_and_the_duty_do_not_get_in_each_others_way(office: Office) -> None:
    """Instances stopped, started and ended while two followers look at them without a pause."""
    reference, names = office.version("eyed@1.0.0"), [f"eyed-{n}" for n in range(1, 7)]
    office.launched(reference, *names)
    over, faults = threading.Event(), []
    account_id = office.query("select id from accounts where name = 'tide-core'")[0][0]
    database = Database(office.settings.database_url, pool_size=2)

    def look() -> None:
        while not over.is_set():
            try:
                Follower(database, account_id, "skerry-1").compare(iter(office.site().machines("skerry-1")))
            except Exception as error:  # whatever it is, it is one too many
                faults.append(error)

    def act(name: str) -> None:
        try:
            with office.core as mine:
                for verb in ("stop", "start", "stop", "terminate"):
                    mine.act_on_instance(name, verb)
        except Exception as error:
            faults.append(error)

    actors = [threading.Thread(target=act, args=(name,)) for name in names]
    lookers = [threading.Thread(target=look) for _ in range(2)]
    for thread in (*lookers, *actors):
        thread.start()
    for thread in actors:
        thread.join(120)
    over.set()
    for thread in lookers:
        thread.join(60)
    database.close()
    assert faults == []
    with office.core as client:
        for name in names:
            told = [e.action.partition(".")[2] for e in client.events(subject=name)]
            assert told == ["terminated", "stopped", "running", "stopped", "running"], "each once, and none made up"
        assert client.event_chain().whole


def test_of_a_launch_racing_a_retirement_one_comes_first(office: Office) -> None:
    for number in range(4):
        reference = office.version(f"race-{number}@1.0.0")
        outcome: list[str] = []

        def launch(reference: str = reference, number: int = number, outcome: list[str] = outcome) -> None:
            with office.core as client:
                try:
                    outcome.append(client.launch(reference=reference, region="skerry-1", name=f"racer-{number}").id)
                except Refused as error:
                    outcome.append(str(error))

        thread = threading.Thread(target=launch)
        thread.start()
        with office.core as client:
            client.retire(reference)
            thread.join()
            if outcome[0].startswith("op-"):  # it was recorded first: it goes through
                client.wait(outcome[0])
                assert client.instance(f"racer-{number}").state == "running"
            else:
                assert "no new launches" in outcome[0] and list(client.instances(version=reference)) == []


def test_a_name_that_the_site_has_already_is_not_launched(office: Office) -> None:
    reference, site = office.version("gauge@1.0.0"), office.site()
    with office.core as client:
        client.wait(client.launch(reference=reference, region="skerry-1", name="first").id)
        base = str(site.machine(str(client.instance("first").machine_id)).created_from)
        site.create_machine(
            key="other", name="near-17", region="skerry-1", zone=None, machine_size="small", boot_disk=base, tags=TAGS
        )
        for count in (17, 20):
            with pytest.raises(Refused, match="have these names: near-17"):
                client.launch(reference=reference, region="skerry-1", name="near-{n}", count=count)
        assert client.plan_launch(reference=reference, region="skerry-1", name="near-17").blockers
        client.wait(client.launch(reference=reference, region="skerry-1", name="near-{n}", count=2).id)
