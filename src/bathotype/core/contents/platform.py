"""What a disk needs of a machine: how it boots, for which processor its programs are made, which devices it can drive.

Sources: the UEFI specification (default boot file names; a signed loader has a certificate table, as the PE format says),
the GPT attribute "legacy BIOS bootable", the boot code of the MBR, the ELF header (``e_machine``) of programs that every
system has, and the lists of drivers that Linux keeps of each kernel (modules.dep(5), ``modules.builtin``).
"""

from __future__ import annotations

import struct
from collections.abc import Iterable
from dataclasses import dataclass

from bathotype.core.disk.diskfile import DiskFiles
from bathotype.core.disk.ext4.readalone import CLUSTERED, ReadExt4
from bathotype.core.disk.fat import Fat
from bathotype.core.disk.layout import Layout, Volume
from bathotype.core.disk.otherfiles import tree_of_system
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged

_MACHINES = {0x3E: "x86_64", 0xB7: "aarch64", 0x03: "x86", 0xF3: "riscv64", 0x28: "arm"}
_EFI_NAMES = {"bootx64.efi": "x86_64", "bootaa64.efi": "aarch64", "bootriscv64.efi": "riscv64"}
_PROGRAMS = (
    "/usr/lib/systemd/systemd",
    "/lib/systemd/systemd",
    "/usr/bin/dash",
    "/bin/dash",
    "/bin/busybox",
    "/bin/sh",
)
#: What drives a disk or a network card, by the name of Linux's module.
_DISK_DRIVERS = {"virtio_blk": "virtio-blk", "virtio_scsi": "virtio-scsi", "ahci": "sata", "nvme": "nvme"}
_NETWORK_DRIVERS = {"virtio_net": "virtio-net", "e1000": "e1000", "e1000e": "e1000e", "igb": "igb"}
_MODULES = ("/usr/lib/modules", "/lib/modules")
_MOST_KERNELS, _MOST_LIST = 8, 4 << 20


@dataclass(frozen=True)
class Platform:
    """``boot`` holds ``bios``, ``uefi``, both, or nothing that we know of; ``architecture`` is empty where unknown, and so
    are the drivers.

    ``signed_loader`` says that the UEFI loader carries a signature, as secure boot demands; ``trusted_module`` that a
    secret of the guest is bound to the machine's trusted module (TPM).
    """

    boot: tuple[str, ...]
    architecture: str
    signed_loader: bool = False
    trusted_module: bool = False
    disk_drivers: tuple[str, ...] = ()
    network_drivers: tuple[str, ...] = ()


@dataclass(frozen=True)
class PlatformOffered:
    """What machines of a site have; what is empty is not known."""

    boot: tuple[str, ...] = ()
    architectures: tuple[str, ...] = ()
    trusted_module: bool = True
    disk_drivers: tuple[str, ...] = ()
    network_drivers: tuple[str, ...] = ()


def unmet(needs: Platform, offered: PlatformOffered, where: str) -> list[str]:
    """What a disk needs and machines in a region do not have, as sentences.  What is unknown forbids nothing."""
    found = []
    for what, wanted, has in (
        ("It boots by", needs.boot, offered.boot),
        ("It is made for", (needs.architecture,) if needs.architecture else (), offered.architectures),
        ("It can drive disks by", needs.disk_drivers, offered.disk_drivers),
        ("It can drive network cards by", needs.network_drivers, offered.network_drivers),
    ):
        if wanted and has and not set(wanted) & set(has):
            found.append(f"{what} {' or '.join(wanted)}; machines in {where} have {' and '.join(has)}.")
    if needs.trusted_module and not offered.trusted_module:
        found.append(f"A secret of it is bound to a trusted module (TPM); machines in {where} have none.")
    return found


