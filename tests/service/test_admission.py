"""Launch rules and allowances: each refusal names the rule and what would satisfy it, and counts are exact."""

from __future__ import annotations

import threading
from datetime import date, timedelta

import pytest

from bathotype.core.errors import Forbidden, Invalid, NotFound, Refused
from bathotype.core.lifecycle.rules import LaunchRule
from tests.office import Office

RULES = (
    LaunchRule(name="only-released", released_only=True, signed=True),
    LaunchRule(name="quays-only", applies_to="tide-core/*", regions=["fjord-2"], tags=["berth"]),
    LaunchRule.model_validate({"name": "clean", "effect": "warn", "residue_clean": True}),
)


def test_a_refusal_names_each_rule_and_what_would_satisfy_it(office: Office) -> None:
    from tests.service.test_versions import HIGH

    version = office.version("ruled@1.0.0", release=False, findings=(HIGH,))
    with office.core as client:
        client.accept(version, HIGH.id, "a test")
        client.release(version)
    office.execute("update findings set accepted_by = null")
    office.shared("ruled", "chart-house")
    subject = f"tide-core/{version}"
    with office.client("chart-house") as other:
        for rule in RULES:
            other.set_rule(rule)
        with pytest.raises(Refused) as caught:
            other.launch(reference=subject, region="skerry-1", name="no")
        assert "quays-only" in str(caught.value) and "Launch in fjord-2." in str(caught.value)
        assert "--tag berth=VALUE" in str(caught.value) and "only-released" not in str(caught.value)
        plan = other.plan_launch(reference=subject, region="skerry-1", name="no")
        outcomes = {"clean": "warn", "only-released": "pass", "quays-only": "refuse"}
        assert {v.rule: v.outcome for v in plan.verdicts} == outcomes and any("clean" in w for w in plan.warnings)
        exception = {"name": "trial", "subject": subject, "reason": "a trial", "until": date.today()}
        other.set_rule(LaunchRule.model_validate({**RULES[1].model_dump(), "exceptions": [exception]}))
        other.wait(other.launch(reference=subject, region="skerry-1", name="excepted").id)
        late = {**exception, "until": date.today() - timedelta(days=1)}
        other.set_rule(LaunchRule.model_validate({**RULES[1].model_dump(), "exceptions": [late]}))
        assert not other.explain(subject, "skerry-1", tags=["berth"]).admitted
        with office.core as owner:
            assert owner.explain(version, "skerry-1", account="chart-house").verdicts == [], "their rules are theirs"


def test_rules_for_all_are_set_by_the_hosting_account(office: Office) -> None:
    version = office.version("aged@1.0.0")
    office.shared("aged", "chart-house")
    rule = LaunchRule(name="nothing-old", no_older_than_days=1)
    with office.client("chart-house") as other, office.core as client:
        with pytest.raises(Forbidden, match="hosting account"):
            other.set_rule(rule, for_all=True)
        client.set_rule(rule, for_all=True)
        assert other.explain(f"tide-core/{version}", "skerry-1").admitted
        office.execute("update versions set released_at = now() - interval '9 days'")
        with pytest.raises(Refused, match="released 9 days ago; 1 day is allowed"):
            other.launch(reference=f"tide-core/{version}", region="skerry-1", name="old")
        client.drop_rule("nothing-old", for_all=True)
        with pytest.raises(NotFound):
            client.drop_rule("nothing-old", for_all=True)


def test_of_a_hundred_at_once_for_ten_places_exactly_ten_succeed(office: Office) -> None:
    reference = office.version("scarce@1.0.0")
    outcomes: list[str] = []
    gate = threading.Barrier(20)
    with office.core as client:
        client.set_allowance("scarce-licences", kind="pool", lines=["scarce"], most=10)
        with pytest.raises(Invalid):
            client.set_allowance("odd", kind="line", most=1)

    def launch(caller: int) -> None:
        with office.core as mine:
            gate.wait()
            for attempt in range(5):
                try:
                    mine.launch(reference=reference, region="skerry-1", name=f"scarce-{caller}-{attempt}")
                    outcomes.append("launched")
                except Refused as error:
                    assert "Allowance scarce-licences: 10 of 10 in use" in str(error)
                    outcomes.append("refused")

    threads = [threading.Thread(target=launch, args=(n,)) for n in range(20)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert (outcomes.count("launched"), outcomes.count("refused")) == (10, 90)
    office.work()
    with office.core as client:
        [allowance] = client.allowances()
        assert (allowance.used, allowance.most) == (10, 10)
        names = [i.name for i in client.instances(version="scarce") if i.state == "running"]
        assert len(names) == 10
        client.act_on_instance(names[0], "terminate")
        plan = client.plan_launch(reference=reference, region="skerry-1", name="again")
        assert plan.blockers == [] and [(a.used, a.most) for a in plan.allowances] == [(9, 10)]
        with pytest.raises(Refused, match="1 more instance"):
            client.launch(reference=reference, region="skerry-1", count=2, name="two-{n}")


def test_an_owner_limits_a_consumer(office: Office) -> None:
    version = office.version("limited@1.0.0")
    office.shared("limited", "chart-house")
    with office.core as client, office.client("chart-house") as other:
        client.set_allowance("charts", kind="line", line="limited", consumer="chart-house", most=0)
        with pytest.raises(Refused, match="Allowance charts: 0 of 0 in use, so no more instances may run"):
            other.launch(reference=f"tide-core/{version}", region="skerry-1", name="over")
        assert [(a.account, a.most) for a in other.allowances()] == [("tide-core", 0)]
        assert client.plan_launch(reference=version, region="skerry-1", name="own").blockers == []


@pytest.mark.parametrize("account", ["tide-core", "chart-house"])
def test_a_rule_is_explained_for_the_version_that_a_reference_names(office: Office, account: str) -> None:
    from tests.service.test_versions import HIGH

    first = office.version("named@1.0.0", release=False, findings=(HIGH,))
    with office.core as owner:
        owner.accept(first, HIGH.id, "a test")
        owner.release(first)
        owner.set_mark("named", "kept", "1.0.0")
    office.execute("update findings set accepted_by = null")
    office.version("named@2.0.0")
    office.shared("named", "chart-house", regions=["skerry-1"])
    before = "" if account == "tide-core" else "tide-core/"
    with office.client(account) as client:
        client.set_rule(LaunchRule(name="clean", residue_clean=True))
        client.set_rule(LaunchRule(name="proven", checks_passed=["page"], effect="warn"))
        for named in ("named@1.0.0", "named@kept", "named@2.0.0", "named"):
            told = client.explain(f"{before}{named}", "skerry-1")
            plan = client.plan_launch(reference=f"{before}{named}", region="skerry-1", name="planned")
            whole = named in ("named@2.0.0", "named")
            assert told.reference == f"{before}named@{2 if whole else 1}.0.0"
            assert {v.rule: v.outcome for v in told.verdicts} == {
                "clean": "pass" if whole else "refuse",
                "proven": "warn",
            }
            assert told.verdicts == plan.verdicts, "a launch is judged as it is explained"
            assert told.admitted is whole
        elsewhere = client.explain(f"{before}named", "fjord-2")
        assert any("not shared for fjord-2" in blocker for blocker in elsewhere.blockers) is (account == "chart-house")
        with pytest.raises(NotFound):
            client.explain(f"{before}named@9.0.0", "skerry-1")
