"""All calls of the HTTP API as methods."""

from __future__ import annotations

import os
import uuid
from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path
from types import TracebackType
from typing import Any

import httpx
from httpx_sse import connect_sse

from bathotype.client.download import download
from bathotype.client.transport import NotSignedIn, OperationFailed, Transport, error_of
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.store.manifest import Manifest
from bathotype.wire import fleet, machines, operations, versions
from bathotype.wire.common import PlanAnswer

Watcher = Callable[[operations.Operation], None]


class Client:
    """A service, as one account sees it.  Errors are those of `bathotype.core.errors`."""

    def __init__(self, url: str, token: str, *, timeout: float = 60.0) -> None:
        self._transport = Transport(url, token, timeout=timeout)

    @classmethod
    def from_environment(cls) -> Client:
        """From ``BATHOTYPE_URL`` and ``BATHOTYPE_TOKEN``.  Raises `NotSignedIn` where one is missing."""
        url, token = os.environ.get("BATHOTYPE_URL", ""), os.environ.get("BATHOTYPE_TOKEN", "")
        if not url or not token:
            missing = " and ".join(n for n, v in (("BATHOTYPE_URL", url), ("BATHOTYPE_TOKEN", token)) if not v)
            raise NotSignedIn(f"{missing} not set.", advice="Set it; the demo writes both to DIR/demo.env.")
        return cls(url, token)

    def close(self) -> None:
        """Close the connections."""
        self._transport.http.close()

    def __enter__(self) -> Client:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def _create(self, path: str, body: dict[str, Any], key: str | None) -> dict[str, Any]:
        headers = {"Idempotency-Key": key or uuid.uuid4().hex}
        return dict(self._transport.call("POST", path, json=body, headers=headers).json())

    # Machines

    def machines(self, *, region: str | None = None) -> Iterator[machines.Machine]:
        """Every machine of the account."""
        return self._transport.pages(machines.Machine, "/machines", region=region)

    def machine(self, name: str, *, region: str | None = None) -> machines.Machine:
        """One machine by name or id."""
        return self._transport.one(machines.Machine, "GET", f"/machines/{name}", params={"region": region})

    def inspect(self, name: str, **options: Any) -> machines.Inspection:
        """Preflight; options: region, mode, profile, line, number, tag."""
        return self._transport.one(machines.Inspection, "GET", f"/machines/{name}/inspection", params=options)

    # Lines and marks

    def lines(self) -> Iterator[versions.Line]:
        """The account's lines."""
        return self._transport.pages(versions.Line, "/lines")

    def line(self, name: str) -> versions.Line:
        """One line."""
        return self._transport.one(versions.Line, "GET", f"/lines/{name}")

    def create_line(self, name: str, *, about: str = "", key: str | None = None) -> versions.Line:
        """Create a line."""
        return versions.Line.model_validate(self._create("/lines", {"name": name, "about": about}, key))

    def marks(self, line: str) -> list[versions.Mark]:
        """A line's marks with their history."""
        return self._transport.many(versions.Mark, f"/lines/{line}/marks")

    def set_mark(self, line: str, mark: str, number: str) -> versions.Mark:
        """Point a mark to a version."""
        return self._transport.one(versions.Mark, "PUT", f"/lines/{line}/marks/{mark}", json={"number": number})

    def drop_mark(self, line: str, mark: str) -> None:
        """Remove a mark."""
        self._transport.call("DELETE", f"/lines/{line}/marks/{mark}")

    # Captures

    def capture(self, *, key: str | None = None, **request: Any) -> operations.Operation:
        """Start a capture; fields as `versions.CaptureRequest`."""
        body = versions.CaptureRequest(**request).model_dump(mode="json")
        return operations.Operation.model_validate(self._create("/captures", body, key))

    def plan_capture(self, **request: Any) -> operations.Operation:
        """Work out what a capture would change; the operation's result is the plan."""
        body = versions.CapturePlanRequest(**request).model_dump(mode="json")
        return operations.Operation.model_validate(self._create("/capture-plans", body, None))

    # Versions

    def versions(self, line: str) -> Iterator[versions.Version]:
        """A line's versions, highest number first."""
        return self._transport.pages(versions.Version, f"/lines/{line}/versions")

    def version(self, reference: str) -> versions.Version:
        """One version."""
        return self._transport.one(versions.Version, "GET", f"/versions/{reference}")

    def findings(self, reference: str) -> list[versions.Finding]:
        """The residue report."""
        return self._transport.many(versions.Finding, f"/versions/{reference}/findings")

    def packages(self, reference: str) -> list[versions.PackageRow]:
        """Every package of a version."""
        return self._transport.many(versions.PackageRow, f"/versions/{reference}/packages")

    def versions_with_package(self, name: str) -> list[versions.PackageUse]:
        """Which versions hold a package."""
        return self._transport.many(versions.PackageUse, f"/packages/{name}/versions")

    def difference(self, old: str, new: str) -> versions.Difference:
        """How two versions differ."""
        return self._transport.one(versions.Difference, "GET", f"/versions/{old}/difference", params={"to": new})

    def resolve(self, reference: str, *, region: str | None = None) -> versions.Resolution:
        """What another tool needs to launch it."""
        return self._transport.one(
            versions.Resolution, "GET", f"/versions/{reference}/resolution", params={"region": region}
        )

    def release(self, reference: str) -> versions.Version:
        """Offer a version."""
        return self._transport.one(versions.Version, "POST", f"/versions/{reference}/release")

    def accept(self, reference: str, finding: str, reason: str) -> versions.Finding:
        """Accept one finding by name."""
        return self._transport.one(
            versions.Finding, "POST", f"/versions/{reference}/findings/{finding}/acceptance", json={"reason": reason}
        )

    def change(self, reference: str, *, pin_only: bool | None = None, notes: str | None = None) -> versions.Version:
        """Change notes or pin-only."""
        body = versions.ChangeRequest(pin_only=pin_only, notes=notes).model_dump(exclude_none=True)
        return self._transport.one(versions.Version, "PATCH", f"/versions/{reference}", json=body)

    def holds(self, reference: str) -> list[versions.Hold]:
        """The holds on a version."""
        return self._transport.many(versions.Hold, f"/versions/{reference}/holds")

    def hold(self, reference: str, name: str, reason: str) -> versions.Hold:
        """Forbid purging."""
        return self._transport.one(
            versions.Hold, "POST", f"/versions/{reference}/holds", json={"name": name, "reason": reason}
        )

    def lift_hold(self, reference: str, name: str) -> None:
        """Lift a hold."""
        self._transport.call("DELETE", f"/versions/{reference}/holds/{name}")

    def verify(self, reference: str, region: str) -> operations.Operation:
        """Check every chunk of a version in a region."""
        return self._transport.one(
            operations.Operation, "POST", f"/versions/{reference}/verify", params={"region": region}
        )

    # Retirement

    def sunset(self, reference: str, *, retire_on: date | None = None) -> versions.Version:
        """Warn launches, until a date."""
        body = {"retire_on": retire_on.isoformat() if retire_on else None}
        return self._transport.one(versions.Version, "POST", f"/versions/{reference}/sunset", json=body)

    def retirement_plan(self, reference: str) -> PlanAnswer:
        """Who uses a version, and what retiring it would do."""
        return self._transport.one(PlanAnswer, "GET", f"/versions/{reference}/retirement")

    def retire(self, reference: str) -> versions.Version:
        """Refuse new launches."""
        return self._transport.one(versions.Version, "POST", f"/versions/{reference}/retire")

    def purge_plan(self, reference: str, *, waive_grace: bool = False) -> PlanAnswer:
        """What a purge would remove."""
        return self._transport.one(
            PlanAnswer, "GET", f"/versions/{reference}/purging", params={"waive_grace": waive_grace}
        )

    def purge(self, reference: str, *, waive_grace: bool = False, key: str | None = None) -> operations.Operation:
        """Remove a version's bytes."""
        body = self._create(f"/versions/{reference}/purge", {"waive_grace": waive_grace}, key)
        return operations.Operation.model_validate(body)

    # Launches and instances

    def launch(self, *, key: str | None = None, **request: Any) -> operations.Operation:
        """Launch instances; fields as `fleet.LaunchRequest`."""
        body = fleet.LaunchRequest(**request).model_dump(mode="json")
        return operations.Operation.model_validate(self._create("/launches", body, key))

    def plan_launch(self, **request: Any) -> fleet.LaunchPlan:
        """What a launch would do."""
        body = fleet.LaunchRequest(**request).model_dump(mode="json")
        return self._transport.one(fleet.LaunchPlan, "POST", "/launch-plans", json=body)

    def instances(self, **filters: Any) -> Iterator[fleet.Instance]:
        """Instances; filters: version, state, region, behind."""
        return self._transport.pages(fleet.Instance, "/instances", **filters)

    def instance(self, name: str) -> fleet.Instance:
        """One instance by id or name."""
        return self._transport.one(fleet.Instance, "GET", f"/instances/{name}")

    def instance_counts(self, *, line: str | None = None) -> list[dict[str, Any]]:
        """Instances per version and state."""
        return list(self._transport.call("GET", "/instances/counts", params={"line": line}).json())

    def act_on_instance(self, name: str, verb: str) -> fleet.Instance:
        """``stop``, ``start`` or ``terminate``."""
        return self._transport.one(fleet.Instance, "POST", f"/instances/{name}/{verb}")

    # First-boot settings

    def saved_first_boot(self) -> list[fleet.SavedFirstBoot]:
        """Saved settings."""
        return self._transport.many(fleet.SavedFirstBoot, "/first-boot")

    def save_first_boot(self, name: str, settings: FirstBoot) -> fleet.SavedFirstBoot:
        """Save settings under a name."""
        return self._transport.one(
            fleet.SavedFirstBoot, "PUT", f"/first-boot/{name}", json=settings.model_dump(mode="json")
        )

    def drop_first_boot(self, name: str) -> None:
        """Remove saved settings."""
        self._transport.call("DELETE", f"/first-boot/{name}")

    # Events and alerts

    def events(self, **filters: Any) -> Iterator[fleet.Event]:
        """The audit trail, newest first; filters: subject, action, limit."""
        return self._transport.pages(fleet.Event, "/events", **filters)

    def event_chain(self) -> dict[str, Any]:
        """Whether the audit trail is whole."""
        return dict(self._transport.call("GET", "/events/chain").json())

    def alerts(self, *, cleared: bool = False) -> list[fleet.Alert]:
        """What somebody should look at."""
        return self._transport.many(fleet.Alert, "/alerts", cleared=cleared)

    # Operations

    def operations(self, *, state: str | None = None, limit: int = 50) -> Iterator[operations.Operation]:
        """Operations, newest first."""
        return self._transport.pages(operations.Operation, "/operations", state=state, limit=limit)

    def operation(self, operation_id: str) -> operations.Operation:
        """One operation."""
        return self._transport.one(operations.Operation, "GET", f"/operations/{operation_id}")

    def operation_log(self, operation_id: str) -> list[operations.LogLine]:
        """What an operation has told."""
        return self._transport.many(operations.LogLine, f"/operations/{operation_id}/log")

    def cancel(self, operation_id: str) -> operations.Operation:
        """Ask an operation to stop."""
        return self._transport.one(operations.Operation, "POST", f"/operations/{operation_id}/cancel")

    def retry(self, operation_id: str) -> operations.Operation:
        """Run a failed operation again."""
        return self._transport.one(operations.Operation, "POST", f"/operations/{operation_id}/retry")

    def watch(self, operation_id: str) -> Iterator[operations.Operation]:
        """An operation at each change until it has ended; a broken connection is taken up again."""
        while True:
            try:
                with connect_sse(
                    self._transport.http,
                    "GET",
                    f"/operations/{operation_id}/events",
                    timeout=httpx.Timeout(30, read=60),
                ) as source:
                    if source.response.status_code >= 400:
                        raise error_of(source.response)
                    for event in source.iter_sse():
                        if event.event == "operation":
                            seen = operations.Operation.model_validate_json(event.data)
                            yield seen
                            if seen.state in operations.ENDED:
                                return
            except httpx.TransportError:
                pass
            seen = self.operation(operation_id)  # waits while the service is away, and raises when it stays away
            yield seen
            if seen.state in operations.ENDED:
                return

    def wait(self, operation_id: str, *, on_progress: Watcher | None = None) -> operations.Operation:
        """Wait until an operation has ended.  Raises `OperationFailed` unless it succeeded."""
        last: operations.Operation | None = None
        for last in self.watch(operation_id):
            if on_progress is not None:
                on_progress(last)
        assert last is not None
        if last.state == "cancelled":
            raise OperationFailed(f"The {last.kind} of {last.subject} was cancelled.", code="cancelled")
        if last.state == "failed":
            failure = last.error
            raise OperationFailed(
                failure.message if failure else "It failed.",
                advice=failure.advice if failure else "",
                code=failure.code if failure else "failed",
            )
        return last

    # Bytes

    def export(
        self,
        reference: str,
        target: Path,
        *,
        region: str | None = None,
        on_progress: Callable[[int, int], None] = lambda done, total: None,
    ) -> Manifest:
        """Write a version's raw disk to a file: sparse, resumable, every chunk verified."""
        return download(self._transport, reference, target, region, on_progress)