def read_platform(source: BlockSource, layout: Layout) -> Platform:
    """Look at a disk."""
    boot, architecture, signed, bound = set(), "", False, False
    disks: set[str] = set()
    cards: set[str] = set()
    if layout.scheme != "none" and any(source.read(0, 440)):
        boot.add("bios")
    for volume in layout.volumes:
        window = volume.within(source)
        try:
            if volume.filesystem == "fat":
                if volume.disk:  # it boots from the first disk
                    continue
                found, with_signature = _efi(Fat(window))
                if found:
                    boot.add("uefi")
                    architecture, signed = architecture or found, signed or with_signature
            elif (fs := _system(volume, window)) is not None:
                architecture = _elf(fs) or architecture
                bound = bound or _bound(fs)
                modules = _modules(fs)
                disks |= {_DISK_DRIVERS[name] for name in modules & _DISK_DRIVERS.keys()}
                cards |= {_NETWORK_DRIVERS[name] for name in modules & _NETWORK_DRIVERS.keys()}
        except Damaged:
            continue
    return Platform(tuple(sorted(boot)), architecture, signed, bound, tuple(sorted(disks)), tuple(sorted(cards)))


def _system(volume: Volume, window: BlockSource) -> DiskFiles | None:
    """The files of a volume that may hold a Linux system; None for others."""
    if volume.filesystem in ("ext4", CLUSTERED):
        return ReadExt4(window)
    tree = tree_of_system(volume.filesystem, window) if volume.filesystem in ("xfs", "btrfs") else None
    return tree.files if tree is not None else None


def _efi(fs: Fat) -> tuple[str, bool]:
    """The architecture of the default loader, and whether it carries a signature."""
    folder = None
    for name in ("efi", "boot"):
        folder = next((f for n, f in fs.entries(folder) if n.lower() == name and f.is_dir), None)
        if folder is None:
            return "", False
    for name, file in fs.entries(folder):
        if name.lower() in _EFI_NAMES:
            return _EFI_NAMES[name.lower()], _has_certificates(fs.read(file, most=4096))
    return "", False


def _has_certificates(head: bytes) -> bool:
    """Whether a PE file's fifth data directory, the certificate table, is there."""
    if head[:2] != b"MZ" or len(head) < 0x40:
        return False
    at = struct.unpack_from("<I", head, 0x3C)[0]
    if head[at : at + 4] != b"PE\0\0" or len(head) < at + 0xB0 + 8:
        return False
    wide = struct.unpack_from("<H", head, at + 24)[0] == 0x20B
    directories = at + 24 + (112 if wide else 96)
    return len(head) >= directories + 40 and bool(struct.unpack_from("<II", head, directories + 32)[1])


def _start_of(fs: DiskFiles, path: str, most: int) -> bytes:
    """The first bytes of a file; nothing where there is none."""
    file = fs.find(path)
    return fs.read(file, most=most) if file is not None and file.is_file else b""


def _elf(fs: DiskFiles) -> str:
    for path in _PROGRAMS:
        head = _start_of(fs, path, 20)
        if head[:4] == b"\x7fELF":
            return _MACHINES.get(struct.unpack_from("<H", head, 18)[0], "")
    return ""


def _bound(fs: DiskFiles) -> bool:
    """Whether a volume is opened by a key that the trusted module keeps (crypttab(5))."""
    lines = _start_of(fs, "/etc/crypttab", 65536).decode("utf-8", "replace").splitlines()
    return any("tpm2-device=" in line for line in lines if not line.lstrip().startswith("#"))


def _modules(fs: DiskFiles) -> set[str]:
    """Names of the drivers of all kernels."""
    names: set[str] = set()
    for top in _MODULES:
        folder = fs.find(top)
        if folder is None or not folder.is_dir:
            continue
        for kernel in list(fs.names(folder))[:_MOST_KERNELS]:
            for listing in ("modules.builtin", "modules.dep"):
                names |= set(_named(_start_of(fs, f"{top}/{kernel}/{listing}", _MOST_LIST)))
    return names


def _named(text: bytes) -> Iterable[str]:
    """The first path of each line, without its folder and suffixes; hyphens and underscores are one to Linux."""
    for line in text.decode("utf-8", "replace").splitlines():
        yield line.partition(":")[0].rpartition("/")[2].partition(".")[0].replace("-", "_")
