"""What is wrong with first-boot settings, and what a guest did not make of them: each said once, with what to do."""

from __future__ import annotations

import base64
import struct

import pytest

from bathotype.core.firstboot.checks import Seen, differences, faults
from bathotype.core.firstboot.settings import FirstBoot

BLOB = struct.pack(">I", 11) + b"ssh-ed25519" + struct.pack(">I", 32) + bytes(range(32))
KEY = f"ssh-ed25519 {base64.b64encode(BLOB).decode()} orla@tide.example"
SHORT = f"ssh-ed25519 {base64.b64encode(BLOB[:-4]).decode()}"
OTHER_KIND = f"ssh-rsa {base64.b64encode(BLOB).decode()}"


@pytest.mark.parametrize(
    ("settings", "count", "said"),
    [
        ({}, 5, []),
        ({"time_zone": "Etc/UTC", "ssh_public_keys": [KEY], "users": [{"name": "orla"}]}, 1, []),
        ({"network": {"mode": "static", "pool": ["192.0.2.10-192.0.2.12/24"], "gateway": "192.0.2.1"}}, 3, []),
        ({"network": {"addresses": ["192.0.2.7/24"]}}, 1, ["mode is dhcp. Give mode: static."]),
        ({"network": {"mode": "static"}}, 1, ["no address is given"]),
        (
            {"network": {"mode": "static", "addresses": ["192.0.2.7/24"], "pool": ["192.0.2.8/24"]}}, 1,
            ["Give one of them."],
        ),
        ({"network": {"mode": "static", "addresses": ["192.0.2.7/24"]}}, 2, ["Give a `pool`"]),
        ({"network": {"mode": "static", "pool": ["192.0.2.10-192.0.2.12/24"]}}, 4, ["holds 3 addresses, for 4"]),
        ({"network": {"mode": "static", "addresses": ["192.0.2.7"]}}, 1, ["192.0.2.7"]),
        ({"network": {"mode": "static", "pool": ["192.0.2.12-192.0.2.10/24"]}}, 1, ["192.0.2.12-192.0.2.10/24"]),
        (
            {"network": {"mode": "static", "addresses": ["192.0.2.7/24"], "gateway": "198.51.100.1"}}, 1,
            ["outside of 192.0.2.0/24"],
        ),
        (
            {"network": {"mode": "static", "addresses": ["192.0.2.7/24"], "gateway": "192.0.2.7"}}, 1,
            ["one of the instances' own"],
        ),
        (
            {"network": {"mode": "static", "addresses": ["192.0.2.7/24"], "gateway": "2001:db8::1"}}, 1,
            ["outside of 192.0.2.0/24"],
        ),
        ({"network": {"mode": "static", "addresses": ["192.0.2.7/24"], "gateway": "here"}}, 1, ["not an address"]),
        ({"network": {"name_servers": ["192.0.2.53", "ns.tide.example"]}}, 1, ["'ns.tide.example' is not an address"]),
        ({"time_zone": "Etc/Nowhere"}, 1, ["Zones begin like Etc/"]),
        ({"time_zone": "Nowhere"}, 1, ["Give a name of the tz database"]),
        ({"users": [{"name": "orla"}, {"name": "teo"}, {"name": "orla"}]}, 1, ["The user orla is given twice."]),
        ({"ssh_public_keys": [SHORT]}, 1, ["A key of the default user"]),
        ({"users": [{"name": "orla", "ssh_public_keys": [KEY, OTHER_KIND]}]}, 1, ["A key of orla"]),
        ({"secrets": [{"secret": "a", "path": "/etc/x"}, {"secret": "b", "path": "/etc/x"}]}, 1, ["go to /etc/x"]),
        ({"user_data": "#!/bin/sh\n: [a"}, 1, []),
        ({"user_data": "#cloud-config\nruncmd: [date]\n"}, 1, []),
        ({"user_data": "#cloud-config\na: b\nc: [d\n"}, 1, ["not YAML (line "]),
        ({"user_data": "#cloud-config\n- a\n"}, 1, ["holds no settings"]),
        ({"user_data": "#cloud-config\n" + "[" * 5000}, 1, ["not YAML"]),
        ({"user_data": "#!" + "ü" * 33000}, 1, ["has 66002 bytes"]),
        ({"time_zone": "Nowhere", "users": [{"name": "a"}, {"name": "a"}]}, 1, ["time zone", "given twice"]),
    ],
)  # fmt: skip
def test_each_fault_is_said_once_with_what_to_do(settings: dict[str, object], count: int, said: list[str]) -> None:
    found = faults(FirstBoot.model_validate(settings), count=count)
    assert len(found) == len(said), found
    assert all(part in sentence for part, sentence in zip(said, found, strict=True)), found
    assert all(sentence.endswith(".") and not sentence[0].islower() for sentence in found), found


def test_a_guest_that_is_as_asked_differs_in_nothing_and_another_in_each_thing() -> None:
    asked = FirstBoot.model_validate(
        {
            "time_zone": "Etc/UTC",
            "network": {"mode": "static", "addresses": ["192.0.2.7/24"]},
            "users": [{"name": "orla", "ssh_public_keys": [KEY]}, {"name": "teo"}],
        }
    )
    key = " ".join(KEY.split()[:2])
    good = Seen(
        "quay-01.tide.example", ("192.0.2.7", "2001:db8::7"), "Etc/UTC", frozenset({"orla", "teo", "root"}),
        {"orla": frozenset({key})}, 3 << 30,
    )  # fmt: skip
    assert differences(asked, "quay-01", good, least_root=2 << 30) == []
    # What a guest cannot tell is no difference.
    assert differences(asked, "quay-01", Seen("quay-01", ("192.0.2.7",)), least_root=2 << 30) == []
    bad = Seen("quay-02", ("192.0.2.9",), "", frozenset({"root", "orla"}), {"orla": frozenset()}, 1 << 30)
    found = differences(asked, "quay-01", bad, least_root=2 << 30)
    for said in (
        "did not grow", "is quay-02, not quay-01", "192.0.2.7; it has 192.0.2.9", "not set, not Etc/UTC", "no user teo",
        "1 of the keys of orla",
    ):  # fmt: skip
        assert sum(said in one for one in found) == 1, (said, found)
    assert len(found) == 6
