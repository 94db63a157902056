"""Where instances attach: what is open is seen, what is not is not; rules and plans know it; throwaway machines are apart."""

from __future__ import annotations

from typing import Any

import httpx
import pytest

from bathotype.core.errors import Refused
from bathotype.core.lifecycle.networks import Attach
from bathotype.core.lifecycle.rules import LaunchRule
from tests.support import System

OUTSIDE, OFFICE = "203.0.113.7", "192.0.2.140"


@pytest.fixture(scope="module")
def version(system: System) -> str:
    return system.captured("attached", number="1.0.0")


def probe(system: System, machine: str, port: int, source: str = OUTSIDE) -> dict[str, Any]:
    """Try a connection at the site, as somebody at an address."""
    headers = {"Authorization": f"Bearer {system.secrets['site']['tide-core']}"}
    url = f"{system.site_url}/v1/machines/{machine}/probe"
    answer = httpx.post(url, json={"port": port, "source": source}, headers=headers, trust_env=False)
    answer.raise_for_status()
    found: dict[str, Any] = answer.json()
    return found


def test_a_page_is_seen_where_its_port_is_open_and_nowhere_else(system: System, version: str, cli: Any) -> None:
    listed = cli("regions", "networks", "skerry-1").stdout
    assert "firewall set\tweb\topens tcp 80 from 0.0.0.0/0" in listed and "2001:db8:5::10\tfree" in listed
    asked = (
        "--subnet",
        "office",
        "--address",
        "192.0.2.200",
        "--firewall",
        "web",
        "--firewall",
        "office-ssh",
        "--public",
    )
    planned = cli("launch", version, "--region", "skerry-1", "--name", "shown", *asked, "--plan")
    assert "open\ttcp 80 from 0.0.0.0/0 (web)" in planned.stdout and planned.returncode == 0
    assert cli("launch", version, "--region", "skerry-1", "--name", "shown", *asked).returncode == 0
    with system.core as client:
        client.wait(client.launch(reference=version, region="skerry-1", name="hidden").id)
        shown, hidden = client.instance("shown"), client.instance("hidden")
        assert (shown.address, shown.subnet, shown.firewalls) == ("192.0.2.200", "office", ["web", "office-ssh"])
        assert shown.public_address == "2001:db8:5::10" and hidden.public_address is None
        assert (hidden.subnet, hidden.firewalls) == ("quays", [])
        seen = probe(system, str(shown.machine_id), 80)
        assert seen["open"] and "gauge collector" in seen["page"]
        assert not probe(system, str(shown.machine_id), 22)["open"]
        assert probe(system, str(shown.machine_id), 22, OFFICE)["open"], "from the office alone"
        assert probe(system, str(hidden.machine_id), 80) == {"open": False, "page": None}
        client.act_on_instance("shown", "stop")
        assert not probe(system, str(shown.machine_id), 80)["open"], "a machine that is off shows nothing"
        for name in ("shown", "hidden"):
            client.act_on_instance(name, "terminate")
        assert all(a.machine is None for a in client.networks("skerry-1").public_addresses), "it is free again"


def test_what_cannot_be_attached_is_said_before(system: System, version: str) -> None:
    with system.core as client:
        wrong = Attach(subnet="nowhere", firewalls=["webb"], public_address="192.0.2.9")
        told = " ".join(client.plan_launch(reference=version, region="skerry-1", attach=wrong).blockers)
        for part in ("no subnet 'nowhere'", "no firewall set webb", "192.0.2.9 is not free"):
            assert part in told, part
        many = Attach(address="198.51.100.9", public_address=True)
        told = " ".join(
            client.plan_launch(reference=version, region="skerry-1", count=5, name="m-{n}", attach=many).blockers
        )
        for part in ("5 instances cannot all have", "outside of subnet quays", "5 public addresses would be needed; 4"):
            assert part in told, part
        taken = system.site().machine_named("skerry-1", "gauge-seed-01")
        assert taken is not None
        with pytest.raises(Exception, match="in use"):
            client.wait(
                client.launch(
                    reference=version, region="skerry-1", name="same", attach=Attach(address=taken.address)
                ).id
            )
        assert "nobody reaches it" in " ".join(
            client.plan_launch(reference=version, region="skerry-1", attach=Attach(public_address=True)).warnings
        )
        elsewhere = {"network": {"mode": "static", "addresses": ["198.51.100.9/24"]}}
        strange = client.plan_launch(
            reference=version, region="skerry-1", attach=Attach(subnet="quays"), first_boot=elsewhere
        )
        assert "198.51.100.9 is set at first boot, outside of subnet quays" in " ".join(strange.warnings)


def test_rules_judge_where_instances_attach(system: System, version: str) -> None:
    rule = LaunchRule(
        name="inside", applies_to="attached", subnets=["quays"], firewalls=["closed"], no_public_address=True
    )
    with system.core as client:
        client.set_rule(rule)
        try:
            outside = Attach(subnet="office", firewalls=["web"], public_address=True)
            with pytest.raises(Refused) as refused:
                client.launch(reference=version, region="skerry-1", attach=outside)
            for part in ("--subnet quays", "set web is not allowed", "a public address is not allowed"):
                assert part in str(refused.value), part
            assert (
                client.plan_launch(reference=version, region="skerry-1", attach=Attach(subnet="quays")).blockers == []
            )
        finally:
            client.drop_rule("inside")


def test_throwaway_machines_are_on_a_network_of_their_own(system: System) -> None:
    site, source = system.site(), system.site().machine_named("skerry-1", "gauge-seed-02")
    assert source is not None and source.boot_disk is not None
    tags = {"owner": "tide-office", "purpose": "test"}
    snapshot = site.snapshot(source.boot_disk.id, key="apart", name="apart", tags=tags)
    made = site.create_machine(
        key="apart-machine", name="apart", region="skerry-1", zone=None, machine_size="small", boot_disk=snapshot.id,
        isolated=True, attach=Attach(subnet="quays", firewalls=["web"], public_address=True), tags=tags,
    )  # fmt: skip
    try:
        site.power(made.id, "on")
        assert made.address.startswith("198.18.") and made.public_address is None and made.firewalls == ()
        assert not probe(system, made.id, 80)["open"]
    finally:
        site.delete_machine(made.id)
        site.delete_disk(snapshot.id)
