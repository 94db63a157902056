"""OVF descriptors and OVA archives: writing one, and finding the disks in one.

Follows DMTF DSP0243 (Open Virtualization Format 1.1) and, for hardware items, the CIM resource classes that it
names.  An OVA is a POSIX ustar archive with the descriptor first; its manifest comes last, as the standard allows,
so that an archive can be streamed while it is made.
"""

from __future__ import annotations

import hashlib
import re
import tarfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from urllib.parse import unquote
from xml.etree import ElementTree
from xml.sax.saxutils import escape, quoteattr

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import fromstring

from bathotype.core.disk.several import MOST_DISKS
from bathotype.core.disk.source import BlockSource, ByteSource
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import Damaged, Refused
from bathotype.core.formats.laidout import LaidOutFile, Plain, Segment, stream
from bathotype.core.formats.packed import packing_of, unpacked
from bathotype.core.units import plural

_BLOCK, _PIECE = 512, 4 * 1024 * 1024
#: The only packing that the standard names.
_GZIP = "gzip"
_RECORD = 10240
_MOST_MEMBERS = 64
_MOST_DESCRIPTOR = 1024 * 1024
_OVF = "http://schemas.dmtf.org/ovf/envelope/1"
_RASD = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
_VSSD = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData"
_VMDK_STREAM = "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"
#: Of a hardware item that is a disk.
_ITEM = ("ResourceType", "HostResource", "Parent", "AddressOnParent")
_LAST = (10**9, 0)
_LINUX_64 = 101  # CIM_OperatingSystem: LINUX 64-Bit


@dataclass(frozen=True)
class Appliance:
    """What a descriptor says about the machine that a disk is for."""

    name: str
    product: str
    version: str
    processors: int = 1
    memory_mib: int = 512


@dataclass(frozen=True)
class InnerDisk:
    """A disk of an appliance: its size in bytes, and the stream-optimised VMDK that it becomes."""

    size: int
    file: LaidOutFile


def descriptor(appliance: Appliance, disks: Sequence[InnerDisk]) -> bytes:
    """An OVF envelope for one machine with one network card and these disks, the boot disk first."""
    a = appliance
    numbered = list(enumerate(disks, 1))
    files = "\n".join(
        f'    <File ovf:id="file{n}" ovf:href={quoteattr(_disk_name(a, n))} ovf:size="{d.file.size}"/>'
        for n, d in numbered
    )
    listed = "\n".join(
        f'    <Disk ovf:diskId="disk{n}" ovf:fileRef="file{n}" ovf:capacity="{d.size}" ovf:format="{_VMDK_STREAM}"/>'
        for n, d in numbered
    )
    items = "\n".join(
        f"""      <Item>
        <rasd:AddressOnParent>{n - 1}</rasd:AddressOnParent><rasd:ElementName>Disk</rasd:ElementName>
        <rasd:HostResource>ovf:/disk/disk{n}</rasd:HostResource><rasd:InstanceID>{4 if n == 1 else n + 4}</rasd:InstanceID>
        <rasd:Parent>3</rasd:Parent><rasd:ResourceType>17</rasd:ResourceType>
      </Item>"""
        for n, _ in numbered
    )
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="{_OVF}" xmlns:ovf="{_OVF}" xmlns:rasd="{_RASD}" xmlns:vssd="{_VSSD}" ovf:version="1.0">
  <References>
{files}
  </References>
  <DiskSection>
    <Info>The disk{"s" if len(disks) > 1 else ""} of the machine</Info>
{listed}
  </DiskSection>
  <NetworkSection>
    <Info>The networks that the machine uses</Info>
    <Network ovf:name="default"><Description>The network of the instance</Description></Network>
  </NetworkSection>
  <VirtualSystem ovf:id={quoteattr(a.name)}>
    <Info>A virtual machine</Info>
    <Name>{escape(a.name)}</Name>
    <OperatingSystemSection ovf:id="{_LINUX_64}"><Info>The guest operating system</Info></OperatingSystemSection>
    <ProductSection>
      <Info>What the machine is</Info>
      <Product>{escape(a.product)}</Product>
      <Version>{escape(a.version)}</Version>
    </ProductSection>
    <VirtualHardwareSection>
      <Info>Virtual hardware</Info>
      <Item>
        <rasd:ElementName>{a.processors} virtual CPU</rasd:ElementName><rasd:InstanceID>1</rasd:InstanceID>
        <rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>{a.processors}</rasd:VirtualQuantity>
      </Item>
      <Item>
        <rasd:AllocationUnits>byte * 2^20</rasd:AllocationUnits>
        <rasd:ElementName>{a.memory_mib} MiB of memory</rasd:ElementName><rasd:InstanceID>2</rasd:InstanceID>
        <rasd:ResourceType>4</rasd:ResourceType><rasd:VirtualQuantity>{a.memory_mib}</rasd:VirtualQuantity>
      </Item>
      <Item>
        <rasd:Address>0</rasd:Address><rasd:ElementName>SCSI controller</rasd:ElementName>
        <rasd:InstanceID>3</rasd:InstanceID><rasd:ResourceSubType>lsilogic</rasd:ResourceSubType>
        <rasd:ResourceType>6</rasd:ResourceType>
      </Item>
{items}
      <Item>
        <rasd:AutomaticAllocation>true</rasd:AutomaticAllocation><rasd:Connection>default</rasd:Connection>
        <rasd:ElementName>Network card</rasd:ElementName><rasd:InstanceID>5</rasd:InstanceID>
        <rasd:ResourceSubType>E1000</rasd:ResourceSubType><rasd:ResourceType>10</rasd:ResourceType>
      </Item>
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>
""".encode()


@dataclass(frozen=True)
class _Manifest:
    """The archive's last member: digests of the others.  Only who reads it makes the disk once more to hash it."""

    make: Callable[[], bytes]
    length: int
    _made: list[bytes] = field(default_factory=list)

    def read(self, at: int, length: int) -> bytes:
        if not self._made:
            self._made.append(self.make())
        return self._made[0][at : at + length]


