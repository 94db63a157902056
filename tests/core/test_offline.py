"""Edits of an offline disk, and servers that do not keep to the protocol."""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
import threading
from contextlib import ExitStack
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bathotype.core.confined.sandbox import DISK, run_on
from bathotype.core.disk.ext4.edit.editor import Ext4Editor
from bathotype.core.disk.ext4.edit.quota import Usage, read_file, written_file
from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.nbd import NbdDisk
from bathotype.core.disk.source import BlockSource, FileSource, Masked, open_file
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import BathotypeError, Damaged, Invalid, OutOfSpace
from bathotype.core.generalize.apply import apply_plan
from bathotype.core.generalize.plan import capture_ranges, plan
from bathotype.core.generalize.profile import load_profile
from bathotype.core.guest.files import GuestDisk
from bathotype.core.guest.offline import check, settle
from tests.core.test_journal import mounted, sh
from tests.kernel import clean
from tests.support import holds


def small_disk(
    folder: Path, files: dict[str, bytes], *, size: str = "24M", links: dict[str, str] | None = None
) -> Path:
    """An ext4 file system straight on a disk, made by mke2fs from a folder."""
    tree = folder / "tree"
    for name, data in {"etc/hostname": b"here\n", **files}.items():
        (tree / name).parent.mkdir(parents=True, exist_ok=True)
        (tree / name).write_bytes(data)
    for name, target in (links or {}).items():
        os.link(tree / target, tree / name)
    image = folder / "disk.raw"
    subprocess.run(["/usr/sbin/mke2fs", "-q", "-t", "ext4", "-d", str(tree), str(image), size], check=True)
    return image


def change(image: Path, steps: str) -> GuestDisk:
    """Apply a profile of these steps; returns the disk as a capture would take it."""
    profile = load_profile(f"name: t\nsteps:\n{steps}")
    with open_file(image, writable=True) as source:
        disk = GuestDisk.open(source)
        planned = plan(profile, disk, host_name="here")
        apply_plan(planned, disk, source)
    source = FileSource(image)
    ranges = capture_ranges(planned, GuestDisk.open(source))
    taken = image.with_suffix(".taken")
    taken.write_bytes(Masked(source, ranges).read(0, source.size))
    return GuestDisk.open(FileSource(taken))


def test_a_swap_file_keeps_its_header_only(tmp_path: Path) -> None:
    swap = b"H" * 4096 + b"memory of the machine " * 30_000
    image = small_disk(tmp_path, {"swapfile": swap, "etc/fstab": b"/swapfile none swap sw 0 0\n"})
    disk = change(image, "  - {id: swap, do: clear-swap}\n")
    data = disk.read("/swapfile", most=len(swap)) or b""
    assert data[:4096] == b"H" * 4096 and not any(data[4096:]) and len(data) == len(swap)
    assert not holds(tmp_path / "disk.taken", b"memory of the machine")


def test_odd_names_hard_links_and_nested_folders(tmp_path: Path) -> None:
    files = {
        "opt/with space/a b.log": b"x",
        "opt/ünï/ö.log": b"y",
        "opt/deep/er/est/z.log": b"z" * 9000,
        "opt/kept.txt": b"keep",
    }
    image = small_disk(tmp_path, files, links={"opt/second.log": "opt/kept.txt"})
    disk = change(
        image, "  - {id: logs, do: remove, paths: ['/opt/**.log']}\n  - {id: deep, do: remove, paths: [/opt/deep]}\n"
    )
    assert {p for p in disk.entries if p.startswith("/opt")} == {"/opt", "/opt/with space", "/opt/ünï", "/opt/kept.txt"}
    assert disk.read("/opt/kept.txt") == b"keep" and disk.entries["/opt/kept.txt"].links == 1
    assert not holds(tmp_path / "disk.taken", b"second.log"), "a removed name is nowhere"


def test_besides_and_kinds(tmp_path: Path) -> None:
    image = small_disk(tmp_path, {"var/cache/a/x": b"1", "var/cache/a/keep": b"2", "var/cache/b/y": b"3"})
    disk = change(image, "  - {id: c, do: remove, paths: ['/var/cache/*'], besides: ['/var/cache/a/keep']}\n")
    assert {p for p in disk.entries if p.startswith("/var/cache/")} == {"/var/cache/a", "/var/cache/a/keep"}


def test_a_name_may_hold_any_byte(tmp_path: Path) -> None:
    image = small_disk(tmp_path, {"tmp/line\nbreak": b"x", 'tmp/"quoted"': b"y", "tmp/\x1b[2J": b"z", "kept": b"k"})
    disk = change(image, "  - {id: t, do: remove, paths: ['/tmp/*']}\n")
    assert not disk.below("/tmp") and disk.read("/kept") == b"k"


