"""The formats by name: laying out a version as a file, and opening a file as a disk."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from bathotype.core.disk.layout import read_layout
from bathotype.core.disk.several import Several
from bathotype.core.disk.signatures import other_file
from bathotype.core.disk.source import BlockSource, ByteSource
from bathotype.core.errors import Damaged, Invalid, Refused
from bathotype.core.formats import ovf, qcow2, vdi, vhd, vhdx, vmdk
from bathotype.core.formats.laidout import LaidOutFile, Progress, Whole
from bathotype.core.formats.packing import Measured, Packing, StoredFrames, deflated
from bathotype.core.formats.qcow2layout import qcow2_compressed_layout, qcow2_layout
from bathotype.core.formats.vhdxlayout import vhdx_layout
from bathotype.core.store.chunks import compress
from bathotype.core.store.materialise import StoredDisk


@dataclass(frozen=True)
class Format:
    """A way to write a disk into a file; ``recompresses`` means that laying it out costs a pass over the data."""

    name: str
    suffix: str
    about: str
    recompresses: bool = False


FORMATS = {
    f.name: f
    for f in (
        Format("raw", ".raw", "the disk's bytes"),
        Format("qcow2", ".qcow2", "QEMU's format, version 3"),
        Format("qcow2-zstd", ".qcow2", "the same with compressed clusters: the version's own frames"),
        Format("vhd", ".vhd", "dynamic VHD"),
        Format("vhd-fixed", ".vhd", "fixed VHD: the disk's bytes and a footer"),
        Format("vhdx", ".vhdx", "dynamic VHDX, version 1"),
        Format("vmdk", ".vmdk", "sparse VMDK in one file"),
        Format("vmdk-stream", ".vmdk", "stream-optimised VMDK, compressed", recompresses=True),
        Format("ova", ".ova", "OVA archive: descriptor, stream-optimised VMDK, manifest", recompresses=True),
    )
}


def format_named(name: str) -> Format:
    """A format by name.  Raises `Invalid`, naming those that there are."""
    if name not in FORMATS:
        raise Invalid(f"There is no format {name!r}.", advice=f"The formats are {', '.join(FORMATS)}.")
    return FORMATS[name]


def format_for_file(name: str) -> Format:
    """The plain format that a file's suffix suggests; raw where it suggests none."""
    suffix = "." + name.rpartition(".")[2].lower()
    return next((f for f in FORMATS.values() if f.suffix == suffix), FORMATS["raw"])


def lay_out(
    name: str,
    disk: BlockSource,
    *,
    appliance: ovf.Appliance,
    identity: bytes,
    progress: Progress = lambda done, total: None,
) -> LaidOutFile:
    """A disk as a file of a format.  ``identity`` (16 bytes, from the content) becomes ids in the file, so that the
    same content gives the same file."""
    form = format_named(name).name
    if form == "raw":
        return LaidOutFile([Whole(disk)])
    if form == "qcow2":
        return qcow2_layout(disk)
    if form == "qcow2-zstd":
        frames: Packing = StoredFrames(disk) if isinstance(disk, StoredDisk) else Measured.of(disk, compress, progress)
        return qcow2_compressed_layout(disk, frames)
    if form == "vhd":
        return vhd.vhd_dynamic_layout(disk, identity)
    if form == "vhd-fixed":
        return vhd.vhd_fixed_layout(disk, identity)
    if form == "vhdx":
        return vhdx_layout(disk, identity)
    if form == "vmdk":
        return vmdk.vmdk_layout(disk, identity, name=f"{appliance.name}.vmdk")
    if form == "ova":
        return ova_of([disk], appliance=appliance, identity=identity, progress=progress)
    packing = Measured.of(disk, deflated, progress)
    return vmdk.vmdk_stream_layout(disk, packing, identity, name=f"{appliance.name}.vmdk")


def ova_of(
    disks: Sequence[BlockSource],
    *,
    appliance: ovf.Appliance,
    identity: bytes,
    progress: Progress = lambda done, total: None,
) -> LaidOutFile:
    """An OVA of all disks of a machine, the boot disk first."""
    inner = []
    for number, disk in enumerate(disks, 1):
        own = identity if number == 1 else hashlib.sha256(identity + bytes([number])).digest()[:16]
        packing = Measured.of(disk, deflated, progress)
        name = f"{appliance.name}-disk{number}.vmdk"
        inner.append(ovf.InnerDisk(disk.size, vmdk.vmdk_stream_layout(disk, packing, own, name=name)))
    return ovf.ova_layout(inner, appliance)


