"""What a person sees first of a thing: its sentence, what can be done with it, what runs where, and its history."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal

from pydantic import Field

from bathotype.wire.common import Answer
from bathotype.wire.fleet import Event, Instance
from bathotype.wire.operations import Offer, Operation
from bathotype.wire.sharing import Due
from bathotype.wire.versions import Line, Version


class Part(Answer):
    """A piece of a sentence.  ``about`` names what it leads to; ``heed`` says that it needs somebody."""

    text: str
    about: str = ""
    heed: bool = False
    strong: bool = False


class Runs(Answer):
    """How many instances of a version an account runs in a region."""

    reference: str
    number: str
    account: str
    region: str
    running: int


NeedKind = Literal[
    "operation", "alert", "finding", "share", "date", "allowance", "line", "version", "instance", "region", "repository",
    "sheet", "messages",
]  # fmt: skip


class Need(Answer):
    """Something that needs somebody, and the next step."""

    kind: NeedKind
    title: str
    detail: str
    subject: str = Field(description="Id of the operation or share, or the reference or name that it is about.")
    step: str = Field(description="The next step, in words.")
    since: datetime
    alert: str | None = Field(default=None, description="Id of the alert, which can be acknowledged.")


class LineSummary(Answer):
    """A line in a list: what runs, what is behind, and how that went over the last months."""

    name: str
    about: str
    newest: str | None
    versions: int
    running: int
    behind: int
    older: list[int] = Field(description="Instances of all versions but the newest, day by day.")
    current: list[int] = Field(description="Instances of the newest version, day by day.")


class Overview(Answer):
    """What is seen first of an account."""

    account: str
    sentence: list[Part]
    needs: list[Need]
    running_operations: list[Operation]
    dates: list[Due]
    lines: list[LineSummary]
    days: list[date] = Field(description="Days of the lines' counts.")
    regions: dict[str, int] = Field(description="Running instances by region.")
    states: dict[str, int] = Field(description="Instances by state.")
    versions: dict[str, int] = Field(description="Versions by state.")
    last_events: list[Event]


class LineOverview(Answer):
    """What is seen first of a line; ``runs`` includes what other accounts run of it."""

    line: Line
    sentence: list[Part]
    offers: list[Offer]
    runs: list[Runs]
    behind: int
    shared_with: list[str]
    operations: list[Operation]


class VersionOverview(Answer):
    """What is seen first of a version."""

    version: Version
    sentence: list[Part]
    offers: list[Offer]
    runs: list[Runs]
    children: list[str]
    shared_with: list[str]


class InstanceOverview(Answer):
    """What is seen first of an instance, with the end of its console's text and its own events."""

    instance: Instance
    sentence: list[Part]
    offers: list[Offer]
    machine_size: str
    host_name: str
    seen_at: datetime | None
    operation: str | None
    console: str
    events: list[Event]


class Band(Answer):
    """A version in the history of its line: how many instances ran of it, day by day."""

    number: str
    state: str
    released_on: date | None
    retire_on: date | None
    counts: list[int]


class History(Answer):
    """A line over time; bands in the order of their numbers, lowest first."""

    line: str
    days: list[date]
    bands: list[Band]


class StoredSeries(Answer):
    """Compressed bytes in a region's store, day by day, of a line's versions or of all that the account has there.

    ``alone`` are bytes of chunks that nothing else needs, ``shared`` of those that other accounts need as well, or for a
    line other lines.
    """

    region: str
    line: str | None = Field(description="Null for the whole account.")
    alone: list[int]
    shared: list[int]


class Storage(Answer):
    """What is stored for an account, over time; it is measured once a day."""

    measured_at: datetime | None
    days: list[date]
    series: list[StoredSeries]


class SizeState(Answer):
    """A machine size of a site."""

    name: str
    processors: int | None
    memory_mib: int | None


class MachinesOffered(Answer):
    """What machines of a region have, as far as the site reports it; what is empty is not known."""

    boot: list[str]
    architectures: list[str]
    trusted_module: bool
    disk_drivers: list[str]
    network_drivers: list[str]


class RegionState(Answer):
    """A region as the account sees it.  ``reachable`` says whether its site answered just now; quotas are (used,
    most)."""

    name: str
    reachable: bool
    problem: str = ""
    zones: list[str]
    machine_sizes: list[str]
    sizes: list[SizeState] = []
    machines: MachinesOffered | None = None
    largest_disk: int | None = Field(description="In bytes.")
    quotas: dict[str, tuple[int, int]]
    running: int
    versions: int = Field(description="Versions of the account with a sound replica here.")
    damaged: int
