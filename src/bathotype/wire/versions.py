"""Lines, versions and all that hangs on them."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Any, Literal

from pydantic import AwareDatetime, Field

from bathotype.core.lifecycle.purpose import Purpose
from bathotype.wire.common import Answer, Revised, Wire, example

Severity = Literal["high", "medium", "low"]
CaptureMode = Literal["live", "stopped", "as-is"]
Afterwards = Literal["kept", "stopped", "deleted"]


class LineRequest(Wire):
    """A line to create."""

    model_config = example({"name": "gauge-collector", "about": "Small Linux that reads tide gauges."})

    name: str = Field(examples=["gauge-collector"])
    about: str = Field(default="", max_length=2000)


class LineAbout(Wire):
    """What a line is for."""

    model_config = example({"about": "Small Linux that reads tide gauges."})

    about: str = Field(max_length=2000)


class LineDemand(Wire):
    """What must be accepted before versions of a line are released."""

    model_config = example({"severity": "medium", "proven_first": True})

    severity: Severity | None = Field(
        default=None,
        description="Findings from this severity on: high, medium (and high), low (all). Left out: as it is.",
    )
    proven_first: bool | None = Field(
        default=None, description="Whether the last checks must have passed. Left out: as it is."
    )


LineSort = Literal["name", "-name", "made", "-made"]
VersionSort = Literal["number", "-number", "made", "-made"]


class Line(Answer):
    """A named sequence of versions for one purpose."""

    account: str
    name: str
    about: str
    demands: Severity = Field(
        default="high", description="Findings from this severity on must be accepted before a release."
    )
    proven_first: bool = Field(
        default=False, description="Whether the last checks of a version must have passed before its release."
    )
    newest: str | None = Field(description="Number of the newest released version that is not pin-only.")
    versions: int
    running: int = Field(description="Running instances of all its versions.")
    created_at: datetime


#: Which disks are captured.
DiskNames = Annotated[
    list[str],
    Field(
        min_length=1,
        max_length=16,
        description="Names or ids of the machine's disks besides the boot disk, which is always taken; or 'boot', or 'all'.",
    ),
]


class CaptureRequest(Wire):
    """A capture: either ``number`` or ``bump`` says which version it makes."""

    model_config = example(
        {"machine": "gauge-seed-01", "line": "gauge-collector", "number": "1.0.0", "notes": "first release"}
    )

    machine: str = Field(description="Name or id of the machine.", examples=["gauge-seed-01"])
    line: str = Field(examples=["gauge-collector"])
    region: str | None = None
    number: str | None = Field(default=None, examples=["1.0.0"])
    bump: Literal["patch", "minor", "major"] | None = None
    mode: CaptureMode = "live"
    disks: DiskNames = ["boot"]
    profile: str | dict[str, Any] = Field(default="linux", description="Name of a built-in profile, or a profile.")
    notes: str = Field(default="", max_length=10000)
    purpose: Purpose | None = Field(default=None, description="Left out: what the line's highest version is for.")
    retire_on: date | None = Field(
        default=None, description="When it retires by itself; it is announced 30 days before."
    )
    tags: dict[str, str] = Field(default={}, description="Put on what the capture creates at the site.")
    at: AwareDatetime | None = Field(default=None, description="Begin at this moment; until then it can be cancelled.")
    power_off: bool = Field(
        default=False,
        description="Mode stopped, of a machine that runs: its agent shuts it down, and it is started again.",
    )
    afterwards: Afterwards = Field(default="kept", description="What becomes of the source once the version is sealed.")
    prepared: bool = Field(
        default=False,
        description="Somebody's word that the system's own tool has run, where the profile names no marker of it.",
    )


class CapturePlanRequest(Wire):
    """A capture to be judged: what forbids it, and what it would change on the copy of the machine's disk."""

    model_config = example({"machine": "gauge-seed-01", "profile": "linux", "line": "gauge-collector"})

    machine: str = Field(description="Name or id of the machine.")
    region: str | None = None
    mode: CaptureMode | None = Field(default=None, description="Left out: live where it runs, else stopped.")
    disks: DiskNames = ["boot"]
    profile: str | dict[str, Any] = Field(default="linux", description="Name of a built-in profile, or a profile.")
    line: str | None = Field(default=None, description="Also judge whether this line can take the version.")
    number: str | None = None
    bump: Literal["patch", "minor", "major"] | None = None
    tags: dict[str, str] = {}
    power_off: bool = False
    afterwards: Afterwards = "kept"
    prepared: bool = False


