"""What a launch asks for beside what there is: disks, machine sizes and networks; and what another place demands."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from bathotype.core.contents.platform import Platform
from bathotype.core.disk.several import MOST_DISKS
from bathotype.core.lifecycle.networks import (
    Attach,
    FirewallSet,
    Networks,
    Opening,
    PublicAddress,
    Subnet,
    address_remarks,
    attach_faults,
    attach_remarks,
    open_to,
)
from bathotype.core.lifecycle.purpose import Capacity, Purpose, SizeOffered, capacity_text, judge_size
from bathotype.core.lifecycle.room import Room, disks_of_instance, least_root, room_faults, room_remarks
from bathotype.core.lifecycle.target import Candidate, Target, fits, judge

GIB = 1 << 30
TWO = [
    {"role": "boot", "bytes": 2 * GIB, "holds": "the system"},
    {"role": "data-1", "bytes": GIB, "holds": "readings"},
]

# Disks


def test_an_instance_has_its_versions_disks() -> None:
    assert [(d.role, d.bytes, d.holds, d.grown_from, d.kept) for d in disks_of_instance(TWO, Room())] == [
        ("boot", 2 * GIB, "the system", None, False),
        ("data-1", GIB, "readings", None, False),
    ]


def test_the_boot_disk_grows_and_nothing_else() -> None:
    [boot, data, extra] = disks_of_instance(TWO, Room(boot_bytes=3 * GIB, extra_disks=[16 << 20]))
    assert (boot.bytes, boot.grown_from) == (3 * GIB, 2 * GIB)
    assert (data.bytes, data.grown_from) == (GIB, None)
    assert (extra.role, extra.bytes, extra.grown_from) == ("extra-1", 16 << 20, None)
    for no_larger in (2 * GIB, GIB):
        assert disks_of_instance(TWO, Room(boot_bytes=no_larger))[0].grown_from is None
        assert disks_of_instance(TWO, Room(boot_bytes=no_larger))[0].bytes == 2 * GIB


def test_what_is_kept_is_never_the_boot_disk() -> None:
    room = Room(keep_data_disks=True, extra_disks=[1 << 20, 2 << 20])
    assert [(d.role, d.kept) for d in disks_of_instance(TWO, room)] == [
        ("boot", False), ("data-1", True), ("extra-1", True), ("extra-2", True),
    ]  # fmt: skip
    assert not any(d.kept for d in disks_of_instance(TWO, Room(extra_disks=[1 << 20])))


def test_room_that_cannot_be_had_is_said() -> None:
    assert room_faults(TWO, Room(boot_bytes=2 * GIB), largest=2 * GIB) == []
    assert room_faults(TWO, Room(boot_bytes=GIB), largest=2 * GIB) == [
        "A boot disk of 1.0 GiB is smaller than the version's, which has 2.0 GiB."
    ]
    assert room_faults(TWO, Room(), largest=2 * GIB - 1) == [
        "A disk would have 2.0 GiB; the site takes 2.0 GiB at most."
    ]
    assert room_faults(TWO, Room(extra_disks=[4 * GIB]), largest=2 * GIB) == [
        "A disk would have 4.0 GiB; the site takes 2.0 GiB at most."
    ]
    most = Room(extra_disks=[1 << 20] * (MOST_DISKS - 2))
    assert room_faults(TWO, most, largest=2 * GIB) == []
    more = Room(extra_disks=[1 << 20] * (MOST_DISKS - 1))
    assert room_faults(TWO, more, largest=2 * GIB) == [
        f"Each instance would have {MOST_DISKS + 1} disks; {MOST_DISKS} is the most."
    ]


@pytest.mark.parametrize("size", [(1 << 20) - 512, (1 << 20) + 1, (1 << 50) + 512, 0, -(1 << 20)])
def test_no_disk_has_that_size(size: int) -> None:
    for given_ in ({"boot_bytes": size}, {"extra_disks": [size]}):
        with pytest.raises(ValidationError):
            Room.model_validate(given_)
    assert Room(boot_bytes=1 << 20, extra_disks=[1 << 50])


def test_what_grows_is_told_where_it_is_of_no_use() -> None:
    grown = Room(boot_bytes=3 * GIB)
    assert room_remarks(TWO, Room(), root_last=None) == room_remarks(TWO, grown, root_last=True) == []
    assert "not known" in room_remarks(TWO, grown, root_last=None)[0]
    assert "stays unused" in room_remarks(TWO, grown, root_last=False)[0]


@given(st.integers(1, 1 << 40), st.integers(1, 1 << 40), st.integers(1, 1 << 40))
def test_a_grown_file_system_has_most_of_what_was_added(size: int, more: int, root: int) -> None:
    disks = [{"role": "data-1", "bytes": 1}, {"role": "boot", "bytes": size + more, "grown_from": size}]
    assert 0.84 * (root + more) - 1 < least_root(disks, root) <= 0.86 * (root + more)


def test_of_what_did_not_grow_nothing_is_expected() -> None:
    assert least_root([{"role": "boot", "bytes": 2, "grown_from": None}], 1) == 0
    assert least_root([{"role": "data-1", "bytes": 2, "grown_from": 1}], 1) == 0
    assert least_root([{"role": "boot", "bytes": 2, "grown_from": 1}], 0) == least_root([], 1) == 0


# Machine sizes

SMALL = SizeOffered(1, 512)


@pytest.mark.parametrize(
    ("purpose", "offered", "blockers", "warnings"),
    [
        ({}, SMALL, [], []),
        ({"excluded_sizes": ["small"]}, SMALL, ["x@1.0.0 is not for machines of size small. Give another --machine-size."], []),
        ({"excluded_sizes": ["large"]}, SMALL, [], []),
        ({"compatible_sizes": ["small", "large"]}, SMALL, [], []),
        ({"compatible_sizes": ["medium", "large"]}, SMALL, ["x@1.0.0 is made for the sizes medium, large, not for small."], []),
        ({"least": {"processors": 1, "memory_mib": 512}}, SMALL, [], []),
        (
            {"least": {"processors": 2, "memory_mib": 513}}, SMALL,
            ["x@1.0.0 needs at least 2 processors and 513 MiB of memory; small has 1 and 512. Give a larger --machine-size."], [],
        ),
        ({"recommended": {"processors": 2}}, SMALL, [], ["x@1.0.0 recommends 2 processors; small has 1."]),
        ({"recommended": {"memory_mib": 600}}, SMALL, [], ["x@1.0.0 recommends 600 MiB of memory; small has 512."]),
        ({"least": {"processors": 9}, "recommended": {"memory_mib": 9999}}, SizeOffered(), [], []),
        ({"least": {"processors": 9, "memory_mib": 9}}, SizeOffered(None, 16), [], []),
    ],
)  # fmt: skip
def test_a_size_does_or_does_not(purpose: dict[str, Any], offered: SizeOffered, blockers: list[str], warnings: list[str]) -> None:  # fmt: skip
    assert judge_size("x@1.0.0", Purpose.model_validate(purpose), "small", offered) == (blockers, warnings)


def test_what_is_needed_is_not_recommended_as_well() -> None:
    purpose = Purpose(least=Capacity(processors=2), recommended=Capacity(processors=4))
    blockers, warnings = judge_size("x@1.0.0", purpose, "small", SMALL)
    assert len(blockers) == 1 and warnings == []


def test_capacity_in_words() -> None:
    assert capacity_text(Capacity()) == ""
    assert capacity_text(Capacity(processors=1)) == "1 processor"
    assert capacity_text(Capacity(memory_mib=2048)) == "2048 MiB"
    assert capacity_text(Capacity(processors=2, memory_mib=2048)) == "2 processors, 2048 MiB"


# Networks

WEB = FirewallSet("web", (Opening("tcp", 80, 80, "0.0.0.0/0"), Opening("tcp", 8000, 8010, "192.0.2.0/24")))
OFFERED = Networks(
    (Subnet("quay", "harbour", "192.0.2.0/28", 3), Subnet("pier", "harbour", "198.51.100.0/24", 0)),
    (WEB, FirewallSet("none", ())),
    (PublicAddress("203.0.113.5", None), PublicAddress("203.0.113.6", "m-1"), PublicAddress("203.0.113.7", None)),
)
NOWHERE = Networks((), (), ())


@pytest.mark.parametrize(
    ("asked", "count", "faults"),
    [
        ({}, 99, []),
        ({"subnet": "quay"}, 3, []),
        ({"subnet": "quay"}, 4, ["Subnet quay has 3 free addresses, for 4 instances. Take another."]),
        ({"subnet": "pier"}, 1, ["Subnet pier has 0 free addresses, for 1 instance. Take another."]),
        ({"subnet": "dock"}, 1, ["Region skerry-1 has no subnet 'dock'. Its subnets are quay, pier."]),
        ({"address": "192.0.2.14"}, 1, []),
        ({"address": "192.0.2.15"}, 1, ["192.0.2.15/28 is the broadcast address of 192.0.2.0/28. Give an address of a host."]),
        ({"address": "192.0.2.0"}, 1, ["192.0.2.0/28 is the network itself of 192.0.2.0/28. Give an address of a host."]),
        ({"address": "192.0.2.16"}, 1, ["192.0.2.16 is outside of subnet quay, which is 192.0.2.0/28. Give one of its addresses."]),
        ({"address": "192.0.2.14"}, 2, ["2 instances cannot all have 192.0.2.14. Leave the address out."]),
        ({"address": "2001:db8::1"}, 1, ["2001:db8::1 is outside of subnet quay, which is 192.0.2.0/28. Give one of its addresses."]),
        ({"address": "192.0.2"}, 1, ["'192.0.2' is not an address. Write it as 192.0.2.20."]),
        ({"firewalls": ["web", "none"]}, 1, []),
        ({"firewalls": ["web", "ssh", "db"]}, 1, ["Region skerry-1 has no firewall set ssh, db. Its sets are web, none."]),
        ({"public_address": True}, 2, []),
        ({"public_address": True}, 3, ["3 public addresses would be needed; 2 of them are free. Launch fewer."]),
        ({"public_address": "203.0.113.7"}, 1, []),
        ({"public_address": "203.0.113.6"}, 1, ["The public address 203.0.113.6 is not free. Free are 203.0.113.5, 203.0.113.7."]),
        ({"public_address": "203.0.113.7"}, 2, ["2 instances cannot all have 203.0.113.7. Ask for any public address."]),
    ],
)  # fmt: skip
def test_where_it_attaches_is_there(asked: dict[str, Any], count: int, faults: list[str]) -> None:
    assert attach_faults(Attach.model_validate(asked), OFFERED, count, "skerry-1") == faults


def test_a_place_that_offers_nothing_says_so() -> None:
    asked = Attach(subnet="quay", firewalls=["web"], public_address="203.0.113.5")
    assert [fault.rpartition(". ")[2] for fault in attach_faults(asked, NOWHERE, 1, "skerry-1")] == [
        "Its subnets are none.", "Its sets are none.", "Free are none.",
    ]  # fmt: skip
    assert attach_faults(Attach(), NOWHERE, 5, "skerry-1") == []


def test_what_is_open_is_told() -> None:
    assert open_to(Attach(firewalls=["web"]), OFFERED) == [
        "tcp 80 from 0.0.0.0/0 (web)", "tcp 8000-8010 from 192.0.2.0/24 (web)",
    ]  # fmt: skip
    assert open_to(Attach(), OFFERED) == open_to(Attach(firewalls=["none"]), OFFERED) == []
    shut = "It gets a public address, and no firewall set opens a port: nobody reaches it there."
    assert attach_remarks(Attach(public_address=True), OFFERED) == [shut]
    assert attach_remarks(Attach(public_address=True, firewalls=["web"]), OFFERED) == []
    assert attach_remarks(Attach(firewalls=["none"]), OFFERED) == []


def test_an_address_of_first_boot_lies_in_its_subnet() -> None:
    quay = OFFERED.subnets[0]
    assert address_remarks(["192.0.2.3/28", "2001:db8::1/64"], quay) == []
    [one] = address_remarks(["192.0.2.17/28"], quay)
    assert one.startswith("192.0.2.17 is set at first boot, outside of subnet quay (192.0.2.0/28)")
    [many] = address_remarks([f"203.0.113.{n}/24" for n in range(1, 8)], quay)
    assert many.startswith("203.0.113.1, 203.0.113.2, 203.0.113.3, 203.0.113.4, 203.0.113.5 and 2 more are set")


# Other places

LINUX = Platform(
    boot=("uefi",), architecture="x86_64", disk_drivers=("virtio_blk", "nvme"), network_drivers=("virtio_net",),
    signed_loader=True, trusted_module=False,
)  # fmt: skip
IMAGE = Candidate(
    2 * GIB, LINUX, system="debian", packages=frozenset({"cloud-init", "nginx"}), format="vhd", checkpoints=0,
    generalized=True, high_findings=0, disks=2,
)  # fmt: skip
#: ``(demand, what is there instead, the row's name, its outcome then, words of it)``.
DEMANDS: list[tuple[dict[str, Any], dict[str, Any], str, str, str]] = [
    ({"largest_disk": "2 GiB"}, {"disk_bytes": 2 * GIB + 1}, "disk", "obstacle", "the target takes 2.0 GiB at most"),
    ({"most_disks": 2}, {"disks": 3}, "disks", "obstacle", "It has 3 disks; the target takes 2 at most."),
    ({"formats": ["vhd", "vmdk"]}, {"format": "qcow2"}, "format", "obstacle", "qcow2; vhd or vmdk is demanded"),
    ({"no_checkpoints": True}, {"checkpoints": 1}, "checkpoints", "obstacle", "1 snapshot of the disk"),
    ({"boot": ["uefi"]}, {"platform": replace(LINUX, boot=("bios",))}, "boot", "obstacle", "boots by bios; uefi is"),
    ({"boot": ["uefi"]}, {"platform": replace(LINUX, boot=())}, "boot", "warning", "not known"),
    ({"architectures": ["x86_64"]}, {"platform": replace(LINUX, architecture="")}, "architecture", "warning", "not known"),
    ({"architectures": ["x86_64"]}, {"platform": replace(LINUX, architecture="aarch64")}, "architecture", "obstacle", "aarch64"),
    ({"disk_drivers": ["nvme"]}, {"platform": replace(LINUX, disk_drivers=("ata",))}, "disk-drivers", "obstacle", "ata;"),
    ({"network_drivers": ["virtio_net"]}, {"platform": replace(LINUX, network_drivers=())}, "network-drivers", "warning", "not"),
    ({"signed_loader": True}, {"platform": replace(LINUX, signed_loader=False)}, "secure-boot", "obstacle", "no signed"),
    ({"no_trusted_module": True}, {"platform": replace(LINUX, trusted_module=True)}, "trusted-module", "obstacle", "is bound"),
    ({"systems": ["debian"]}, {"system": "fedora"}, "system", "obstacle", "fedora; debian is demanded"),
    ({"systems": ["debian"]}, {"system": None}, "system", "warning", "not known"),
    ({"packages": ["cloud-init"]}, {"packages": frozenset()}, "packages", "obstacle", "cloud-init: not installed."),
    ({"packages": ["cloud-init"]}, {"packages": None}, "packages", "warning", "not known"),
    ({"without_packages": ["telnet"]}, {"packages": frozenset({"telnet"})}, "without", "obstacle", "telnet: installed."),
    ({"generalized": True}, {"generalized": False}, "generalized", "obstacle", "keeps the identity"),
    ({"generalized": True}, {"generalized": None}, "generalized", "warning", "not known"),
    ({"no_high_findings": True}, {"high_findings": 2}, "findings", "obstacle", "2 findings of high severity open"),
    ({"no_high_findings": True}, {"high_findings": None}, "findings", "warning", "not scanned"),
]  # fmt: skip


@pytest.mark.parametrize(("demand", "instead", "check", "outcome", "words"), DEMANDS)
def test_each_demand_is_judged_by_itself(
    demand: dict[str, Any], instead: dict[str, Any], check: str, outcome: str, words: str
) -> None:
    target = Target.model_validate({"name": "a quay", **demand})
    [met] = judge(target, IMAGE)
    assert (met.check, met.outcome, met.advice) == (check, "ok", "") and fits([met])
    [row] = judge(target, replace(IMAGE, **instead))
    assert (row.check, row.outcome) == (check, outcome) and words in row.why and not fits([met, row])
    assert row.advice or check == "generalized", "it says what to do"


def test_who_demands_nothing_takes_everything() -> None:
    assert judge(Target(name="a quay"), Candidate(1 << 50, Platform((), ""))) == []
    everything: dict[str, Any] = {"name": "all"}
    for demand, *_ in DEMANDS:
        everything |= demand
    assert fits(judge(Target.model_validate(everything), IMAGE))


def test_packages_are_told_by_name() -> None:
    target = Target(name="a quay", packages=["nginx", "cron"], without_packages=["telnet"])
    wanted, unwanted = judge(target, replace(IMAGE, packages=frozenset({"nginx", "telnet"})))
    assert (wanted.why, wanted.advice) == ("cron: not installed.", "Install cron, and make it again.")
    assert (unwanted.why, unwanted.advice) == ("telnet: installed.", "Remove telnet, and make it again.")
    wanted, unwanted = judge(target, replace(IMAGE, packages=frozenset({"cron", "nginx"})))
    assert (wanted.why, unwanted.why) == ("cron, nginx: installed.", "telnet: not installed.")


def test_a_version_is_written_in_the_format_that_is_taken() -> None:
    [row] = judge(Target(name="a quay", formats=["vhd"]), replace(IMAGE, format=None))
    assert row.outcome == "ok" and row.why == "It is written as vhd when it is exported."