def ova_layout(disks: Sequence[InnerDisk], appliance: Appliance) -> LaidOutFile:
    """An OVA archive around stream-optimised VMDKs, the boot disk's first."""
    ovf_name = f"{appliance.name}.ovf"
    text = descriptor(appliance, disks)
    named = [(_disk_name(appliance, n), disk.file) for n, disk in enumerate(disks, 1)]

    def manifest() -> bytes:
        lines = [_manifest_line(ovf_name, hashlib.sha256(text).hexdigest())]
        for name, file in named:
            digest = hashlib.sha256()
            for piece in stream(file):
                digest.update(piece)
            lines.append(_manifest_line(name, digest.hexdigest()))
        return b"".join(lines)

    last_length = sum(len(_manifest_line(name, "0" * 64)) for name in (ovf_name, *(name for name, _ in named)))
    segments: list[Segment] = []
    before = _tar_header(ovf_name, len(text)) + text + _padding(len(text))
    for name, file in named:
        segments += [Plain(before + _tar_header(name, file.size)), *file.segments]
        before = _padding(file.size)
    segments += [Plain(before + _tar_header(f"{appliance.name}.mf", last_length)), _Manifest(manifest, last_length)]
    after = _padding(last_length) + bytes(2 * _BLOCK)
    after += bytes(-(sum(segment.length for segment in segments) + len(after)) % _RECORD)
    return LaidOutFile([*segments, Plain(after)])


def _disk_name(appliance: Appliance, number: int) -> str:
    return f"{appliance.name}-disk{number}.vmdk"


def _manifest_line(name: str, digest: str) -> bytes:
    return f"SHA256({name})= {digest}\n".encode()


def _tar_header(name: str, size: int) -> bytes:
    info = tarfile.TarInfo(name)
    info.size, info.mode, info.mtime = size, 0o644, 0
    return info.tobuf(tarfile.GNU_FORMAT if size >= 8**11 else tarfile.USTAR_FORMAT)


def _padding(size: int) -> bytes:
    return bytes(-size % _BLOCK)


@dataclass(frozen=True)
class Member:
    """One file in an archive."""

    name: str
    start: int
    size: int


def members(file: ByteSource) -> Iterator[Member]:
    """The regular files of a tar archive.  Raises `Damaged`."""
    at = 0
    for _ in range(_MOST_MEMBERS):
        if at + _BLOCK > file.size:
            return
        raw = file.read(at, _BLOCK)
        if raw == bytes(_BLOCK):
            return
        try:
            info = tarfile.TarInfo.frombuf(raw, "utf-8", "replace")
        except tarfile.HeaderError as error:
            raise Damaged(f"The archive is damaged at byte {at}: {error}.") from error
        if info.size < 0 or at + _BLOCK + info.size > file.size:
            raise Damaged(f"The archive ends inside {info.name!r}.", advice="Fetch it again: it is cut short.")
        if info.isreg():
            yield Member(info.name, at + _BLOCK, info.size)
        at += _BLOCK + info.size + (-info.size % _BLOCK)
    raise Refused(f"The archive has more than {_MOST_MEMBERS} members.")


