"""Disks that come in as others leave them: a journal that waits, a signature too many, a format that is none."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

import pytest

from bathotype.client import OperationFailed
from bathotype.core.errors import Refused
from tests.core.test_journal import clean, files, mounted, sh
from tests.office import Office

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="the kernel mounts for root alone")
OVF = "http://schemas.dmtf.org/ovf/envelope/1"
ID = "0a1b2c3d4e5f60718293a4b5c6d7e8f9"


def crashed_guest(folder: Path) -> Path:
    """The disk of a machine that lost its power: what it synced last is in the journal alone, and a file that was open
    is removed."""
    live, copy = folder / "live.img", folder / "copy.img"
    sh(f"truncate -s 48M {live} && mkfs.ext4 -q -L os {live}")
    with mounted(live) as top:
        (top / "etc").mkdir()
        (top / "etc/os-release").write_text("ID=halvane\n")
        (top / "etc/hostname").write_text("pier-09\n")
        (top / "etc/machine-id").write_text(ID + "\n")
        sh(f"sync -f {top}")
        (top / "readings").write_bytes(b"a reading of pier nine\n" * 40_000)
        with (top / "open").open("wb") as open_file:
            open_file.write(b"gone" * 9000)
            open_file.flush()
            os.fsync(open_file.fileno())
            (top / "open").unlink()
            sh(f"sync -f {top} && cp --sparse=always {live} {copy}")
    return copy


@pytest.mark.parametrize("profile", [None, "linux"])
def test_what_was_synced_before_a_crash_is_in_the_version(profile: str | None, office: Office, tmp_path: Path) -> None:
    disk, back = crashed_guest(tmp_path), tmp_path / "back.img"
    with office.core as client:
        client.create_line("piers")
        upload = client.upload(disk, region="skerry-1").id
        done = client.wait(client.import_image(upload=upload, line="piers", number="1.0.0", profile=profile).id)
        client.export(str((done.result or {})["reference"]), back)
        version = client.version("piers@1.0.0")
    assert version.os["id"] == "halvane" and version.sizes.used < 12 * 1024**2
    if profile:
        clean(back)
    with mounted(back) as top:
        found = files(top)
    assert found["readings"] == b"a reading of pier nine\n" * 40_000
    assert found["etc/machine-id"] == (b"" if profile else f"{ID}\n".encode())


def test_a_file_that_shows_no_disk_needs_somebodys_word(office: Office, tmp_path: Path) -> None:
    letter = tmp_path / "letter"
    letter.write_bytes(b"To whom it may concern.\n" * 4096)
    with letter.open("ab") as file:
        file.truncate(1024 * 1024)
    with office.core as client:
        client.create_line("letters")
        upload = client.upload(letter, region="skerry-1").id
        with pytest.raises(Refused, match="--format raw"):
            client.import_image(upload=upload, line="letters", number="1.0.0", profile=None)
        found = client.inspect_import(upload=upload, line="letters", number="1.0.0", profile=None)
        assert not found.importable and "no format that is known" in found.blockers[0]
        done = client.import_image(upload=upload, line="letters", number="1.0.0", profile=None, format="raw")
        client.wait(done.id)
        client.export("letters@1.0.0", tmp_path / "back")
        assert client.version("letters@1.0.0").packages is None, "not none: nobody can tell"
        other = office.version("letters@2.0.0")
        told = client.difference("letters@1.0.0", other)
        assert told.unknown == ["letters@1.0.0"] and not told.added and told.changed_bytes
    assert (tmp_path / "back").read_bytes() == letter.read_bytes()


def in_archive(folder: Path, file: Path, name: str) -> Path:
    """An OVA with a manifest, whose disk is packed with gzip as its descriptor says."""
    file.rename(folder / name)
    (folder / "guest.ovf").write_text(
        f'<Envelope xmlns="{OVF}" xmlns:ovf="{OVF}"><References><File ovf:id="f" ovf:href="{name}" ovf:compression="gzip"/>'
        '</References><DiskSection><Disk ovf:diskId="d" ovf:fileRef="f" ovf:capacity="50331648"/></DiskSection></Envelope>'
    )
    listed = "".join(
        f"SHA256({one})= {hashlib.sha256((folder / one).read_bytes()).hexdigest()}\n" for one in ("guest.ovf", name)
    )
    (folder / "guest.mf").write_text(listed)
    sh(f"cd {folder} && tar --format=ustar -cf inner.ova guest.ovf {name} guest.mf")
    return folder / "inner.ova"


@pytest.mark.parametrize("ending", ["gz", "xz", "ova"])
def test_a_packed_file_is_unpacked_first(ending: str, office: Office, tmp_path: Path) -> None:
    disk, inner, back = crashed_guest(tmp_path), tmp_path / "inner", tmp_path / "back.img"
    form = {"gz": "raw", "xz": "qcow2", "ova": "vmdk"}[ending]
    sh(f"qemu-img convert -O {form} {disk} {inner} && {'xz -k -0' if ending == 'xz' else 'gzip -k'} {inner}")
    packed = tmp_path / f"inner.{ending}"
    if ending == "ova":
        packed = in_archive(tmp_path, tmp_path / "inner.gz", "disk1.vmdk")
    with office.core as client:
        client.create_line("packed")
        upload = client.upload(packed, region="skerry-1").id
        seen = client.inspect_import(upload=upload, line="packed", number="1.0.0", profile="linux")
        assert seen.importable and any("packed with" in r.why for r in seen.remarks)
        assert "once it is unpacked" in seen.effects[0], "nothing is said of what is not known yet"
        done = client.wait(client.import_image(upload=upload, line="packed", number="1.0.0", profile="linux").id)
        client.export(str((done.result or {})["reference"]), back)
        told = [line.text for line in client.operation_log(done.id)]
        assert ("The archive's digests are right." in told) is (ending == "ova")
        cut = tmp_path / "cut"
        data = packed.read_bytes()
        if ending == "ova":  # another digest
            at = data.index(b"SHA256(disk1.vmdk)= ") + 20
            cut.write_bytes(data[:at] + (b"1" if data[at : at + 1] == b"0" else b"0") + data[at + 1 :])
        else:
            cut.write_bytes(data[:-2000])
        upload = client.upload(cut, region="skerry-1").id
        # A short file is seen through when it is looked at, a long one when it is unpacked.
        with pytest.raises((OperationFailed, Refused), match=r"to its end|not what its manifest says"):
            client.wait(client.import_image(upload=upload, line="packed", number="2.0.0", profile=None).id)
    clean(back)
    with mounted(back) as top:
        assert files(top)["readings"] == b"a reading of pier nine\n" * 40_000
