"""Whether an image would be taken in at another place: judged row by row, and demanded of exports and replications."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from bathotype.core.contents.platform import Platform
from bathotype.core.lifecycle.target import Candidate, Target, fits, judge
from tests.cli.conftest import Cli
from tests.office import Office

QUAY = """name: quay
largest_disk: 1 GiB
formats: [qcow2]
no_checkpoints: true
boot: [bios]
disk_drivers: [virtio-blk]
systems: [halvane]
packages: [tide-agent]
generalized: true
"""


def test_each_demand_is_a_row_and_what_is_unknown_is_not_met() -> None:
    target = Target.model_validate(
        {"name": "strict", "largest_disk": "2 GiB", "formats": ["qcow2"], "boot": ["uefi"], "signed_loader": True,
         "no_trusted_module": True, "architectures": ["x86_64"], "systems": ["debian"], "packages": ["cloud-init"],
         "without_packages": ["telnetd"], "generalized": True, "no_high_findings": True, "no_checkpoints": True}
    )  # fmt: skip
    fine = Candidate(
        1 << 30, Platform(("uefi",), "x86_64", True), "debian", frozenset({"cloud-init"}), "qcow2", 0, True, 0
    )
    assert fits(judge(target, fine)) and len(judge(target, fine)) == 12
    poor = Candidate(
        3 << 30, Platform(("bios",), "aarch64", False, True), "other", frozenset({"telnetd"}), "vmdk", 2, False, 3
    )
    rows = judge(target, poor)
    assert {row.outcome for row in rows} == {"obstacle"} and all(row.advice for row in rows)
    unknown = judge(target, Candidate(1 << 30, Platform((), "")))
    assert not fits(unknown)
    assert {row.check for row in unknown if row.outcome == "warning"} == {
        "boot", "architecture", "system", "packages", "without", "generalized", "findings",
    }  # fmt: skip


@pytest.mark.parametrize("size", ["2 TB", "many", "-1", "1e999 B"])
def test_a_size_that_is_none_is_refused(size: str) -> None:
    with pytest.raises(ValueError, match="largest_disk"):
        Target.model_validate({"name": "x", "largest_disk": size})


def test_files_and_versions_are_judged_and_exports_held_to_it(office: Office, cli: Cli, demo_disk: Path, tmp_path: Path) -> None:  # fmt: skip
    sheet, image = tmp_path / "quay.yaml", tmp_path / "gauge.qcow2"
    sheet.write_text(QUAY)
    subprocess.run(["qemu-img", "convert", "-O", "qcow2", demo_disk, image], check=True)
    asked = ("--target", str(sheet), "--region", "skerry-1")
    told = cli("fits", str(image), *asked)
    assert told.returncode == 4 and "identity of its source is not known" in told.stdout, "of a file nobody knows"
    subprocess.run(["qemu-img", "snapshot", "-c", "before", image], check=True)
    rows = json.loads(cli("fits", str(image), *asked, "--json").stdout)["rows"]
    checkpoints = next(row for row in rows if row["check"] == "checkpoints")
    assert checkpoints["outcome"] == "obstacle" and "1 snapshot of" in checkpoints["why"]
    assert office.query("select count(*) from uploads") == [(0,)], "what was looked at is not kept"
    office.core.create_line("piers")
    made = cli("import", str(demo_disk), "--line", "piers", "--number", "1.0.0", "--region", "skerry-1")
    assert made.returncode == 0, made.stderr
    assert cli("fits", "piers@1.0.0", "--target", str(sheet)).returncode == 0
    target = ("--target", str(sheet))
    refused = cli("export", "piers@1.0.0", "--to", str(tmp_path / "out.vmdk"), *target)
    assert refused.returncode == 4 and "quay takes qcow2, not vmdk" in refused.stderr
    assert cli("export", "piers@1.0.0", "--to", str(tmp_path / "out.qcow2"), *target).returncode == 0
    sheet.write_text(QUAY.replace("boot: [bios]", "boot: [uefi]"))
    refused = cli("replicate", "piers@1.0.0", "--to", "fjord-2", *target)
    assert refused.returncode == 4 and "It boots by bios; uefi is demanded" in refused.stderr
    sheet.write_text("largest_disk: big\ncolour: red\n")
    refused = cli("fits", "piers@1.0.0", *target)
    assert refused.returncode == 2 and "colour" in refused.stderr and "2 TiB" in refused.stderr
