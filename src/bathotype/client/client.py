"""All calls of the HTTP API as methods."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime
from types import TracebackType
from typing import Literal

import httpx

from bathotype.client.access import AccessCalls
from bathotype.client.builds import BuildCalls
from bathotype.client.calls import Part, ProfileGiven
from bathotype.client.checks import CheckCalls
from bathotype.client.credentials import default_path, load
from bathotype.client.fleet import FleetCalls
from bathotype.client.images import ImageCalls
from bathotype.client.overview import OverviewCalls
from bathotype.client.regions import RegionCalls
from bathotype.client.repositories import RepositoryCalls
from bathotype.client.savedsheets import SavedSheetCalls
from bathotype.client.secrets import SecretCalls
from bathotype.client.sharing import SharingCalls
from bathotype.client.subscriptions import SubscriptionCalls
from bathotype.client.transport import PATIENCE, NotSignedIn, Transport, if_match
from bathotype.core.errors import Invalid
from bathotype.core.lifecycle.purpose import Purpose
from bathotype.wire import fleet, lineage
from bathotype.wire import machines as site
from bathotype.wire import operations as work
from bathotype.wire import versions as catalogue
from bathotype.wire.common import Plan


class Client(
    AccessCalls,
    BuildCalls,
    CheckCalls,
    FleetCalls,
    ImageCalls,
    OverviewCalls,
    RegionCalls,
    RepositoryCalls,
    SavedSheetCalls,
    SecretCalls,
    SharingCalls,
    SubscriptionCalls,
):
    """A service, as one account sees it.  Errors are those of `bathotype.core.errors`."""

    def __init__(
        self,
        url: str,
        token: str,
        *,
        account: str = "",
        timeout: float = 60.0,
        patience: float = PATIENCE,
        http: httpx.Client | None = None,
    ) -> None:
        """``timeout`` is for one answer, ``patience`` how long calls are repeated while the service is away, in seconds.

        ``http`` replaces the connection over the network, for example by one to an application in this process.
        """
        self._transport = Transport(url, token, account=account, timeout=timeout, patience=patience, http=http)

    @classmethod
    def from_environment(cls, *, account: str = "", timeout: float = 60.0, patience: float | None = None) -> Client:
        """From ``BATHOTYPE_URL``, ``BATHOTYPE_TOKEN`` and ``BATHOTYPE_ACCOUNT``, else as it was logged in; how patient it
        is, in seconds, is in ``BATHOTYPE_PATIENCE`` where nobody says it.

        Raises `NotSignedIn` where neither is there.
        """
        patience = _patience() if patience is None else patience
        url, token = os.environ.get("BATHOTYPE_URL", ""), os.environ.get("BATHOTYPE_TOKEN", "")
        account = account or os.environ.get("BATHOTYPE_ACCOUNT", "")
        if url and token:
            return cls(url, token, account=account, timeout=timeout, patience=patience)
        kept = load(default_path())
        if kept is None or (url and url.rstrip("/") != kept.url.rstrip("/")):
            unset = [n for n, v in (("BATHOTYPE_URL", url), ("BATHOTYPE_TOKEN", token)) if not v]
            missing = f"{' and '.join(unset)} {'are' if len(unset) > 1 else 'is'} not set"
            raise NotSignedIn(
                f"You are not signed in, and {missing}.",
                advice="Run `bathotype auth login --url URL --user NAME`; the demo writes both to DIR/demo.env.",
            )
        return cls(kept.url, kept.token, account=account or kept.account, timeout=timeout, patience=patience)

    def close(self) -> None:
        """Close the connections."""
        self._transport.http.close()

    def __enter__(self) -> Client:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    # Machines

    def machines(self, *, region: str | None = None, agents: bool = False) -> Iterator[site.Machine]:
        """Every machine of the account; with ``agents`` each agent is asked for the operating system."""
        return self._transport.pages(site.Machine, "/machines", region=region, agents=agents or None)

    def machine(self, name: str, *, region: str | None = None) -> site.Machine:
        """One machine by name or id."""
        return self._transport.one(site.Machine, "GET", f"/machines/{name}", params={"region": region})

    def inspect(
        self,
        name: str,
        *,
        region: str | None = None,
        mode: catalogue.CaptureMode | None = None,
        disks: Sequence[str] = ("boot",),
        profile: ProfileGiven = "linux",
        line: str | None = None,
        number: str | None = None,
        bump: Part | None = None,
        tags: Mapping[str, str] | None = None,
        prepared: bool = False,
    ) -> site.Inspection:
        """Preflight: every obstacle to a capture and every warning at once."""
        body = catalogue.CapturePlanRequest(
            machine=name, region=region, mode=mode, profile=profile, line=line, number=number, bump=bump,
            tags=dict(tags or {}), disks=list(disks), prepared=prepared,
        )  # fmt: skip
        return self._transport.one(site.Inspection, "POST", "/capture-inspections", json=body.model_dump(mode="json"))

    # Lines and marks

    def lines(self) -> Iterator[catalogue.Line]:
        """The account's lines."""
        return self._transport.pages(catalogue.Line, "/lines")

    def line(self, name: str) -> catalogue.Line:
        """One line."""
        return self._transport.one(catalogue.Line, "GET", f"/lines/{name}")

    def create_line(self, name: str, *, about: str = "", key: str | None = None) -> catalogue.Line:
        """Create a line."""
        return self._create(catalogue.Line, "/lines", {"name": name, "about": about}, key)

    def describe_line(self, line: str, about: str) -> catalogue.Line:
        """Say what a line is for."""
        return self._transport.one(catalogue.Line, "PUT", f"/lines/{line}/about", json={"about": about})

    def drop_line(self, line: str) -> None:
        """Remove a line that never had a version."""
        self._transport.call("DELETE", f"/lines/{line}")

    def demand(
        self, line: str, severity: catalogue.Severity | None = None, *, proven_first: bool | None = None
    ) -> catalogue.Line:
        """Say from which severity on findings must be accepted before a version of a line is released, and whether its
        checks must have passed; what is left out stays as it is."""
        body = {"severity": severity, "proven_first": proven_first}
        return self._transport.one(catalogue.Line, "PUT", f"/lines/{line}/demands", json=body)

    def lineage(self, line: str) -> lineage.Lineage:
        """What a line is built on, and what is built on it."""
        return self._transport.one(lineage.Lineage, "GET", f"/lines/{line}/lineage")

    def marks(self, line: str) -> list[catalogue.Mark]:
        """A line's marks with their history."""
        return self._transport.many(catalogue.Mark, f"/lines/{line}/marks")

    def set_mark(self, line: str, mark: str, number: str, *, revision: str | None = None) -> catalogue.Mark:
        """Point a mark to a version; with the ``revision`` that was seen, only if nobody has moved it since."""
        return self._transport.one(
            catalogue.Mark, "PUT", f"/lines/{line}/marks/{mark}", json={"number": number}, headers=if_match(revision)
        )

    def drop_mark(self, line: str, mark: str) -> None:
        """Remove a mark."""
        self._transport.call("DELETE", f"/lines/{line}/marks/{mark}")

    # Captures

    def capture(
        self,
        *,
        machine: str,
        line: str,
        region: str | None = None,
        number: str | None = None,
        bump: Part | None = None,
        mode: catalogue.CaptureMode = "live",
        disks: Sequence[str] = ("boot",),
        profile: ProfileGiven = "linux",
        notes: str = "",
        purpose: Purpose | None = None,
        retire_on: date | None = None,
        tags: dict[str, str] | None = None,
        at: datetime | None = None,
        power_off: bool = False,
        afterwards: catalogue.Afterwards = "kept",
        prepared: bool = False,
        key: str | None = None,
    ) -> work.Operation:
        """Start a capture: see `bathotype.wire.versions.CaptureRequest`."""
        body = catalogue.CaptureRequest(
            machine=machine, line=line, region=region, number=number, bump=bump, mode=mode, profile=profile, notes=notes,
            purpose=purpose, retire_on=retire_on, tags=tags or {}, at=at, power_off=power_off, afterwards=afterwards,
            disks=list(disks), prepared=prepared,
        )  # fmt: skip
        return self._create(work.Operation, "/captures", body.model_dump(mode="json"), key)

    def plan_capture(
        self,
        *,
        machine: str,
        region: str | None = None,
        mode: catalogue.CaptureMode | None = None,
        disks: Sequence[str] = ("boot",),
        profile: ProfileGiven = "linux",
        line: str | None = None,
        number: str | None = None,
        bump: Part | None = None,
        tags: dict[str, str] | None = None,
        power_off: bool = False,
        afterwards: catalogue.Afterwards = "kept",
        prepared: bool = False,
    ) -> work.Operation:
        """Preflight, then work out what a capture would change; the operation's result is the plan."""
        body = catalogue.CapturePlanRequest(
            machine=machine, region=region, mode=mode, profile=profile, line=line, number=number, bump=bump,
            tags=tags or {}, power_off=power_off, afterwards=afterwards, disks=list(disks), prepared=prepared,
        )  # fmt: skip
        return self._create(work.Operation, "/capture-plans", body.model_dump(mode="json"), None)

    # Versions

    def versions(self, line: str) -> Iterator[catalogue.Version]:
        """A line's versions, highest number first."""
        return self._transport.pages(catalogue.Version, f"/lines/{line}/versions")

    def version(self, reference: str) -> catalogue.Version:
        """One version."""
        return self._transport.one(catalogue.Version, "GET", f"/versions/{reference}")

    def findings(
        self, reference: str, *, severity: catalogue.Severity | None = None, open: bool = False
    ) -> list[catalogue.Finding]:
        """The residue report, the worst first; with ``open`` what nobody has accepted."""
        asked = {"severity": severity, "open": open, "limit": 500}
        return list(self._transport.pages(catalogue.Finding, f"/versions/{reference}/findings", **asked))

    def packages(self, reference: str, *, find: str | None = None) -> list[catalogue.PackageRow]:
        """The packages of a version, or those with a text in their name."""
        path = f"/versions/{reference}/packages"
        return list(self._transport.pages(catalogue.PackageRow, path, find=find, limit=500))

    def versions_with_package(self, name: str) -> list[catalogue.PackageUse]:
        """Which versions hold a package."""
        return list(self._transport.pages(catalogue.PackageUse, f"/packages/{name}/versions", limit=500))

    def difference(self, old: str, new: str) -> catalogue.Difference:
        """How two versions differ."""
        return self._transport.one(catalogue.Difference, "GET", f"/versions/{old}/difference", params={"to": new})

    def proof(self, reference: str) -> catalogue.Proof:
        """The proof sheet."""
        return self._transport.one(catalogue.Proof, "GET", f"/versions/{reference}/proof")

    def resolve(self, reference: str, *, region: str | None = None) -> catalogue.Resolution:
        """What another tool needs to launch it."""
        return self._transport.one(
            catalogue.Resolution, "GET", f"/versions/{reference}/resolution", params={"region": region}
        )

    def release(self, reference: str) -> catalogue.Version:
        """Offer a version."""
        return self._transport.one(catalogue.Version, "POST", f"/versions/{reference}/release")

    def accept(self, reference: str, finding: str, reason: str) -> catalogue.Finding:
        """Accept one finding by name."""
        return self._transport.one(
            catalogue.Finding, "POST", f"/versions/{reference}/findings/{finding}/acceptance", json={"reason": reason}
        )

    def change(
        self,
        reference: str,
        *,
        pin_only: bool | None = None,
        notes: str | None = None,
        purpose: Purpose | None = None,
        retire_on: date | Literal["never"] | None = None,
        revision: str | None = None,
    ) -> catalogue.Version:
        """Change what may change of its record; with the ``revision`` that was seen, only if nobody has changed it since."""
        asked = catalogue.ChangeRequest(pin_only=pin_only, notes=notes, purpose=purpose, retire_on=retire_on)
        body = asked.model_dump(mode="json", exclude_none=True)
        return self._transport.one(
            catalogue.Version, "PATCH", f"/versions/{reference}", json=body, headers=if_match(revision)
        )

    def holds(self, reference: str) -> list[catalogue.Hold]:
        """The holds on a version."""
        return list(self._transport.pages(catalogue.Hold, f"/versions/{reference}/holds", limit=500))

    def hold(self, reference: str, name: str, reason: str) -> catalogue.Hold:
        """Forbid purging."""
        return self._transport.one(
            catalogue.Hold, "POST", f"/versions/{reference}/holds", json={"name": name, "reason": reason}
        )

    def lift_hold(self, reference: str, name: str) -> None:
        """Lift a hold."""
        self._transport.call("DELETE", f"/versions/{reference}/holds/{name}")

    def verify(self, reference: str, region: str) -> work.Operation:
        """Check every chunk of a version in a region."""
        return self._transport.one(work.Operation, "POST", f"/versions/{reference}/verify", params={"region": region})

    # Retirement

    def sunset(self, reference: str, *, retire_on: date | None = None) -> catalogue.Version:
        """Warn launches, until a date."""
        body = {"retire_on": retire_on.isoformat() if retire_on else None}
        return self._transport.one(catalogue.Version, "POST", f"/versions/{reference}/sunset", json=body)

    def sunset_plan(self, reference: str, *, retire_on: date | None = None) -> Plan:
        """Who runs a version, and what announcing its end would do."""
        day = retire_on.isoformat() if retire_on else None
        return self._transport.one(Plan, "GET", f"/versions/{reference}/sunset-plan", params={"retire_on": day})

    def retirement_plan(self, reference: str) -> Plan:
        """Who uses a version, and what retiring it would do."""
        return self._transport.one(Plan, "GET", f"/versions/{reference}/retirement")

    def retire(self, reference: str) -> catalogue.Version:
        """Refuse new launches."""
        return self._transport.one(catalogue.Version, "POST", f"/versions/{reference}/retire")

    def purge_plan(self, reference: str, *, waive_grace: bool = False) -> Plan:
        """What a purge would remove."""
        return self._transport.one(Plan, "GET", f"/versions/{reference}/purging", params={"waive_grace": waive_grace})

    def purge(self, reference: str, *, waive_grace: bool = False, key: str | None = None) -> work.Operation:
        """Remove a version's bytes."""
        return self._create(work.Operation, f"/versions/{reference}/purge", {"waive_grace": waive_grace}, key)

    # Events and alerts

    def events(
        self, *, subject: str | None = None, action: str | None = None, limit: int = 100
    ) -> Iterator[fleet.Event]:
        """The audit trail, newest first; ``limit`` is the size of a page."""
        return self._transport.pages(fleet.Event, "/events", subject=subject, action=action, limit=limit)

    def events_file(
        self, form: Literal["csv", "ndjson"], *, subject: str | None = None, action: str | None = None
    ) -> Iterator[bytes]:
        """The whole of it as a file, in pieces."""
        return self._transport.file("/events", subject=subject, action=action, format=form)

    def event_chain(self) -> fleet.ChainCheck:
        """Whether the audit trail is whole: an operation reads it, and is waited for."""
        return fleet.ChainCheck.model_validate(self.wait(self.start_event_check().id).result)

    def start_event_check(self) -> work.Operation:
        """Have the audit trail read once from its beginning; the operation's result is a ``ChainCheck``."""
        return self._transport.one(work.Operation, "POST", "/event-checks")

    def alerts(self, *, cleared: bool = False) -> list[fleet.Alert]:
        """What somebody should look at."""
        return list(self._transport.pages(fleet.Alert, "/alerts", cleared=cleared))

    def acknowledge(self, alert: str, *, reason: str = "") -> fleet.Alert:
        """Say that one has seen an alert; it stays raised until it is over."""
        body = fleet.AcknowledgeRequest(reason=reason).model_dump()
        return self._transport.one(fleet.Alert, "POST", f"/alerts/{alert}/acknowledgement", json=body)


def _patience() -> float:
    text = os.environ.get("BATHOTYPE_PATIENCE", str(PATIENCE))
    try:
        seconds = float(text)
    except ValueError:
        seconds = -1
    if not 0 <= seconds <= 86_400:
        raise Invalid(
            f"BATHOTYPE_PATIENCE is {text!r}, which is no number of seconds.",
            advice="Say how long a service that is away is waited for, from 0 to 86400.",
        )
    return seconds