@dataclass(frozen=True)
class OpenedImage:
    """A disk found in a file: the format, and what people should know about it."""

    disk: BlockSource
    format: str
    check: Callable[[Progress], bool] | None = None


#: What can be read besides, with the usual suffix and what it is.
READ_ONLY = {"vdi": (".vdi", "VDI, dynamic or fixed")}
_KINDS = ("raw", "qcow2", "vhd", "vhdx", "vdi", "vmdk", "ova")


def recognise(file: ByteSource) -> str:
    """The format that a file's first and last bytes show: one of raw, qcow2, vhd, vhdx, vdi, vmdk, ova.

    Raises `Refused` for a file of another kind, by its name where it is known.
    """
    head = file.read(0, min(file.size, 1024))
    if head[:4] == qcow2.MAGIC:
        return "qcow2"
    if head[:4] == vmdk.MAGIC:
        return "vmdk"
    if head[:8] == vhdx.MAGIC:
        return "vhdx"
    if head[vdi.MAGIC_AT : vdi.MAGIC_AT + 4] == vdi.MAGIC:
        return "vdi"
    if head[:21] == b"# Disk DescriptorFile":
        raise Invalid(
            "This VMDK is a descriptor whose data is in other files.", advice="Convert it to a single file first."
        )
    if head[:8] == vhd.COOKIE or (file.size >= 512 and file.read(file.size - 512, 8) == vhd.COOKIE):
        return "vhd"
    if head[257:262] == b"ustar":
        return "ova"
    if about := other_file(head) or ("a DMG" if file.size >= 512 and file.read(file.size - 512, 4) == b"koly" else ""):
        raise Refused(
            f"The file is {about}, which cannot be read here.",
            advice="Unpack it, or convert it to qcow2 or to a raw disk, first.",
            code="format-unknown",
        )
    if not _looks_like_a_disk(file):
        raise Refused(
            "The file is of no format that is known, and holds neither a partition table nor a file system.",
            advice="If it is a raw disk all the same, say so: --format raw.",
            code="format-unknown",
        )
    return "raw"


def _looks_like_a_disk(file: ByteSource) -> bool:
    """Whether a raw file shows what disks begin with; nothing else is taken for one without somebody's word."""
    try:
        layout = read_layout(file)
    except Damaged:
        return True  # a partition table that is broken: what reads the disk says how
    return layout.scheme != "none" or any(v.filesystem not in ("unknown", "empty") for v in layout.volumes)


def open_image(
    file: ByteSource, form: str | None = None, *, backing: qcow2.OpenBacking = qcow2.refuse_backing
) -> OpenedImage:
    """The disk in a file; the format is recognised where none is given.

    Raises `Damaged` or `Refused` with what is wrong with the file, and nothing else, whatever it holds.
    """
    if form is not None and form not in _KINDS:
        raise Invalid(f"There is no format {form!r} to read.", advice=f"The formats are {', '.join(_KINDS)}.")
    if file.size == 0:
        raise Damaged("The file is empty.")
    kind = form or recognise(file)
    if kind == "qcow2":
        return OpenedImage(qcow2.Qcow2Image(file, backing=backing), kind)
    if kind == "vmdk":
        return OpenedImage(vmdk.VmdkImage(file), kind)
    if kind == "vhd":
        return OpenedImage(vhd.VhdImage(file), kind)
    if kind == "vhdx":
        return OpenedImage(vhdx.open_vhdx(file), kind)
    if kind == "vdi":
        return OpenedImage(vdi.open_vdi(file), kind)
    if kind == "ova":
        archive = ovf.OvaDisks(file)
        inner = [open_image(member) for member in archive.open()]
        disk = Several(tuple(i.disk for i in inner)) if len(inner) > 1 else inner[0].disk
        return OpenedImage(disk, f"ova with {' and '.join(dict.fromkeys(i.format for i in inner))}", archive.check)
    return OpenedImage(file, "raw")
