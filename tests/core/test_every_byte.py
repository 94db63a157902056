"""Nothing that may matter is left out of a capture, and nothing that no reader sees is taken along."""

from __future__ import annotations

import gzip
import os
import random
import struct
import subprocess
import tarfile
import zlib
from io import BytesIO
from pathlib import Path

import pytest

from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.fat import Fat
from bathotype.core.disk.layout import read_layout, used_ranges
from bathotype.core.disk.source import Masked, Window, open_file
from bathotype.core.errors import BathotypeError, Damaged, Refused
from bathotype.core.formats.catalogue import lay_out, open_image
from bathotype.core.formats.ovf import Appliance, OvaDisks
from bathotype.core.generalize import residue
from bathotype.core.generalize.plan import capture_ranges, plan
from bathotype.core.generalize.profile import DropLines, Profile, RemoveUsers, SetLine, builtin_profile
from bathotype.core.guest.files import GuestDisk
from tests.core.test_journal import mounted, sh
from tests.kernel import clean
from tests.support import Memory

MIB = 1024 * 1024
MARK = b"what lies here belongs to somebody"


def captured(data: bytes) -> bytes:
    """What a capture keeps of a disk."""
    source = Memory(data)
    return Masked(source, used_ranges(source, read_layout(source))).read(0, len(data))


def made(path: Path, command: str) -> bytes:
    sh(command.format(path))
    return path.read_bytes()


def partition(folder: Path, size: str, script: str, name: str = "disk.img") -> bytearray:
    """A disk that sfdisk partitioned."""
    path = folder / name
    sh(f"truncate -s {size} {path}")
    subprocess.run(["sfdisk", "-q", path], input=script, text=True, check=True, capture_output=True)
    return bytearray(path.read_bytes())


def table(folder: Path, data: bytes) -> str:
    """The partition table as sfdisk reads it."""
    path = folder / "judged.img"
    path.write_bytes(data)
    done = subprocess.run(["sfdisk", "-d", path], capture_output=True, text=True, check=True)
    assert "invalid" not in done.stderr and "corrupt" not in done.stderr, done.stderr
    return done.stdout


# Partition tables


@pytest.mark.parametrize(
    ("scheme", "script"),
    [
        ("dos", "label: dos\nstart=2048, size=20480, type=83\nstart=40960, type=5\nstart=49152, size=8192, type=83\n"),
        ("gpt", "label: gpt\ntable-length: 256\nstart=2048, size=20480\nstart=40960, size=20480\n"),
    ],
)
def test_every_table_of_a_disk_is_kept(scheme: str, script: str, tmp_path: Path) -> None:
    disk = partition(tmp_path, "40M", script)
    before = table(tmp_path, disk)
    for at in (24 * 1024 * 512, 39 * MIB - 4096):  # between partitions, and behind the last one
        disk[at : at + len(MARK)] = MARK
    kept = captured(bytes(disk))
    assert kept == disk
    assert table(tmp_path, kept) == before


def test_a_disk_that_grew_keeps_the_table_at_its_former_end(tmp_path: Path) -> None:
    disk = partition(tmp_path, "16M", "label: gpt\nstart=2048, size=8192\n")
    grown = bytes(disk) + bytes(16 * MIB)
    assert captured(grown) == grown


