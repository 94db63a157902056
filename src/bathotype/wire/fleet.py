"""Launches, instances, first-boot settings, events and alerts."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field, model_validator

from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.networks import Attach
from bathotype.core.lifecycle.room import Room
from bathotype.wire.common import Answer, Plan, Revised, Wire, example
from bathotype.wire.rules import Allowance, Verdict

InstanceState = Literal["pending", "starting", "running", "stopped", "lost", "terminated", "failed"]
InstanceSort = Literal[
    "launched", "-launched", "name", "-name", "state", "-state", "region", "-region", "version", "-version"
]  # fmt: skip


class LaunchRequest(Wire):
    """A launch of one or many instances."""

    model_config = example(
        {
            "reference": "gauge-collector@1.0.0",
            "region": "skerry-1",
            "count": 2,
            "name": "quay-{n:02}",
            "first_boot": {"domain": "tide.example", "users": [{"name": "orla", "administrator": True}]},
        }
    )

    reference: str = Field(examples=["gauge-collector@1.0.0"])
    region: str = Field(examples=["skerry-1"])
    zone: str | None = None
    machine_size: str | None = Field(default=None, description="The source machine's where left out.")
    count: int = Field(default=1, ge=1, le=500)
    name: str = Field(
        default="", description="Pattern of names; {n} or {n:03} is the number.", examples=["gauge-{n:02}"]
    )
    first_boot: FirstBoot | str | None = Field(default=None, description="Settings, or the name of saved ones.")
    attach: Attach = Field(default=Attach(), description="Where instances attach.")
    room: Room = Field(default=Room(), description="Disks beyond the version's.")
    tags: dict[str, str] = {}
    wait_seconds: int = Field(default=300, ge=5, le=3600, description="How long an instance may take to come up.")


class PlannedInstance(Answer):
    """One instance of a launch, and its first-boot settings."""

    name: str
    host_name: str
    full_name: str = Field(description="With its domain, where there is one.")
    addresses: list[str] = Field(description="Empty where the network gives it one (DHCP).")
    gateway: str | None
    name_servers: list[str]
    search: list[str]
    time_zone: str | None
    locale: str | None
    users: list[str]
    secrets: dict[str, str] = Field(description="Files that hold secrets, and the name of each.")


class PlannedDisk(Answer):
    """A disk that each instance gets."""

    role: str
    bytes: int
    holds: str = Field(description="What is on it; empty if unknown.")
    grown_from: int | None = Field(default=None, description="Its size in the version, where it is larger.")
    kept: bool = Field(default=False, description="Whether it stays at the site when the instance is terminated.")


class LaunchPlan(Plan):
    """What a launch would do."""

    reference: str
    region: str
    names: list[str]
    disks: list[PlannedDisk] = Field(description="What each instance gets, the boot disk first.")
    subnet: str | None = Field(default=None, description="Where they attach; null where the site does not say.")
    opened: list[str] = Field(default=[], description="What their firewall sets open, and to whom.")
    instances: list[PlannedInstance] = Field(default=[], description="What makes each of them itself.")
    base_disk_bytes: int = Field(
        description="Bytes to be written to the site first; 0 if there is a base disk already."
    )
    quotas: dict[str, tuple[int, int]] = Field(default={}, description="Of the site: in use, and most.")
    allowances: list[Allowance] = []
    verdicts: list[Verdict] = []


class HeldDisk(Answer):
    """A disk of an instance."""

    role: str
    bytes: int
    disk: str | None = Field(default=None, description="Its id at the site, once it is there.")
    grown_from: int | None = None
    kept: bool = Field(default=False, description="Whether it stays at the site when the instance is terminated.")


class Instance(Answer):
    """A machine that stems from a version."""

    id: str
    name: str
    reference: str
    behind: int = Field(description="Released versions of its line that are newer.")
    newest: str | None
    region: str
    zone: str
    state: str
    origin: str = Field(description="'launched', or 'found' if it was made from the version without this service.")
    machine_id: str | None = Field(description="The site's id of the machine.")
    address: str | None
    identity: dict[str, Any]
    reason: str | None = None
    differences: list[str] = Field(
        default=[], description="What of its first-boot settings was not seen in it, as its agent reported."
    )
    disks: list[HeldDisk] = Field(default=[], description="The disks that it was launched with.")
    subnet: str | None = None
    firewalls: list[str] = []
    public_address: str | None = None
    launched_at: datetime
    ended_at: datetime | None = None


InstanceVerb = Literal["stop", "start", "terminate"]
#: The most instances that one change takes.
MOST_AT_ONCE = 10_000


class InstanceFilter(Wire):
    """Instances as a list of them is narrowed; without a state, those that are there or coming."""

    version: str | None = Field(default=None, description="A version, or a line for all of its versions.")
    state: list[InstanceState] | None = None
    region: str | None = None
    behind: bool = False
    find: str | None = Field(default=None, max_length=200, description="Part of the name, or an id or an address.")


class InstanceChangeRequest(Wire):
    """A change of many instances: named, by id or name, or all that fit a filter."""

    model_config = example({"verb": "terminate", "where": {"version": "gauge-collector@1.0.0", "behind": True}})

    verb: InstanceVerb
    instances: list[str] | None = Field(default=None, min_length=1, max_length=MOST_AT_ONCE)
    where: InstanceFilter | None = None
    selection: str | None = Field(
        default=None, max_length=64, description="Of the plan: the change is refused where other instances fit now."
    )

    @model_validator(mode="after")
    def _one_choice(self) -> InstanceChangeRequest:
        if (self.instances is None) == (self.where is None):
            raise ValueError("give either instances or where")
        return self


class InstancePlan(Plan):
    """What a change of many instances would do."""

    count: int = Field(description="Instances that it concerns.")
    versions: dict[str, int]
    regions: dict[str, int]
    names: list[str] = Field(description="Names of the first hundred.")
    selection: str = Field(description="Identifies these instances and no others; to be given with the change.")


class VersionCount(Answer):
    """How many instances of a version are in which state."""

    reference: str
    version_state: str
    states: dict[str, int]


FirstBootSort = Literal["name", "-name"]


class SavedFirstBoot(Revised):
    """First-boot settings saved under a name."""

    edited = ("settings",)

    name: str
    settings: FirstBoot


class Event(Answer):
    """One line of the audit trail; ``digest`` chains it to the one before."""

    id: int
    at: datetime
    actor: str
    source: str
    action: str
    subject: str
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    digest: str


class ChainCheck(Answer):
    """Whether the audit trail is whole: each event follows from the one before, and none is missing at its end."""

    whole: bool
    broken_at: list[int] = Field(description="Ids of events whose digest does not follow from the one before.")
    events: int = Field(default=0, description="Events of all accounts.")
    end: str = Field(default="", description="The digest of the newest event: keep it where you keep what you trust.")
    kept_at: str = Field(default="", description="When this host last kept the end outside the database; empty: never.")
    missing: str = Field(default="", description="What of the kept end is not in the database.")


AlertSort = Literal["raised", "-raised", "kind", "-kind", "subject", "-subject"]


class Alert(Answer):
    """Something that somebody should look at."""

    id: str
    kind: str
    subject: str
    text: str
    raised_at: datetime
    cleared_at: datetime | None
    acknowledged_by: str | None = Field(default=None, description="Who has seen it; it stays raised until it is over.")
    acknowledged_at: datetime | None = None
    acknowledged_reason: str | None = None


class AcknowledgeRequest(Wire):
    """Acknowledging an alert."""

    model_config = example({"reason": "The shelf was moved; it is being rebuilt."})

    reason: str = Field(default="", max_length=2000)