class Sizes(Answer):
    """In bytes: all disks, their used part, compressed, and what of that was new to the region."""

    virtual: int
    used: int
    stored: int
    new: int


class ProfileText(Wire):
    """A generalization profile as it is written."""

    model_config = example({"profile": "name: pilots\nextends: linux\nwithout: [shell-history]\n"})

    profile: str = Field(max_length=262_144, description="Its YAML.")


class VersionDisk(Answer):
    """One disk of a version."""

    role: str = Field(description="'boot', 'data-1', 'data-2' and so on.")
    bytes: int = Field(description="Its size.")
    used_bytes: int = Field(description="How many of its bytes are stored, in whole chunks.")
    holds: str = Field(description="Its file systems, their labels, where they were mounted last; empty if unknown.")
    digest: str = Field(description="Content digest of this disk alone.")


class FindingCounts(Answer):
    """Findings by severity, and how many high ones are not accepted."""

    high: int
    medium: int
    low: int
    open_high: int
    blocking: int = Field(default=0, description="Open ones that keep it from its release, by what its line demands.")


class Needs(Answer):
    """What a disk needs of a machine, found by reading it; what is empty is not known."""

    boot: list[str] = Field(default=[], description="'bios', 'uefi' or both.")
    architecture: str = ""
    signed_loader: bool = Field(
        default=False, description="Whether its UEFI loader carries a signature, as secure boot demands."
    )
    trusted_module: bool = Field(
        default=False, description="Whether a secret of it is bound to the machine's trusted module (TPM)."
    )
    disk_drivers: list[str] = []
    network_drivers: list[str] = []


class Version(Revised):
    """One version of a line."""

    edited = ("notes", "pin_only", "purpose", "retire_on")

    id: str
    reference: str
    account: str
    line: str
    number: str
    state: Literal["staged", "released", "sunset", "retired", "purged"]
    pin_only: bool
    notes: str
    content_digest: str
    sizes: Sizes
    disks: list[VersionDisk]
    mode: str
    source: dict[str, Any]
    parent: str | None
    adopted_from: str | None = Field(default=None, description="The other account's version that it was taken from.")
    signed_with: str | None = Field(default=None, description="Id of the key that signed its record.")
    profile: dict[str, Any] | None
    steps: list[dict[str, Any]]
    os: dict[str, str]
    packages: int | None = Field(description="How many packages it holds; null where its contents cannot be listed.")
    services: list[str]
    users: list[str]
    needs: Needs | None = Field(default=None, description="What its disk needs of a machine; null where nobody looked.")
    purpose: Purpose = Purpose()
    findings: FindingCounts
    marks: list[str]
    holds: list[str]
    regions: list[str]
    running: int
    sunset_on: date | None = None
    retire_on: date | None = None
    created_at: datetime
    released_at: datetime | None = None
    retired_at: datetime | None = None
    purged_at: datetime | None = None


FindingSort = Literal["severity", "-severity", "path", "-path", "rule", "-rule"]
PackageSort = Literal["name", "-name", "manager", "-manager"]
PackageUseSort = Literal["line", "-line", "package", "-package", "state", "-state"]
HoldSort = Literal["name", "-name", "placed", "-placed"]


class Finding(Answer):
    """One finding of the residue scan."""

    id: str
    rule: str
    severity: Severity
    path: str
    line: int
    excerpt: str
    advice: str
    accepted_by: str | None = None
    accepted_reason: str | None = None


class PackageRow(Answer):
    """An installed package."""

    name: str
    version: str
    architecture: str
    manager: str


class PackageUse(Answer):
    """A version that holds a package, and how many instances of it run."""

    reference: str
    state: str
    package: str
    version: str
    running: int