def test_a_path_may_be_longer_than_a_caller_may_give(tmp_path: Path) -> None:
    image = small_disk(tmp_path, {"tmp/x": b"x"})
    with open_file(image, writable=True) as file:
        editor, deep = Ext4Editor(file, Stretch.of(0, file.size)), "/tmp"
        for _ in range(60):
            deep += "/" + "d" * 200
            editor.make_directory(deep)
        editor.write(f"{deep}/end", b"far down")
        editor.finish()
    disk = change(image, "  - {id: t, do: remove, paths: [/tmp]}\n")
    assert len(deep) > 12_000 and "/tmp" not in disk.entries and not holds(tmp_path / "disk.taken", b"far down")


def test_a_full_file_system_is_said_to_be_full(tmp_path: Path) -> None:
    image = small_disk(tmp_path, {"big": os.urandom(900_000)}, size="2M")
    before = image.read_bytes()
    with open_file(image, writable=True) as file, pytest.raises(OutOfSpace, match="too full"):
        Ext4Editor(file, Stretch.of(0, file.size)).write("/etc/more", os.urandom(3_000_000))
    assert image.read_bytes() == before, "nothing is written before the end"


def test_a_broken_file_system_is_not_called_clean(tmp_path: Path) -> None:
    image = small_disk(tmp_path, {"a": b"1"})
    subprocess.run(["/usr/sbin/debugfs", "-w", "-R", "clri /a", str(image)], check=True, capture_output=True)
    with pytest.raises(Damaged, match="not clean"):
        check_whole(image)


def test_a_tool_is_alone_with_its_disk(tmp_path: Path) -> None:
    image = small_disk(tmp_path, {"a": b"1"})
    assert "clean" in run_on(image, ["e2fsck", "-n", DISK]).stdout
    (tmp_path / "secret").write_text("x")
    for argv in (["cat", str(tmp_path / "secret")], ["cat", "/etc/passwd"], ["touch", DISK], ["touch", "/usr/x"]):
        assert run_on(image, argv).returncode, argv
    assert set(run_on(image, ["ls", "/sys/class/net", "/proc"]).stdout.split()) == set()
    assert run_on(image, ["touch", DISK], writable=True).returncode == 0


def check_whole(image: Path) -> None:
    """Have the file system that fills an image judged."""
    with open_file(image) as source:
        check(source, Stretch.of(0, source.size))


def settled_anything(image: Path) -> bool:
    """Bring the file system that fills an image into order; whether anything was to be done."""
    with open_file(image, writable=True) as source:
        return settle(source, Stretch.of(0, source.size))


def let_a_journal_wait(image: Path) -> None:
    """Write a transaction into the journal of a file system, and no more."""
    script = "journal_open\njournal_write -b 400 /dev/zero\njournal_close\n"
    tool = ["/usr/sbin/debugfs", "-w", "-f", "/dev/stdin", str(image)]
    subprocess.run(tool, input=script, text=True, check=True, capture_output=True)


def root_of(source: BlockSource) -> Ext4:
    fs = GuestDisk.open(source).mounts[0].fs
    assert isinstance(fs, Ext4)
    return fs


def test_a_journal_that_waits_is_replayed(tmp_path: Path) -> None:
    image = small_disk(tmp_path, {"a": b"1"})
    assert settled_anything(image) is False
    let_a_journal_wait(image)
    with open_file(image) as source:
        assert root_of(source).needs_recovery
    assert settled_anything(image) is True
    with open_file(image) as source:
        assert not root_of(source).needs_recovery


GREETING = b"NBDMAGICIHAVEOPT\x00\x03"


@settings(max_examples=40)
@given(st.sampled_from([b"", GREETING]), st.binary(max_size=200))
def test_a_server_that_talks_nonsense_is_an_error_not_a_hang(greeting: bytes, noise: bytes) -> None:
    server = socket.create_server(("127.0.0.1", 0))

    def talk() -> None:
        connection, _ = server.accept()
        with connection, contextlib.suppress(OSError):  # the client may hang up first
            connection.sendall(greeting + noise)
            connection.shutdown(socket.SHUT_WR)
            while connection.recv(4096):
                pass

    thread = threading.Thread(target=talk, daemon=True)
    thread.start()
    try:
        with pytest.raises(BathotypeError):
            NbdDisk(f"nbd://127.0.0.1:{server.getsockname()[1]}/x", timeout=2).read(0, 512)
    finally:
        server.close()