class OvaDisks:
    """The disks in an OVA archive, as the files that they are there; ``check`` compares the manifest's digests."""

    def __init__(self, file: ByteSource) -> None:
        self._file = file
        self._members = {_plain(m.name): m for m in members(file)}
        first = next(iter(self._members.values()), None)
        if first is None or not first.name.endswith(".ovf"):
            raise Damaged("The archive is no OVA: its first member is no OVF descriptor.")
        if first.size > _MOST_DESCRIPTOR:
            raise Refused("The archive's descriptor is longer than 1 MiB.")
        self._descriptor = first
        self._named = _disks_in(file.read(first.start, first.size))
        self._disks = [self._parts(disk) for disk in self._named]

    def _parts(self, disk: _DiskFile) -> Stretch:
        """Where a disk's file lies; one that was divided is in members with numbers at their ends.  Raises `Damaged`."""
        names = [disk.name]
        if disk.part_bytes:
            count = 0
            while f"{disk.name}.{count:09d}" in self._members:
                count += 1
            names = [f"{disk.name}.{number:09d}" for number in range(count)]
        if not names or names[0] not in self._members:
            raise Damaged(f"The archive lacks the disk {disk.name!r} that its descriptor names.")
        parts = [self._members[name] for name in names]
        whole = sum(part.size for part in parts)
        uneven = disk.part_bytes and any(part.size != disk.part_bytes for part in parts[:-1])
        if uneven or (disk.part_bytes and disk.size is not None and whole != disk.size and not disk.packed):
            raise Damaged(f"The parts of the disk {disk.name!r} are not those that the descriptor names.")
        return Stretch(tuple((part.start, part.size) for part in parts if part.size) or ((parts[0].start, 0),))

    def open(self) -> list[BlockSource]:
        """The disks' files within the archive, the one to boot from first.  Raises `Refused` where they are packed."""
        if self.packed:
            raise Refused(
                "The disks in the OVA are packed with gzip.",
                advice="An import unpacks them; here, take the archive apart and unpack them first.",
            )
        return [stretch.within(self._file) for stretch in self._disks]

    @property
    def packed(self) -> bool:
        """Whether a disk's file is packed as a whole, as its descriptor may say."""
        return any(self._is_packed(disk, stretch) for disk, stretch in zip(self._named, self._disks, strict=True))

    def _is_packed(self, disk: _DiskFile, stretch: Stretch) -> bool:
        return disk.packed and stretch.length > 0 and packing_of(stretch.within(self._file)) == _GZIP

    def unpacked(self, most: int, progress: Callable[[int, int], None] = lambda done, total: None) -> Iterator[bytes]:
        """The archive with its disks unpacked, piece by piece; a manifest, if it has one, is of these files then.

        Each packed disk is read twice: its length comes before it.  Raises `Damaged`, and `Refused` for a disk of more than
        ``most`` bytes.
        """
        lines = bytearray()
        first = self._descriptor
        found: list[tuple[str, int, Iterator[bytes]]] = [
            (first.name, first.size, iter([self._file.read(first.start, first.size)]))
        ]
        for disk, stretch in zip(self._named, self._disks, strict=True):
            source, size = stretch.within(self._file), stretch.length
            packed = self._is_packed(disk, stretch)
            if packed:
                size = 0
                for piece in unpacked(source, _GZIP, most):
                    size += len(piece)
                    progress(size, size)
            name = f"{disk.name}.{0:09d}" if disk.part_bytes else disk.name
            found.append((name, size, unpacked(source, _GZIP, most) if packed else _read_through(source)))
        for name, size, pieces in found:
            yield _tar_header(name, size)
            sums = hashlib.sha256()
            for piece in pieces:
                sums.update(piece)
                yield piece
            yield _padding(size)
            lines += _manifest_line(name, sums.hexdigest())
        if self._listed is not None:
            yield _tar_header(self._listed.name, len(lines)) + lines + _padding(len(lines))
        yield bytes(2 * _BLOCK)

    @property
    def _listed(self) -> Member | None:
        """The manifest, if there is one."""
        return next((m for m in self._members.values() if m.name.endswith(".mf")), None)

    def check(self, progress: Callable[[int, int], None] = lambda done, total: None) -> bool:
        """Compare every digest of the manifest; False where there is none.  Raises `Damaged`."""
        listed = self._listed
        if listed is None or listed.size > _MOST_DESCRIPTOR:
            return False
        text = self._file.read(listed.start, listed.size).decode("utf-8", "replace")
        for kind, name, digest in re.findall(r"(?m)^(SHA1|SHA256|SHA512)\s*\((.+)\)\s*=\s*([0-9A-Fa-f]+)\s*$", text):
            member = self._members.get(_plain(name))
            if member is None:
                raise Damaged(f"The archive lacks {name!r}, which its manifest lists.")
            hasher, done = hashlib.new(kind.lower(), usedforsecurity=False), 0
            while done < member.size:
                piece = self._file.read(member.start + done, min(1024 * 1024, member.size - done))
                hasher.update(piece)
                done += len(piece)
                progress(done, member.size)
            if hasher.hexdigest() != digest.lower():
                raise Damaged(f"{name!r} in the archive is not what its manifest says.", advice="Fetch it again.")
        return True