def in_sectors_of_4096(label: str, inner: bytes) -> bytes:
    """A disk with 4096-byte sectors and one partition at 1 MiB; no tool here makes one in a file."""
    disk = bytearray(len(inner) + 4 * MIB)
    first, count = MIB // 4096, len(inner) // 4096
    disk[first * 4096 : first * 4096 + len(inner)] = inner
    disk[510:512] = b"\x55\xaa"
    if label == "mbr":
        disk[446:462] = struct.pack("<B3xB3xII", 0, 0x83, first, count)
        return bytes(disk)
    disk[446:462] = struct.pack("<B3xB3xII", 0, 0xEE, 1, len(disk) // 4096 - 1)
    linux = bytes.fromhex("af3dc60f838472478e793d69d8477de4")
    entries = (
        (linux + b"\x11" * 16 + struct.pack("<QQQ", first, first + count - 1, 0)).ljust(128, b"\0").ljust(16384, b"\0")
    )
    last = len(disk) // 4096 - 1
    for here, other, place in ((1, last, 2), (last, 1, last - 4)):
        header = struct.pack(
            "<8sIIIIQQQQ16sQIII", b"EFI PART", 0x10000, 92, 0, 0, here, other, 6, last - 5, b"\x22" * 16, place, 128, 128,
            zlib.crc32(entries),
        )  # fmt: skip
        header = header[:16] + struct.pack("<I", zlib.crc32(header)) + header[20:]
        disk[here * 4096 : here * 4096 + 92] = header
        disk[place * 4096 : place * 4096 + 16384] = entries
    return bytes(disk)


@pytest.mark.parametrize("label", ["gpt", "mbr"])
def test_sectors_of_4096_bytes_are_recognised(label: str, tmp_path: Path) -> None:
    inner = made(tmp_path / "fs.img", "truncate -s 12M {0} && mkfs.ext4 -q {0}")
    disk = in_sectors_of_4096(label, inner)
    layout = read_layout(Memory(disk))
    [volume] = layout.volumes
    assert (layout.scheme, volume.filesystem, volume.start, volume.length) == (label, "ext4", MIB, len(inner))
    kept = captured(disk)
    (tmp_path / "kept.img").write_bytes(kept[MIB : MIB + len(inner)])
    clean(tmp_path / "kept.img")
    assert kept[:MIB] == disk[:MIB] and kept[-8 * 4096 :] == disk[-8 * 4096 :]


def test_a_boot_sector_is_not_taken_for_a_table(tmp_path: Path) -> None:
    floppy = made(
        tmp_path / "f.img", "truncate -s 1440K {0} && mkfs.fat -F 12 {0} >/dev/null && mcopy -i {0} /etc/hostname ::A"
    )
    layout = read_layout(Memory(floppy))
    assert (layout.scheme, [v.filesystem for v in layout.volumes]) == ("none", ["fat"])
    exfat = bytearray(4 * MIB)
    exfat[3:11], exfat[510:512] = b"EXFAT   ", b"\x55\xaa"
    exfat[446:450] = b"\x80\x01\x01\x00"
    [volume] = read_layout(Memory(bytes(exfat))).volumes
    assert volume.filesystem == "exfat" and not volume.understood and not volume.note


# File systems


def test_what_lies_behind_a_file_system_is_kept(tmp_path: Path) -> None:
    for kind, make in (
        ("ext4", "truncate -s 8M {0} && mkfs.ext4 -q {0}"),
        ("fat", "truncate -s 8M {0} && mkfs.fat {0} >/dev/null"),
        ("swap", "truncate -s 8M {0} && mkswap -q {0}"),
    ):
        data = made(tmp_path / f"{kind}.img", make)
        behind = data + bytes(MIB) + MARK.ljust(MIB, b"\0")
        [volume] = read_layout(Memory(behind)).volumes
        assert volume.filesystem == kind and volume.understood
        assert MARK in captured(behind), kind


@pytest.mark.parametrize("mib", [17, 24, 33])
def test_a_small_fat32_is_no_fat16(mib: int, tmp_path: Path) -> None:
    path, content = tmp_path / "fat.img", os.urandom(3 * MIB)
    sh(f"truncate -s {mib}M {path} && mkfs.fat -F 32 {path} >/dev/null")
    data = bytearray(path.read_bytes())
    sector, per_cluster, reserved, copies = struct.unpack_from("<HBHB", data, 11)
    length = struct.unpack_from("<I", data, 36)[0] * sector
    cluster, first = sector * per_cluster, reserved * sector + copies * length
    count = -(-len(content) // cluster)
    chain = struct.pack(
        f"<{count}I", *range(4, 3 + count), 0x0FFFFFFF
    )  # the file begins at cluster 3; mtools refuses it
    for copy in range(copies):
        at = reserved * sector + copy * length + 12
        data[at : at + len(chain)] = chain
    data[first : first + 32] = struct.pack(
        "<11sBxBHHHHHHHI", b"BIG     BIN", 0x20, 0, 0, 33, 33, 0, 0, 33, 3, len(content)
    )
    data[first + cluster : first + cluster + len(content)] = content
    struct.pack_into("<I", data, sector + 488, 0xFFFFFFFF)  # how many clusters are free: to be counted
    kept = captured(bytes(data))
    path.write_bytes(kept)
    sh(f"fsck.fat -n {path}")
    fs = Fat(Memory(kept))
    assert fs.width == 32 and [fs.read(file) for name, file in fs.walk() if name == "/BIG.BIN"] == [content]


def test_a_date_that_cannot_be_is_no_error(tmp_path: Path) -> None:
    path = tmp_path / "fat.img"
    sh(f"truncate -s 4M {path} && mkfs.fat {path} >/dev/null && mcopy -i {path} /etc/hostname ::A.TXT")
    data = bytearray(path.read_bytes())
    at = data.index(b"A       TXT")
    for date in (13 << 5 | 31, 0, 0xFFFF, 2 << 5 | 30):
        struct.pack_into("<HH", data, at + 22, 0xFFFF, date)
        assert [name for name, _ in Fat(Memory(bytes(data))).walk()] == ["/", "/A.TXT"]


def test_two_signatures_leave_nothing_out_and_say_so(tmp_path: Path) -> None:
    data = bytearray(made(tmp_path / "a.img", "truncate -s 8M {0} && mkswap -q {0}"))
    header = bytes(data[:4096])
    data = bytearray(made(tmp_path / "b.img", "truncate -s 8M {0} && mkfs.ext4 -q -b 4096 {0}"))
    data[1024 + 1024 : 4096] = header[2048:4096]
    struct.pack_into("<II", data, 1024, *struct.unpack_from("<II", data, 1024))
    data[5 * MIB : 5 * MIB + len(MARK)] = MARK  # in what the file system calls free
    [volume] = read_layout(Memory(bytes(data))).volumes
    if "swap" not in volume.note:  # ext4's own numbers stand where swap has its version
        assert volume.filesystem == "ext4" and MARK not in captured(bytes(data))
    luks = bytearray(8 * MIB)
    luks[:6], luks[1080:1082], luks[65600:65608] = b"LUKS\xba\xbe", b"\x53\xef", b"_BHRfS_M"
    luks[5 * MIB : 5 * MIB + len(MARK)] = MARK
    [volume] = read_layout(Memory(bytes(luks))).volumes
    assert volume.filesystem == "luks" and "luks and ext4 and btrfs" in volume.note
    assert captured(bytes(luks)) == luks


def test_a_file_system_under_a_table_leaves_nothing_out(tmp_path: Path) -> None:
    data = bytearray(made(tmp_path / "a.img", "truncate -s 24M {0} && mkfs.ext4 -q {0}"))
    old = partition(tmp_path, "24M", "label: dos\nstart=2048, size=20480, type=83\n")
    data[440:512] = old[440:512]
    data[MIB : 3 * MIB] = made(tmp_path / "old.img", "truncate -s 2M {0} && mkfs.ext4 -q -b 1024 {0}")
    data[9 * MIB : 9 * MIB + len(MARK)] = MARK
    layout = read_layout(Memory(bytes(data)))
    assert "both a partition table and an ext4 file system" in layout.remarks[0]
    assert captured(bytes(data)) == data


def test_a_group_that_contradicts_its_checksum_is_believed_in_nothing(tmp_path: Path) -> None:
    for options, at in (("", 4096 + 18), ("-O ^metadata_csum,uninit_bg,^64bit", 4096 + 18)):
        data = bytearray(
            made(tmp_path / "a.img", f"rm -f {{0}}; truncate -s 16M {{0}} && mkfs.ext4 -q -b 4096 {options} {{0}}")
        )
        data[9 * MIB : 9 * MIB + len(MARK)] = MARK
        assert MARK not in captured(bytes(data))
        data[at] ^= 3  # the flags say what of the group was never initialised
        assert MARK in captured(bytes(data))


@pytest.mark.skipif(os.geteuid() != 0, reason="the kernel mounts for root alone")
@pytest.mark.parametrize(
    "options", ["", "-b 1024", "-O ^metadata_csum,uninit_bg", "-O sparse_super2", "-O ^resize_inode"]
)
def test_a_disks_former_life_stays_behind(options: str, tmp_path: Path) -> None:
    image, kept = tmp_path / "a.img", tmp_path / "kept.img"
    image.write_bytes(b"FORMERLIFE" * (150 * MIB // 10))
    sh(f"mkfs.ext4 -q -F -E nodiscard {options} {image}")
    with mounted(image) as top:
        (top / "a").write_bytes(os.urandom(MIB))
        sh(f"fallocate -l 20M {top}/reserved && fallocate -l 512K {top}/pieces")
        with (top / "pieces").open("r+b") as file:
            for at in range(0, 512 * 1024, 16384):  # more extents than the inode holds
                file.seek(at)
                file.write(b"y" * 4096)
        wanted = {name: (top / name).read_bytes() for name in ("a", "reserved", "pieces")}
    with open_file(image) as source:
        used = used_ranges(source, read_layout(source))
        with kept.open("wb") as file:
            file.truncate(source.size)
            for start, end in used:
                file.seek(start)
                file.write(source.read(start, end - start))
    assert b"FORMERLIFE" not in kept.read_bytes()
    clean(kept)
    with mounted(kept) as top:
        assert {name: (top / name).read_bytes() for name in wanted} == wanted
        (top / "more").write_bytes(os.urandom(30 * MIB))
    clean(kept)


@pytest.mark.parametrize("options", ["", "-b 1024", "-I 128", "-O inline_data", "-t ext3", "-t ext2 -b 1024"])
def test_what_lies_behind_a_files_end_stays_behind(options: str, tmp_path: Path) -> None:
    sizes = (1, 700, 1024, 4095, 4096, 4097, 70_001, 400_001)
    top = tmp_path / "top"
    top.mkdir()
    for size in sizes:
        (top / str(size)).write_bytes(b"f" * size)
    data = bytearray(made(tmp_path / "a.img", f"truncate -s 8M {{0}} && mkfs.ext4 -q {options} -d {top} {{0}}"))
    fs = Ext4(Memory(bytes(data)))
    dirty = 0
    for entry in fs.walk():
        if entry.inode.is_file and entry.inode.size % fs.block_size:
            for logical, start, count, _ in fs.extents(entry.inode):
                end = entry.inode.size - logical * fs.block_size
                if 0 < end <= count * fs.block_size:
                    at, until = start * fs.block_size + end, (start + count) * fs.block_size
                    data[at:until] = b"B" * (until - at)
                    dirty += until - at
    assert dirty > 1500
    kept = captured(bytes(data))
    assert kept.count(b"BBBB") == 0
    fs = Ext4(Memory(kept))
    assert {e.path: fs.read(e.inode) for e in fs.walk() if e.inode.is_file} == {f"/{n}": b"f" * n for n in sizes}
    (tmp_path / "kept.img").write_bytes(kept)
    clean(tmp_path / "kept.img")


@pytest.mark.parametrize("options", ["-O inline_data", "-t ext3", ""])
def test_an_inode_that_was_let_go_tells_nothing(options: str, tmp_path: Path) -> None:
    top, image = tmp_path / "top", tmp_path / "a.img"
    top.mkdir()
    for name in ("kept", "gone"):
        (top / name).write_bytes(f"{name} small file's bytes".encode())
    (top / "link").symlink_to("a-target-that-nobody-shall-read")
    sh(f"truncate -s 8M {image} && mkfs.ext4 -q {options} -d {top} {image}")
    for name in ("gone", "link"):
        sh(f"debugfs -w -R 'rm {name}' {image}")
    kept = captured(image.read_bytes())
    assert b"gone small" not in kept and b"a-target-that" not in kept and b"kept small" in kept
    image.write_bytes(kept)
    clean(image)


# Files that hold a disk


@pytest.mark.parametrize(
    ("head", "named"),
    [
        (b"QED\0", "QED"),
        (gzip.compress(b"x" * 9000, mtime=0), "gzip"),
        (b"\xfd7zXZ\0", "xz"),
        (b"\x28\xb5\x2f\xfd", "zstd"),
        (b"PK\x03\x04", "ZIP"),
        (b"a letter to somebody", "no format that is known"),
        (b"", "no format that is known"),
    ],
)
def test_a_file_of_another_kind_is_refused_by_its_name(head: bytes, named: str) -> None:
    file = Memory(head.ljust(MIB, b"\0"))
    with pytest.raises(Refused, match=named):
        open_image(file)
    if named == "no format that is known":
        assert open_image(file, "raw").disk.size == MIB, "somebody's word counts"


def test_a_vmdk_without_its_parent_is_refused() -> None:
    whole = lay_out("vmdk", Memory(os.urandom(MIB)), appliance=Appliance("a", "b", "1"), identity=bytes(16))
    data = whole.read(0, whole.size)
    assert open_image(Memory(data)).disk.size == MIB
    with pytest.raises(Refused, match="its parent"):
        open_image(Memory(data.replace(b"parentCID=ffffffff", b"parentCID=1a2b3c4d")))


OVF = "http://schemas.dmtf.org/ovf/envelope/1"


def archive(data: bytes, attributes: str, name: str = "disk.vmdk", part: int = 0) -> Memory:
    """An OVA around the file of a disk, divided into parts of so many bytes."""
    text = (
        f'<Envelope xmlns="{OVF}" xmlns:ovf="{OVF}"><References><File ovf:id="f" ovf:href="{name}" {attributes}/></References>'
        '<DiskSection><Disk ovf:diskId="d" ovf:fileRef="f" ovf:capacity="1048576"/></DiskSection></Envelope>'
    ).encode()
    plain, made = name.replace("%20", " "), BytesIO()
    count = -(-len(data) // part) if part else 0
    parts = [(f"{plain}.{n:09d}", data[n * part : (n + 1) * part]) for n in range(count)] or [(plain, data)]
    with tarfile.open(fileobj=made, mode="w", format=tarfile.USTAR_FORMAT) as tar:
        for member, content in (("./a.ovf", text), *parts):
            info = tarfile.TarInfo(member)
            info.size = len(content)
            tar.addfile(info, BytesIO(content))
    return Memory(made.getvalue())


def vmdk(disk: bytes) -> bytes:
    file = lay_out("vmdk", Memory(disk), appliance=Appliance("a", "b", "1"), identity=bytes(16))
    return file.read(0, file.size)


@pytest.mark.parametrize(
    ("attributes", "name", "part", "told"),
    [
        ('ovf:compression="bzip2"', "disk.vmdk", 0, "compressed"),
        ('ovf:chunkSize="300000"', "disk.vmdk", 300_000, ""),
        ('ovf:chunkSize="9000000"', "disk.vmdk", 9_000_000, ""),
        ('ovf:chunkSize="300000"', "disk.vmdk", 200_000, "not those"),
        ('ovf:chunkSize="300000" ovf:size="5"', "disk.vmdk", 300_000, "not those"),
        ('ovf:chunkSize="300000"', "disk.vmdk", 0, "lacks"),
        ('ovf:chunkSize="-1"', "disk.vmdk", 0, "is not a number"),
        ("", "a%20disk.vmdk", 0, ""),
        ("", "./disk.vmdk", 0, ""),
    ],
)
def test_archives_as_others_write_them(attributes: str, name: str, part: int, told: str) -> None:
    file = archive(vmdk(os.urandom(MIB)), attributes, name, part)
    if told:
        with pytest.raises((Refused, Damaged), match=told):
            open_image(file)
    else:
        assert open_image(file).disk.size == MIB


@pytest.mark.parametrize(("more", "part"), [("", 0), (' ovf:chunkSize="300000" ovf:size="1234567"', 300_000)])
def test_a_disk_that_is_packed_in_its_archive(more: str, part: int) -> None:
    disk = os.urandom(MIB)
    packed = gzip.compress(vmdk(disk), mtime=0)
    file = archive(packed, f'ovf:compression="gzip"{more}', part=part)
    with pytest.raises(Refused, match="packed with gzip"):
        open_image(file)
    assert OvaDisks(file).packed
    whole = Memory(b"".join(OvaDisks(file).unpacked(2 * MIB)))
    assert not OvaDisks(whole).packed and open_image(whole).disk.read(0, MIB) == disk
    with pytest.raises(Refused, match=r"more than 1\.0 MiB"):
        list(OvaDisks(file).unpacked(MIB))
    with pytest.raises(Damaged, match="to its end"):
        list(OvaDisks(archive(packed[:-100], f'ovf:compression="gzip"{more}', part=part)).unpacked(2 * MIB))
    plain = archive(vmdk(disk), 'ovf:compression="gzip"')
    assert open_image(plain).disk.read(0, MIB) == disk, "some say so of files that are not packed"


# What generalization changes


def guest(folder: Path, files: dict[str, bytes], owners: dict[str, int]) -> GuestDisk:
    """An ext4 disk with some files, made by mkfs.ext4 from a folder."""
    top = folder / "top"
    for path, data in files.items():
        target = top / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
    image = folder / "guest.img"
    sh(f"truncate -s 8M {image} && mkfs.ext4 -q -d {top} {image}")
    commands = "".join(f"sif {path} uid {uid}\n" for path, uid in owners.items())
    (folder / "commands").write_text(commands)
    sh(f"debugfs -w -f {folder}/commands {image}")
    return GuestDisk.open(Memory(image.read_bytes()))


def test_only_a_users_own_home_goes_with_it(tmp_path: Path) -> None:
    homes = {
        "own": "/home/own", "system": "/usr/bin", "lib": "/var/lib", "pattern": "/home/*", "up": "/home/../etc",
        "shared": "/home/both", "outer": "/home/outer", "slash": "/home/slash/", "root-like": "/home", "none": "",
    }  # fmt: skip
    passwd = "".join(f"{name}:x:{1000 + n}:100::{home}:/bin/sh\n" for n, (name, home) in enumerate(homes.items()))
    passwd += "kept:x:2000:100::/home/both:/bin/sh\ninner:x:2001:100::/home/outer/inner:/bin/sh\n"
    there = ("own", "both", "outer", "outer/inner", "slash")
    files = {f"/home/{name}/file": b"x" for name in there} | {
        "/etc/passwd": passwd.encode(), "/usr/bin/sh": b"x", "/var/lib/state": b"x",
    }  # fmt: skip
    uids = {name: 1000 + n for n, name in enumerate(homes)}
    owners = {"/home/own": uids["own"], "/home/both": uids["shared"], "/home/outer": uids["outer"],
              "/home/slash": uids["slash"], "/usr/bin": uids["system"]}  # fmt: skip
    disk = guest(tmp_path, files, owners)
    step = RemoveUsers(id="users", do="remove-users", users=list(homes))
    done = plan(Profile(name="test", steps=[step]), disk)
    gone = {path for path in done.removed if path.count("/") == 2}
    assert gone == {"/home/own", "/home/slash"}
    kept = {change.path for change in done.changes if change.action == "keep"}
    assert kept == {"/usr/bin", "/var/lib", "/home/*", "/home/../etc", "/home/both", "/home/outer", "/home"}
    assert b"kept:" in done.written["/etc/passwd"].data and b"own:" not in done.written["/etc/passwd"].data


def test_paths_lead_through_links_and_homes(tmp_path: Path) -> None:
    swap = bytearray(64 * 4096)
    struct.pack_into("<II", swap, 1024, 1, 63)
    swap[4086:4096], swap[8192 : 8192 + len(MARK)] = b"SWAPSPACE2", MARK
    passwd = b"ann:x:1000:100::/home/ann:/bin/sh\nbob:x:1001:100::/srv/bob/:/bin/sh\nsys:x:3:3::/etc:/bin/false\n"
    secrets = [
        "/data/log/deep/syslog", "/data/tmp/token", "/data/home/ann/.bash_history", "/data/keys/id_ed25519",
        "/srv/bob/.ssh/id_rsa", "/srv/bob/.bash_history",
    ]  # fmt: skip
    stays = ["/etc/ssh/sshd_config", "/data/home/ann/notes", "/srv/bob/notes", "/etc/.bash_history", "/data/other"]
    links = {
        "/var/log": "/data/log", "/tmp": "data/tmp", "/home": "data/home", "/data/home/ann/.ssh": "/data/keys",
        "/data/tmp/etc": "/etc", "/etc/machine-id": "../var/lib/ids/machine-id", "/data/home/ann/.gnupg": "/etc/ssh",
        "/swaps": "/var/swaps", "/data/loop": "/data/loop", "/out": "../../../../..",
    }  # fmt: skip
    files = dict.fromkeys([*secrets, *stays], b"x\n") | {
        "/etc/passwd": passwd,
        "/etc/fstab": b"/swaps/one\\040area none swap sw 0 0\n//var/./swaps/two none swap sw 0 0\n",
        "/var/lib/ids/machine-id": b"0a1b2c3d4e5f60718293a4b5c6d7e8f9\n",
        "/var/swaps/one area": bytes(swap), "/var/swaps/two": bytes(swap), "/opt/forgotten": bytes(swap),
    }  # fmt: skip
    for link, target in links.items():
        path = tmp_path / "top" / link.lstrip("/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.symlink_to(target)
    disk = guest(tmp_path, files, {})
    done = plan(builtin_profile("linux"), disk, host_name="pier-09")
    assert not [path for path in secrets if path not in done.removed]
    assert not [path for path in (*stays, "/etc", "/etc/ssh", "/data/log", "/data/home") if path in done.removed]
    assert "/data/tmp/etc" in done.removed, "a link in a folder of temporary files goes, and nothing that it leads to"
    assert done.written["/var/lib/ids/machine-id"].data == b"" and "/etc/machine-id" not in done.removed
    assert len({c.path for c in done.changes}) == len(done.changes), "nothing twice"
    assert {area.name for area in disk.swap_areas()} == {"/var/swaps/one area", "/var/swaps/two", "/opt/forgotten"}
    kept = Masked(disk.source, capture_ranges(done, disk)).read(0, disk.source.size)
    assert MARK in disk.source.read(0, disk.source.size) and MARK not in kept
    found = {f.path for f in residue.scan(disk, residue.SourceIdentity()) if f.rule in ("history", "log")}
    assert found == {"/data/log/deep/syslog", "/data/home/ann/.bash_history", "/srv/bob/.bash_history"}


def test_lines_that_were_not_meant_stay_byte_for_byte(tmp_path: Path) -> None:
    hosts = (
        b"127.0.0.1 localhost\r\n192.0.2.7 pier-07\r\n# a\x0cpage\x0bof \xe2\x80\xa8 notes \xff\xfe pier\n"
        b"192.0.2.8 pier-08\n192.0.2.9 other"
    )
    disk = guest(tmp_path, {"/etc/hosts": hosts, "/etc/passwd": b""}, {})
    drop = DropLines(id="hosts", do="drop-lines", paths=["/etc/hosts"], match=r"\s{host_name}$")

    def after(name: str, *steps: DropLines | SetLine) -> bytes:
        done = plan(Profile(name="test", steps=list(steps)), disk, host_name=name)
        return done.written["/etc/hosts"].data if "/etc/hosts" in done.written else hosts

    assert after("pier-07", drop) == hosts.replace(b"192.0.2.7 pier-07\r\n", b"")
    assert after("other", drop) == hosts.removesuffix(b"192.0.2.9 other")
    for nothing in ("", " ", "\n", "nobody"):
        assert after(nothing, drop) == hosts
    line = SetLine(id="line", do="set-line", paths=["/etc/hosts"], match="^192.0.2.7 ", line="192.0.2.70 jetty")
    assert after("", line) == hosts.replace(b"192.0.2.7 pier-07\r\n", b"192.0.2.70 jetty\r\n")


def test_nothing_but_documented_errors_comes_of_changed_bytes(tmp_path: Path) -> None:
    chance = random.Random(11)
    ext4 = made(tmp_path / "e.img", "truncate -s 4M {0} && mkfs.ext4 -q -b 1024 {0}")
    fat = made(tmp_path / "f.img", "truncate -s 4M {0} && mkfs.fat {0} >/dev/null")
    disk = bytes(
        partition(
            tmp_path, "8M", "label: dos\nstart=2048, size=2048, type=83\nstart=6144, type=5\nstart=8192, type=83\n"
        )
    )
    for data in (ext4, fat, disk):
        for _ in range(250):
            mine = bytearray(data)
            for _ in range(chance.randrange(1, 9)):
                at = chance.choice((chance.randrange(4096), chance.randrange(len(mine))))
                mine[at] = chance.randrange(256)
            source = Memory(bytes(mine))
            try:
                layout = read_layout(source)
                used_ranges(source, layout)
                for volume in layout.volumes:
                    window = Window(source, volume.start, volume.length)
                    if volume.filesystem == "ext4":
                        list(Ext4(window).walk())
                    elif volume.filesystem == "fat":
                        list(Fat(window).walk())
            except BathotypeError:
                pass
