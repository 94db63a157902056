"""The demo world: the machines of the Halvane Tide Office, with disks made from a seed in seconds."""

from __future__ import annotations

import os
import random
import struct
import subprocess
import tempfile
import uuid
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import func, select

from standin.desktop import make_file_system
from standin.disks import create_raw, partitions, tool
from standin.guest import OPAQUE_OFFSET, opaque_block
from standin.livedin import GAUGE, OLD_SURGE, SURGE, Kind, Tree, data_tree, lived_in
from standin.records import Attachment, Disk, Machine
from standin.site import Site
from standin.world import Tenancy

MIB = 1024 * 1024
_LINUX = "0FC63DAF-8483-4772-8E79-3D69D8477DE4"
_SWAP = "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"
_BIOS = "21686148-6449-6E6F-744E-656564454649"
_ESP, _ESP_MIB = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", 36
_WINDOWS = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"
# Disks of one seed are the same to the byte, whenever they are made.
_STAMP = 1_760_000_000


@dataclass(frozen=True)
class DataDisk:
    """A disk besides the boot disk: its file system's label, and where it is mounted; with ``table`` in a partition."""

    label: str
    mib: int
    mounted: str = ""
    table: bool = False


@dataclass(frozen=True)
class Spec:
    """One machine of the demo world; ``special`` is what is unusual about its disk."""

    account: str
    region: str
    zone: str
    name: str
    size: str
    state: str
    kind: Kind | None
    disk_mib: int
    data: tuple[DataDisk, ...] = ()
    special: str = ""


WORLD = (
    Spec("tide-core", "skerry-1", "skerry-1a", "gauge-seed-01", "small", "running", GAUGE, 384),
    Spec(
        "tide-core",
        "skerry-1",
        "skerry-1b",
        "gauge-seed-02",
        "small",
        "stopped",
        GAUGE,
        384,
        (DataDisk("readings", 64),),
    ),
    Spec(
        "tide-core",
        "skerry-1",
        "skerry-1a",
        "surge-bench-01",
        "large",
        "running",
        SURGE,
        1024,
        (DataDisk("grids", 128, "/srv/grids", table=True), DataDisk("runs", 256, "/var/lib/surge")),
        special="spill",
    ),
    Spec("tide-core", "skerry-1", "skerry-1b", "surge-old-01", "medium", "running", OLD_SURGE, 512, special="mbr"),
    Spec("tide-core", "skerry-1", "skerry-1a", "surge-vault-01", "medium", "running", None, 256, special="luks"),
    Spec("tide-core", "skerry-1", "skerry-1b", "pilot-desk-01", "medium", "running", None, 512, special="windows"),
    Spec("tide-core", "skerry-1", "skerry-1b", "pilot-desk-02", "medium", "stopped", None, 512, special="prepared"),
    Spec("harbour-watch", "fjord-2", "fjord-2a", "quay-gauge-01", "small", "running", GAUGE, 384),
    Spec("chart-house", "lagoon-3", "lagoon-3a", "chart-desk-01", "medium", "running", None, 512, special="windows"),
)


def populate(site: Site, tenancy: Tenancy, seed: str, work: Path) -> None:
    """Fill an empty stand-in; one that has machines is left alone."""
    with site.sessions() as session:
        if session.scalar(select(func.count()).select_from(Machine)):
            return
    work.mkdir(parents=True, exist_ok=True)
    for number, spec in enumerate(WORLD):
        if spec.account in tenancy.accounts:
            _place(site, spec, random.Random(f"{seed}/{spec.name}"), number)


def _place(site: Site, spec: Spec, rng: random.Random, number: int) -> None:
    prefix = {"skerry-1": "192.0.2", "fjord-2": "198.51.100", "lagoon-3": "203.0.113"}[spec.region]
    address = f"{prefix}.{10 + number}"
    tags = {"owner": "tide-office", "purpose": spec.name.rsplit("-", 1)[0]}
    machine = Machine(
        id=f"m-{rng.randbytes(6).hex()}",
        account=spec.account,
        region=spec.region,
        zone=spec.zone,
        name=spec.name,
        size=spec.size,
        state=spec.state,
        address=address,
        mac="52:54:00:" + rng.randbytes(3).hex(":"),
        tags=tags,
        guest={},
        console=f"[2026-10-01T06:00:00Z] {spec.name} login: \n",
        created_from=None,
        seed=None,
        client_key=None,
        subnet="quays",
        firewalls=["web", "office-ssh"],
        public_address=None,
        body="modelled",
    )
    disks = [_record(spec, rng, f"{spec.name}-boot", spec.disk_mib, tags)]
    build_boot_disk(site.path(disks[0]), spec, address, rng)
    for data in spec.data:
        disk = _record(spec, rng, f"{spec.name}-{data.label}", data.mib, tags)
        _data_disk(site.path(disk), data, rng)
        disks.append(disk)
    with site.sessions.begin() as session:
        session.add_all([machine, *disks])
        session.flush()
        for position, disk in enumerate(disks):
            session.add(Attachment(disk_id=disk.id, machine_id=machine.id, position=position))


