"""OVF descriptors and OVA archives: writing one with a single disk, and finding the disk in one.

Follows DMTF DSP0243 (Open Virtualization Format 1.1) and, for hardware items, the CIM resource classes that it
names.  An OVA is a POSIX ustar archive with the descriptor first; its manifest comes last, as the standard allows,
so that an archive can be streamed while it is made.
"""

from __future__ import annotations

import hashlib
import re
import tarfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from urllib.parse import unquote
from xml.etree import ElementTree
from xml.sax.saxutils import escape, quoteattr

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import fromstring

from bathotype.core.disk.source import BlockSource, ByteSource, Window
from bathotype.core.errors import Damaged, Refused
from bathotype.core.formats.laidout import LaidOutFile, Plain, stream

_BLOCK = 512
_RECORD = 10240
_MOST_MEMBERS = 64
_MOST_DESCRIPTOR = 1024 * 1024
_OVF = "http://schemas.dmtf.org/ovf/envelope/1"
_RASD = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
_VSSD = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData"
_VMDK_STREAM = "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"
_LINUX_64 = 101  # CIM_OperatingSystem: LINUX 64-Bit


@dataclass(frozen=True)
class Appliance:
    """What a descriptor tells about the machine that a disk is for."""

    name: str
    product: str
    version: str
    processors: int = 1
    memory_mib: int = 512


def descriptor(appliance: Appliance, *, disk_name: str, disk_bytes: int, file_bytes: int) -> bytes:
    """An OVF envelope for one machine with one disk and one network card."""
    a = appliance
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="{_OVF}" xmlns:ovf="{_OVF}" xmlns:rasd="{_RASD}" xmlns:vssd="{_VSSD}" ovf:version="1.0">
  <References>
    <File ovf:id="file1" ovf:href={quoteattr(disk_name)} ovf:size="{file_bytes}"/>
  </References>
  <DiskSection>
    <Info>The disk of the machine</Info>
    <Disk ovf:diskId="disk1" ovf:fileRef="file1" ovf:capacity="{disk_bytes}" ovf:format="{_VMDK_STREAM}"/>
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
      <Item>
        <rasd:AddressOnParent>0</rasd:AddressOnParent><rasd:ElementName>Disk</rasd:ElementName>
        <rasd:HostResource>ovf:/disk/disk1</rasd:HostResource><rasd:InstanceID>4</rasd:InstanceID>
        <rasd:Parent>3</rasd:Parent><rasd:ResourceType>17</rasd:ResourceType>
      </Item>
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


def ova_layout(disk_file: LaidOutFile, disk_bytes: int, appliance: Appliance) -> LaidOutFile:
    """An OVA archive around a stream-optimised VMDK."""
    disk_name, ovf_name = f"{appliance.name}-disk1.vmdk", f"{appliance.name}.ovf"
    text = descriptor(appliance, disk_name=disk_name, disk_bytes=disk_bytes, file_bytes=disk_file.size)

    def manifest() -> bytes:
        digest = hashlib.sha256()
        for piece in stream(disk_file):
            digest.update(piece)
        return _manifest_line(ovf_name, hashlib.sha256(text).hexdigest()) + _manifest_line(
            disk_name, digest.hexdigest()
        )

    last_length = len(_manifest_line(ovf_name, "0" * 64) + _manifest_line(disk_name, "0" * 64))
    before = _tar_header(ovf_name, len(text)) + text + _padding(len(text)) + _tar_header(disk_name, disk_file.size)
    between = _padding(disk_file.size) + _tar_header(f"{appliance.name}.mf", last_length)
    whole = len(before) + disk_file.size + len(between) + last_length
    after = _padding(last_length) + bytes(2 * _BLOCK)
    after += bytes(-(whole + len(after)) % _RECORD)
    return LaidOutFile(
        [Plain(before), *disk_file.segments, Plain(between), _Manifest(manifest, last_length), Plain(after)]
    )


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


class OvaDisk:
    """The one disk in an OVA archive, as the file that it is there; ``check`` compares the manifest's digests."""

    def __init__(self, file: ByteSource) -> None:
        self._file = file
        self._members = {_plain(m.name): m for m in members(file)}
        first = next(iter(self._members.values()), None)
        if first is None or not first.name.endswith(".ovf"):
            raise Damaged("The archive is no OVA: its first member is no OVF descriptor.")
        if first.size > _MOST_DESCRIPTOR:
            raise Refused("The archive's descriptor is longer than 1 MiB.")
        self._name = _plain(unquote(_disk_in(file.read(first.start, first.size))))
        if self._name not in self._members:
            raise Damaged(f"The archive lacks the disk {self._name!r} that its descriptor names.")

    def open(self) -> BlockSource:
        """The disk's file within the archive."""
        member = self._members[self._name]
        return Window(self._file, member.start, member.size)

    def check(self, progress: Callable[[int, int], None] = lambda done, total: None) -> bool:
        """Compare every digest of the manifest; False where there is none.  Raises `Damaged`."""
        listed = next((m for m in self._members.values() if m.name.endswith(".mf")), None)
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


def _disk_in(text: bytes) -> str:
    try:
        envelope = fromstring(text, forbid_dtd=True)
    except (ElementTree.ParseError, DefusedXmlException, ValueError, LookupError) as error:
        raise Damaged(f"The OVF descriptor cannot be read: {error}.") from error
    listed = {e.get(f"{{{_OVF}}}id"): e for e in envelope.iter(f"{{{_OVF}}}File")}
    files = {name: e.get(f"{{{_OVF}}}href") for name, e in listed.items()}
    disks = [e.get(f"{{{_OVF}}}fileRef") for e in envelope.iter(f"{{{_OVF}}}Disk")]
    named = [files[d] for d in disks if d in files]
    if len(named) != 1 or not named[0]:
        raise Refused(
            f"The OVA has {len(named)} disks; a version has one.", advice="Export the boot disk alone, and import that."
        )
    file = next(listed[d] for d in disks if d in files)
    for attribute, about in (("compression", "compressed"), ("chunkSize", "in several parts")):
        value = file.get(f"{{{_OVF}}}{attribute}", "")
        if value not in ("", "identity"):
            raise Refused(
                f"The disk in the OVA is {about} ({attribute} {value}), which cannot be read here.",
                advice="Take the archive apart, unpack the disk, and import that.",
            )
    return str(named[0])


def _plain(name: str) -> str:
    """A member's name without what means nothing."""
    while name.startswith("./"):
        name = name[2:]
    return name
