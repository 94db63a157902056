"""Launch rules and allowances on the running service."""

from __future__ import annotations

import threading
from datetime import date, timedelta
from typing import Any

import pytest

from bathotype.core.errors import Forbidden, Invalid, NotFound, Refused
from bathotype.core.lifecycle.rules import LaunchRule
from tests.support import System, until


@pytest.fixture(scope="module")
def version(system: System) -> str:
    """A released version of tide-core, shared with chart-house."""
    reference = system.captured("ruled", number="1.0.0")
    with system.core as client, system.client("chart-house") as other:
        other.accept_share(client.share(subject="ruled", consumer="chart-house").id)
    return reference


def test_a_refusal_names_each_rule_and_what_would_do(system: System, version: str, cli: Any, tmp_path: Any) -> None:
    sheet = tmp_path / "rules.yaml"
    sheet.write_text(
        "rules:\n"
        "- {name: only-released, released_only: true, signed: true}\n"
        "- {name: quays-only, applies_to: 'tide-core/*', regions: [fjord-2], tags: [berth]}\n"
        "- {name: clean, effect: warn, residue_clean: true}\n"
    )
    assert cli("rules", "set", str(sheet), account="chart-house").returncode == 0
    with system.client("chart-house") as other:
        try:
            with pytest.raises(Refused) as caught:
                other.launch(reference=f"tide-core/{version}", region="skerry-1", name="no")
            assert "quays-only" in str(caught.value) and "Launch in fjord-2." in str(caught.value)
            assert "--tag berth=VALUE" in str(caught.value) and "only-released" not in str(caught.value)
            told = cli("rules", "explain", f"tide-core/{version}", "--region", "skerry-1", account="chart-house")
            assert told.returncode == 4 and "only-released" in told.stdout and "pass" in told.stdout
            plan = other.plan_launch(reference=f"tide-core/{version}", region="skerry-1", name="no")
            assert {v.rule: v.outcome for v in plan.verdicts} == {
                "clean": "warn", "only-released": "pass", "quays-only": "refuse",
            } and any("clean" in w for w in plan.warnings)  # fmt: skip
            rule = next(r.rule for r in other.rules() if r.rule.name == "quays-only")
            exception = {"name": "trial", "subject": f"tide-core/{version}", "reason": "a trial", "until": date.today()}
            other.set_rule(LaunchRule.model_validate({**rule.model_dump(), "exceptions": [exception]}))
            done = other.wait(other.launch(reference=f"tide-core/{version}", region="skerry-1", name="excepted").id)
            assert done.state == "succeeded"
            late = {**exception, "until": date.today() - timedelta(days=1)}
            other.set_rule(LaunchRule.model_validate({**rule.model_dump(), "exceptions": [late]}))
            assert not other.explain(f"tide-core/{version}", "skerry-1", tag=["berth"]).admitted
            assert system.core.explain(version, "skerry-1", account="chart-house").verdicts == [], (
                "their rules are theirs"
            )
        finally:
            for name in ("only-released", "quays-only", "clean"):
                other.drop_rule(name)


def test_rules_for_all_are_the_hosts_to_set(system: System, version: str) -> None:
    rule = LaunchRule(name="nothing-old", no_older_than_days=1)
    with system.client("chart-house") as other, system.core as client:
        with pytest.raises(Forbidden, match="hosting account"):
            other.set_rule(rule, for_all=True)
        client.set_rule(rule, for_all=True)
        try:
            assert other.explain(f"tide-core/{version}", "skerry-1").admitted
            system.execute("update versions set released_at = now() - interval '9 days' where number = '1.0.0' and line_id "
                           "= (select id from lines where name = 'ruled')")  # fmt: skip
            with pytest.raises(Refused, match="released 9 days ago; 1 are allowed"):
                other.launch(reference=f"tide-core/{version}", region="skerry-1", name="old")
        finally:
            client.drop_rule("nothing-old", for_all=True)
    with pytest.raises(NotFound):
        system.core.drop_rule("nothing-old", for_all=True)


def test_what_somebody_starts_at_the_site_against_the_rules_is_reported(system: System) -> None:
    reference = system.captured("past-rules", number="1.0.0")
    with system.core as client:
        client.wait(client.launch(reference=reference, region="skerry-1", name="by-the-book").id)
        client.set_rule(LaunchRule(name="not-here", applies_to="past-rules", regions=["fjord-2"]))
        made = system.site().machine_named("skerry-1", "by-the-book")
        assert made is not None and made.created_from is not None
        system.site().create_machine(
            key="past-rules", name="past-the-rules", region="skerry-1", zone=None, size="small",
            boot_disk=made.created_from, tags={"owner": "tide-core", "purpose": "trial"},
        )  # fmt: skip
        found = until(lambda: [a for a in client.alerts() if a.kind == "not-admitted"])
        assert found[0].subject == "past-the-rules" and "not-here" in found[0].text
        client.drop_rule("not-here")


def test_of_a_hundred_at_once_for_ten_places_exactly_ten_succeed(system: System) -> None:
    reference = system.captured("scarce", number="1.0.0")
    outcomes: list[str] = []
    gate = threading.Barrier(20)
    with system.core as client:
        client.set_allowance("scarce-licences", kind="pool", lines=["scarce"], most=10)
        with pytest.raises(Invalid):
            client.set_allowance("odd", kind="line", most=1)

    def launch(worker: int) -> None:
        with system.core as mine:
            gate.wait()
            for attempt in range(5):
                try:
                    mine.launch(reference=reference, region="skerry-1", name=f"scarce-{worker}-{attempt}")
                    outcomes.append("launched")
                except Refused as error:
                    assert "Allowance scarce-licences: 10 of 10 are in use" in str(error)
                    outcomes.append("refused")

    threads = [threading.Thread(target=launch, args=(n,)) for n in range(20)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert (outcomes.count("launched"), outcomes.count("refused")) == (10, 90)
    with system.core as client:
        until(lambda: len([i for i in client.instances(version="scarce") if i.state == "running"]) == 10, seconds=60)
        allowance = next(a for a in client.allowances() if a.name == "scarce-licences")
        assert (allowance.used, allowance.most) == (10, 10)
        names = [i.name for i in client.instances(version="scarce")]
        client.act_on_instance(names[0], "terminate")
        plan = client.plan_launch(reference=reference, region="skerry-1", name="again")
        assert (
            plan.blockers == []
            and [(a.used, a.most) for a in plan.allowances] == [(9, 10)]
            and "machines" in plan.quotas
        )
        with pytest.raises(Refused, match="1 more instance"):
            client.launch(reference=reference, region="skerry-1", count=2, name="two-{n}")
        for name in names[1:]:
            client.act_on_instance(name, "terminate")
        client.drop_allowance("scarce-licences")


def test_an_owner_limits_a_consumer(system: System, version: str) -> None:
    with system.core as client, system.client("chart-house") as other:
        client.set_allowance("charts", kind="line", line="ruled", consumer="chart-house", most=0)
        with pytest.raises(Refused, match="Allowance charts"):
            other.launch(reference=f"tide-core/{version}", region="skerry-1", name="over")
        assert [(a.account, a.most) for a in other.allowances()] == [("tide-core", 0)]
        assert client.plan_launch(reference=version, region="skerry-1", name="own").blockers == []
        client.drop_allowance("charts")