def _record(spec: Spec, rng: random.Random, name: str, mib: int, tags: dict[str, str]) -> Disk:
    number = f"d-{rng.randbytes(6).hex()}"
    return Disk(
        id=number,
        account=spec.account,
        region=spec.region,
        name=name,
        kind="disk",
        size=mib * MIB,
        file=f"{number}.raw",
        source_disk=None,
        tags=tags,
        client_key=None,
        format="raw",
    )


def build_boot_disk(path: Path, spec: Any, address: str, rng: random.Random) -> None:
    """Make the boot disk of one demo machine."""
    create_raw(path, spec.disk_mib * MIB)
    if spec.kind is None:
        _opaque_disk(path, spec, rng)
        return
    swap, uefi = 16, spec.special == "spill"
    if spec.special == "mbr":
        _partition(path, "label: dos\nlabel-id: 0x7e1de001\nstart=2048,type=83,bootable\n")
    else:
        first = f"size={_ESP_MIB}MiB,type={_ESP}" if uefi else f"size=1MiB,type={_BIOS}"
        _partition(
            path,
            f"label: gpt\nlabel-id: {_uuid(rng)}\nfirst-lba: 2048\n"
            f"{first},uuid={_uuid(rng)},name=boot-code\n"
            f"size={swap}MiB,type={_SWAP},uuid={_uuid(rng)},name=swap\ntype={_LINUX},uuid={_uuid(rng)},name=root\n",
        )
    parts = partitions(path)
    root = parts[-1]
    if uefi:
        _loader(path, parts[0].start)
    else:
        with path.open("r+b") as file:
            file.write(rng.randbytes(440))  # the boot code that BIOS runs
    if spec.special != "mbr":
        with path.open("r+b") as file:
            if not uefi:
                file.seek(parts[0].start)
                file.write(rng.randbytes(30_000))
            file.seek(parts[1].start)
            file.write(_swap_area(parts[1].size, rng))
    tree = lived_in(spec.kind, spec.name, address, rng, spill=spec.special == "spill")
    mounted = "".join(f"LABEL={d.label} {d.mounted} ext4 nofail 0 2\n" for d in spec.data if d.mounted)
    tree.put("/etc/fstab", tree.files["/etc/fstab"][0].decode() + mounted)
    tree.folders += [disk.mounted for disk in spec.data if disk.mounted]
    _make_ext4(path, root.start, root.size, rng, tree)


def _loader(path: Path, start: int) -> None:
    """The file system from which UEFI boots, with a signed loader."""
    head = bytearray(4096)
    head[:2], head[0x3C:0x40], head[0x80:0x84] = b"MZ", struct.pack("<I", 0x80), b"PE\0\0"
    struct.pack_into("<H", head, 0x80 + 24, 0x20B)
    struct.pack_into("<II", head, 0x80 + 24 + 112 + 32, 0x800, 1400)  # where the certificates lie
    with tempfile.TemporaryDirectory() as folder:
        volume, loader = Path(folder) / "esp", Path(folder) / "BOOTX64.EFI"
        create_raw(volume, _ESP_MIB * MIB)
        loader.write_bytes(bytes(head))
        for command in (
            [tool("mkfs.fat"), "--invariant", "-F", "32", "-n", "EFI", str(volume)],
            [tool("mmd"), "-i", str(volume), "::EFI", "::EFI/BOOT"],
            [tool("mcopy"), "-i", str(volume), str(loader), "::EFI/BOOT/BOOTX64.EFI"],
        ):
            subprocess.run(command, check=True, capture_output=True)
        with path.open("r+b") as file:
            file.seek(start)
            file.write(volume.read_bytes())


def _make_ext4(
    path: Path, start: int, size: int, rng: random.Random, tree: Tree, label: str = "root", mounted: str = "/"
) -> None:
    environment = {**os.environ, "E2FSPROGS_FAKE_TIME": str(_STAMP)}
    subprocess.run(
        [
            tool("mke2fs"),
            "-q",
            "-F",
            "-t",
            "ext4",
            "-b",
            "4096",
            "-L",
            label,
            "-U",
            _uuid(rng),
            "-O",
            "^resize_inode",
            "-E",
            f"offset={start},hash_seed={_uuid(rng)},lazy_itable_init=1",
            str(path),
            f"{size // 1024}k",
        ],
        check=True,
        env=environment,
        stderr=subprocess.DEVNULL,
    )
    with tempfile.TemporaryDirectory() as folder:
        script = Path(folder) / "script"
        told = f"ssv last_mounted {mounted}\n" if mounted else ""
        script.write_text("\n".join(_commands(tree, Path(folder))) + f"\n{told}")
        done = subprocess.run(
            [tool("debugfs"), "-w", "-f", str(script), f"{path}?offset={start}"],
            env=environment,
            capture_output=True,
            text=True,
            check=True,
        )
    problems = [line for line in done.stderr.splitlines() if not line.startswith("debugfs 1.")]
    if problems:
        raise RuntimeError(f"building a demo disk: {problems[0]}")


