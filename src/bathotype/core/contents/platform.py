"""What a disk needs of a machine: how it boots and for which processor its programs are made.

Sources: the UEFI specification (default boot file names), the GPT attribute "legacy BIOS bootable", the boot code of
the MBR, and the ELF header (``e_machine``) of programs that every system has.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.fat import Fat
from bathotype.core.disk.layout import Layout
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


@dataclass(frozen=True)
class Platform:
    """``boot`` holds ``bios``, ``uefi``, both, or nothing that we know of; ``architecture`` is empty where unknown."""

    boot: tuple[str, ...]
    architecture: str


def read_platform(source: BlockSource, layout: Layout) -> Platform:
    """Look at a disk."""
    boot, architecture = set(), ""
    if layout.scheme != "none" and any(source.read(0, 440)):
        boot.add("bios")
    for volume in layout.volumes:
        window = volume.within(source)
        try:
            if volume.filesystem == "fat":
                found = _efi(Fat(window))
                if found:
                    boot.add("uefi")
                    architecture = architecture or found
            elif volume.filesystem == "ext4":
                architecture = _elf(Ext4(window)) or architecture
        except Damaged:
            continue
    return Platform(tuple(sorted(boot)), architecture)


def _efi(fs: Fat) -> str:
    folder = None
    for name in ("efi", "boot"):
        folder = next((f for n, f in fs.entries(folder) if n.lower() == name and f.is_dir), None)
        if folder is None:
            return ""
    return next((_EFI_NAMES[n.lower()] for n, _ in fs.entries(folder) if n.lower() in _EFI_NAMES), "")


def _elf(fs: Ext4) -> str:
    for path in _PROGRAMS:
        inode = fs.lookup(path)
        if inode is None or not inode.is_file:
            continue
        head = fs.read(inode, most=20)
        if head[:4] == b"\x7fELF":
            return _MACHINES.get(struct.unpack_from("<H", head, 18)[0], "")
    return ""
