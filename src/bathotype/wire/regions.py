"""Replicas, placements, and how far the regions are."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from bathotype.wire.common import Answer, Plan, Revised, Wire, example
from bathotype.wire.operations import Operation


class RegionPlace(Wire):
    """A region, the wanted number of launch-ready base disks there, and whether they are spread over its zones."""

    region: str = Field(max_length=63, examples=["fjord-2"])
    copies: int = Field(default=1, ge=0, le=64)
    multi_zone: bool = False


class ReplicateRequest(Wire):
    """Where a version is to be."""

    model_config = example({"to": [{"region": "fjord-2", "copies": 2, "multi_zone": True}]})

    to: list[RegionPlace] = Field(min_length=1, max_length=50)


class Move(Answer):
    """What bringing a version to a region takes; ``seconds`` goes by the last measured rate, null before there is one."""

    region: str
    source: str | None
    bytes: int
    seconds: float | None
    copies_now: int
    copies: int
    blockers: list[str]


class ReplicationPlan(Plan):
    """What a replication would do."""

    reference: str
    moves: list[Move]


class Replications(Answer):
    """One operation for each region."""

    operations: list[Operation]


class Replica(Answer):
    """A version in a region."""

    region: str
    state: str
    copies: int = Field(description="Wanted number of base disks; with none, the first launch makes one.")
    standing: int = Field(description="Base disks that are ready.")
    zones: dict[str, int]
    multi_zone: bool
    verified_at: datetime | None


class VersionReplicas(Answer):
    """Where one version of a line is."""

    reference: str
    state: str
    replicas: list[Replica]


class PlacementRequest(Wire):
    """The regions where a line's released versions are kept; those that are left out are drained."""

    model_config = example({"regions": [{"region": "skerry-1", "copies": 1}, {"region": "fjord-2", "copies": 2}]})

    regions: list[RegionPlace] = Field(max_length=50)


class Placement(Revised):
    """A line's default placement."""

    edited = ("regions",)

    line: str
    regions: list[RegionPlace]
    set_by: str | None = None


class PlacementPlan(Plan):
    """What a change of placement would do, and what forbids it."""

    line: str


class PlacementChange(Answer):
    """A changed placement and the operations that bring the versions into line."""

    placement: Placement
    operations: list[Operation]


class LinkState(Answer):
    """The link from one region to another."""

    source: str
    target: str
    distance_ms: float
    bytes_per_second: float | None = Field(description="The limit; null where there is none.")
    rate: float | None = Field(description="Bytes a second, as measured last; null before anything moved.")
    bytes_moved: int


class SubnetState(Answer):
    """A subnet of a region."""

    name: str
    network: str
    cidr: str
    free: int = Field(description="How many of its addresses are free.")


class FirewallState(Answer):
    """A firewall set: what it opens, and to whom."""

    name: str
    opens: list[str]


class PublicAddressState(Answer):
    """An address that is reached from outside."""

    address: str
    machine: str | None = Field(description="The machine that has it; null where it is free.")


class NetworksState(Answer):
    """What instances in a region can attach to."""

    region: str
    subnets: list[SubnetState] = Field(description="The first one is the default.")
    firewalls: list[FirewallState]
    public_addresses: list[PublicAddressState]


class BucketState(Answer):
    """A bucket that the account may import from or export to."""

    name: str
    region: str
    endpoint: str
    reads: bool = Field(description="Whether the account may import from it.")
    writes: bool = Field(description="Whether the account may export to it.")


class FormatState(Answer):
    """An image format: whether versions are exported to it, and whether it is read by imports."""

    name: str
    suffix: str
    about: str
    written: bool
    read: bool