class AcceptRequest(Wire):
    """Accepting one finding."""

    model_config = example({"reason": "A test database without real data."})

    reason: str = Field(min_length=3, max_length=2000)


class SunsetRequest(Wire):
    """When launches end."""

    model_config = example({"retire_on": "2027-03-01"})

    retire_on: date | None = None


class PurgeRequest(Wire):
    """Purge; ``waive_grace`` does not wait for the grace period."""

    model_config = example({"waive_grace": False})

    waive_grace: bool = False


class ChangeRequest(Wire):
    """What of a version's record may change."""

    model_config = example({"pin_only": True})

    pin_only: bool | None = None
    notes: str | None = Field(default=None, max_length=10000)
    purpose: Purpose | None = None
    retire_on: date | Literal["never"] | None = Field(
        default=None,
        description="When it retires by itself; 'never' takes a day back. For a version that is not in sunset.",
    )


class Held(Answer):
    """How many paths, and the bytes in them."""

    paths: int
    bytes: int


class ProofRow(Answer):
    """One class of what identifies or endangers.  ``before`` and ``after`` are null where nobody could count."""

    name: str
    title: str
    before: Held | None
    done: list[str] = Field(description="Steps of the profile that dealt with it, with what they did.")
    after: Held | None
    outcome: Literal["none", "gone", "left", "unknown"]


class Proof(Answer):
    """A version's proof sheet: class by class what was there, what was done, and what is there now, on the stored bytes.

    Its digest is part of the signed record.
    """

    reference: str
    content_digest: str
    mode: str
    profile: str | None
    rows: list[ProofRow]
    files_before: Held | None
    files_after: Held | None
    disk_bytes: int = Field(description="The disk's size: what is used, swap and free space together.")
    used_before: int | None
    swap_before: int | None = Field(description="Swap space of the source; none of it is stored.")
    used_after: int
    digest: str = Field(description="sha256:HEX over the sheet, as it is signed; empty where the record has none.")


class HoldRequest(Wire):
    """A named reason that forbids purging."""

    model_config = example({"name": "audit-2026", "reason": "Kept for the audit."})

    name: str = Field(examples=["audit-2026"])
    reason: str = Field(min_length=3, max_length=2000)


class Hold(Answer):
    """A hold on a version."""

    name: str
    reason: str
    placed_by: str
    placed_at: datetime


class MarkRequest(Wire):
    """The version that a mark is to point to."""

    model_config = example({"number": "1.4.0"})

    number: str


class MarkMove(Answer):
    """One move of a mark."""

    number: str
    moved_by: str
    moved_at: datetime


class Mark(Revised):
    """A movable name on a line, with its moves, newest first."""

    edited = ("number",)

    name: str
    number: str
    history: list[MarkMove]


class ResolvedDisk(Answer):
    """A disk that each instance gets."""

    role: str
    bytes: int
    base_disk: str | None = Field(description="Id at the region's site of the launch-ready disk to clone it from.")


class Resolution(Answer):
    """What another tool needs to launch a version in a region."""

    reference: str
    version_id: str
    state: str
    content_digest: str
    region: str | None
    base_disk: str | None = Field(
        description="Id at the region's site of a launch-ready base disk, where there is one."
    )
    disk_bytes: int = Field(description="The size of all disks together.")
    disks: list[ResolvedDisk] = Field(description="The boot disk first.")
    needs: Needs | None = None
    purpose: Purpose = Purpose()
    warnings: list[str]


class Difference(Answer):
    """How the contents of two versions differ."""

    added: dict[str, str]
    removed: dict[str, str]
    changed: dict[str, tuple[str, str]]
    services_added: list[str]
    services_removed: list[str]
    users_added: list[str]
    users_removed: list[str]
    changed_bytes: int = Field(description="Bytes of the disk in chunks that differ.")
    unknown: list[str] = Field(description="Versions whose contents cannot be listed: of them nothing can be compared.")


class Signature(Answer):
    """A version's signed record: a DSSE envelope around an in-toto statement."""

    reference: str
    envelope: dict[str, Any]
    holds: bool = Field(description="Whether it verifies with a key of its owner that counts.")