def _commands(tree: Tree, folder: Path) -> list[str]:
    """debugfs commands that write a tree: folders first, the deleted files last, gone again."""
    commands, made, number = [], {"/", "/lost+found"}, 0

    def parents(path: str, owner: int) -> None:
        for parent in reversed(Path(path).parents):
            if str(parent) not in made:
                made.add(str(parent))
                commands.append(f'mkdir "{parent}"')
                _stamp(str(parent), 0o40755, owner if str(parent).startswith("/home/") else 0)

    def _stamp(path: str, mode: int, owner: int) -> None:
        commands.extend([f'sif "{path}" mode 0{mode:o}', f'sif "{path}" uid {owner}', f'sif "{path}" gid {owner}'])
        commands.extend(f'sif "{path}" {field} @{_STAMP}' for field in ("atime", "ctime", "mtime", "crtime"))

    def write(path: str, data: bytes, mode: int, owner: int) -> None:
        nonlocal number
        number += 1
        local = folder / f"f{number}"
        local.write_bytes(data)
        parents(path, owner)
        commands.append(f'write {local} "{path}"')
        _stamp(path, 0o100000 | mode, owner)

    for empty in tree.folders:
        parents(f"{empty}/in", 0)
    for path, (data, mode, owner) in sorted(tree.files.items()):
        write(path, data, mode, owner)
    for path, target in sorted(tree.links.items()):
        parents(path, 0)
        commands.append(f'symlink "{path}" {target}')
        commands.extend(f'sif "{path}" {field} @{_STAMP}' for field in ("atime", "ctime", "mtime", "crtime"))
    for path, data in tree.deleted.items():
        write(path, data, 0o600, 0)
        commands.append(f'rm "{path}"')
    return commands


def _opaque_disk(path: Path, spec: Any, rng: random.Random) -> None:
    """A disk whose files nobody outside can read: encrypted, or another system's."""
    kind = _LINUX if spec.special == "luks" else _WINDOWS
    _partition(path, f"label: gpt\nlabel-id: {_uuid(rng)}\ntype={kind},uuid={_uuid(rng)},name=system\n")
    part = partitions(path)[0]
    facts: dict[str, Any] = {"host_name": spec.name, "machine_id": rng.randbytes(16).hex()}
    if spec.special != "luks":
        facts["os"] = {"id": "desk", "pretty-name": "Desktop system, Windows-like (modelled)", "version-id": "10"}
        if spec.special == "prepared":
            facts |= {"host_name": "", "machine_id": "", "runs": 1, "prepared_at": "2026-10-12T08:30Z"}
        make_file_system(path, part.start, part.size, facts, rng)
        return
    head = b"LUKS\xba\xbe" + struct.pack(">H", 2) + rng.randbytes(4000)
    facts["os"] = {"id": "halvane", "pretty-name": "Halvane Linux 12 (encrypted)", "version-id": "12"}
    with path.open("r+b") as file:
        file.seek(part.start)
        file.write(head)
        file.seek(part.start + OPAQUE_OFFSET)
        file.write(opaque_block(facts) + rng.randbytes(6 * MIB))


def _data_disk(path: Path, disk: DataDisk, rng: random.Random) -> None:
    create_raw(path, disk.mib * MIB)
    start, size = 0, disk.mib * MIB
    if disk.table:
        _partition(path, f"label: gpt\nlabel-id: {_uuid(rng)}\ntype={_LINUX},uuid={_uuid(rng)},name={disk.label}\n")
        part = partitions(path)[0]
        start, size = part.start, part.size
    _make_ext4(path, start, size, rng, data_tree(disk.label, rng), disk.label, disk.mounted)


def _swap_area(size: int, rng: random.Random) -> bytes:
    """A swap header (version 1) and pages that hold what programs had in memory."""
    header = bytearray(4096)
    struct.pack_into("<III", header, 1024, 1, size // 4096 - 1, 0)
    header[1036:1052] = rng.randbytes(16)
    header[1052:1056] = b"swap"
    header[4086:] = b"SWAPSPACE2"
    return bytes(header) + b"swapped-out memory: session=" + rng.randbytes(200_000)


def _partition(path: Path, script: str) -> None:
    subprocess.run([tool("sfdisk"), "-q", str(path)], input=script, text=True, check=True, capture_output=True)


def _uuid(rng: random.Random) -> str:
    return str(uuid.UUID(bytes=rng.randbytes(16), version=4))