@pytest.mark.parametrize("uri", ["http://host/x", "nbd:///x", "nbd+unix:///x", ""])
def test_what_is_no_nbd_address_is_refused(uri: str) -> None:
    with pytest.raises(Invalid, match="not an NBD address"):
        NbdDisk(uri)


@pytest.mark.skipif(os.geteuid() != 0, reason="the kernel mounts for root alone")
@pytest.mark.parametrize("make", ["", "-I 128", "-O inline_data", "-O ea_inode"])
def test_attributes_stay_and_shared_blocks_are_counted(make: str, tmp_path: Path) -> None:
    image, large = tmp_path / "a.img", b"x" * 300
    label = b"system_u:object_r:etc_t:s0\0"
    sh(f"truncate -s 24M {image} && mkfs.ext4 -q {make} {image}")
    with mounted(image) as top:
        (top / "etc").mkdir()
        for name in ("hostname", "other", "third"):
            (top / "etc" / name).write_bytes(b"pier-09\n")
            os.setxattr(top / "etc" / name, "security.selinux", label)
            os.setxattr(top / "etc" / name, "user.note", large)
        os.setxattr(top / "etc/hostname", "user.empty", b"")
    with open_file(image, writable=True) as file:
        editor = Ext4Editor(file, Stretch.of(0, file.size))
        editor.write("/etc/hostname", b"localhost\n")
        editor.remove("/etc/other")
        editor.finish()
    clean(image)
    with mounted(image) as top:
        assert (top / "etc/hostname").read_bytes() == b"localhost\n"
        for name in ("hostname", "third"):
            assert os.getxattr(top / "etc" / name, "security.selinux") == label
            assert os.getxattr(top / "etc" / name, "user.note") == large
        assert os.getxattr(top / "etc/hostname", "user.empty") == b""


def test_quotas_are_counted_again_and_limits_stay(tmp_path: Path) -> None:
    image = tmp_path / "a.img"
    sh(f"truncate -s 24M {image} && mkfs.ext4 -q -O quota -E quotatype=usrquota:grpquota {image}")
    with open_file(image, writable=True) as file:
        editor = Ext4Editor(file, Stretch.of(0, file.size))
        for user in range(1000, 1040):  # more than one block of records
            editor.write(f"/u{user}", b"Halvane Tide Office\n" * 900, uid=user, gid=user * 70_000)
        editor.finish()
    clean(image)
    with open_file(image) as file:
        fs = Ext4(file)
        head, known = read_file(fs.read(fs.inode(3)), 0xD9C01F11)
    assert {u: (q.inodes, q.space) for u, q in known.items() if u} == dict.fromkeys(range(1000, 1040), (1, 18432))
    known[1003].limits = [7, 5, 100, 90]
    known[2000] = Usage(limits=[1, 2, 3, 4], grace=[5, 6])
    assert read_file(written_file(head, known), 0xD9C01F11) == (head, known)


def test_damage_is_not_mended_in_passing(tmp_path: Path) -> None:
    image = tmp_path / "a.img"
    sh(f"truncate -s 24M {image} && mkfs.ext4 -q -O ^metadata_csum {image} && debugfs -w -R 'mkdir /etc' {image}")
    sh(f"debugfs -w -R 'set_inode_field /etc links_count 7' {image}")
    with open_file(image, writable=True) as file:
        editor = Ext4Editor(file, Stretch.of(0, file.size))
        editor.write("/motd", b"x")
        editor.finish()
    with pytest.raises(Damaged, match="not clean"):
        check_whole(image)


@pytest.mark.skipif(os.geteuid() != 0, reason="the kernel mounts for root alone")
@pytest.mark.parametrize("make", ["", "-O orphan_file", "-O ^metadata_csum", "-t ext3"])
def test_files_removed_while_open_are_let_go(make: str, tmp_path: Path) -> None:
    image, copy = tmp_path / "live.img", tmp_path / "copy.img"
    sh(f"truncate -s 24M {image} && mkfs.ext4 -q {make} {image}")
    with mounted(image) as top, ExitStack() as opened:
        for number in range(5):
            file = opened.enter_context((top / f"f{number}").open("wb"))
            file.write(b"removed while open " * 5000)
        (top / "kept").write_bytes(b"kept")
        os.sync()
        for number in range(4):
            (top / f"f{number}").unlink()
        os.sync()
        copy.write_bytes(image.read_bytes())
    assert settled_anything(copy)
    clean(copy)
    with open_file(copy) as source:
        fs = Ext4(source)
        assert not fs.has_orphans and {e.path for e in fs.walk()} == {"/", "/lost+found", "/f4", "/kept"}