@dataclass(frozen=True)
class _DiskFile:
    """What a descriptor says of a disk's file: its name, the bytes of each part if it was divided, all its bytes, and whether
    they are packed with gzip."""

    name: str
    part_bytes: int
    size: int | None
    packed: bool = False


def _disks_in(text: bytes) -> list[_DiskFile]:
    """The files of the disks that a descriptor names, in the order of their places at their controller."""
    try:
        envelope = fromstring(text, forbid_dtd=True)
    except (ElementTree.ParseError, DefusedXmlException, ValueError, LookupError) as error:
        raise Damaged(f"The OVF descriptor cannot be read: {error}.") from error
    files = {e.get(f"{{{_OVF}}}id"): e for e in envelope.iter(f"{{{_OVF}}}File")}
    places = _places(envelope)
    found = []
    for disk in envelope.iter(f"{{{_OVF}}}Disk"):
        file = files.get(disk.get(f"{{{_OVF}}}fileRef"))
        if file is not None and file.get(f"{{{_OVF}}}href"):
            found.append((places.get(disk.get(f"{{{_OVF}}}diskId") or "", _LAST), file))
    if not 0 < len(found) <= MOST_DISKS:
        raise Refused(f"The OVA has {plural(len(found), 'disk')}; a version has 1 to {MOST_DISKS}.")
    found.sort(key=lambda pair: pair[0])
    disks = [_disk_file(file) for _, file in found]
    if len({disk.name for disk in disks}) != len(disks):
        raise Refused("The OVA has one file for two disks.", advice="Export each disk as a file of its own.")
    return disks


def _disk_file(file: ElementTree.Element) -> _DiskFile:
    packing = file.get(f"{{{_OVF}}}compression", "")
    if packing not in ("", "identity", _GZIP):
        raise Refused(
            f"The disk in the OVA is compressed with {packing[:40]!r}, which cannot be read here.",
            advice="Take the archive apart, and import the disk: a file that is packed as a whole is unpacked.",
        )
    numbers = [file.get(f"{{{_OVF}}}{name}", "") for name in ("chunkSize", "size")]
    if not all(not text or (text.isascii() and text.isdigit() and len(text) < 19) for text in numbers):
        raise Damaged("The OVF descriptor names a file whose size is not a number.")
    part, size = (int(text) if text else None for text in numbers)
    return _DiskFile(_plain(unquote(str(file.get(f"{{{_OVF}}}href")))), part or 0, size, packing == _GZIP)


def _places(envelope: ElementTree.Element) -> dict[str, tuple[int, int]]:
    """For each disk, the number of its controller and its place there."""
    found: dict[str, tuple[int, int]] = {}
    for item in envelope.iter(f"{{{_OVF}}}Item"):
        told = {name: (item.findtext(f"{{{_RASD}}}{name}") or "").strip() for name in _ITEM}
        disk = told["HostResource"].rpartition("/disk/")[2]
        if told["ResourceType"] == "17" and disk and told["Parent"].isdigit() and told["AddressOnParent"].isdigit():
            found.setdefault(disk, (int(told["Parent"][:9]), int(told["AddressOnParent"][:9])))
    return found


def _read_through(source: ByteSource) -> Iterator[bytes]:
    for at in range(0, source.size, _PIECE):
        yield source.read(at, min(_PIECE, source.size - at))


def _plain(name: str) -> str:
    """A member's name without what means nothing."""
    while name.startswith("./"):
        name = name[2:]
    return name
