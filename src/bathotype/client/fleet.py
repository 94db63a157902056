"""Calls about launches, instances and first-boot settings."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, Literal

from bathotype.client.calls import Calls
from bathotype.client.transport import if_match
from bathotype.core.firstboot.settings import FirstBoot
from bathotype.core.lifecycle.networks import Attach
from bathotype.core.lifecycle.room import Room
from bathotype.wire import fleet
from bathotype.wire import operations as work


class FleetCalls(Calls):
    """What runs."""

    def launch(
        self,
        *,
        reference: str,
        region: str,
        zone: str | None = None,
        machine_size: str | None = None,
        count: int = 1,
        name: str = "",
        first_boot: FirstBoot | str | dict[str, Any] | None = None,
        attach: Attach | None = None,
        room: Room | None = None,
        tags: dict[str, str] | None = None,
        wait_seconds: int = 300,
        key: str | None = None,
    ) -> work.Operation:
        """Launch instances: see `bathotype.wire.fleet.LaunchRequest`."""
        body = _launch_request(
            reference, region, zone, machine_size, count, name, first_boot, attach, room, tags, wait_seconds
        )
        return self._create(work.Operation, "/launches", body, key)

    def plan_launch(
        self,
        *,
        reference: str,
        region: str,
        zone: str | None = None,
        machine_size: str | None = None,
        count: int = 1,
        name: str = "",
        first_boot: FirstBoot | str | dict[str, Any] | None = None,
        attach: Attach | None = None,
        room: Room | None = None,
        tags: dict[str, str] | None = None,
        wait_seconds: int = 300,
    ) -> fleet.LaunchPlan:
        """What a launch would do, with everything that forbids it."""
        body = _launch_request(
            reference, region, zone, machine_size, count, name, first_boot, attach, room, tags, wait_seconds
        )
        return self._transport.one(fleet.LaunchPlan, "POST", "/launch-plans", json=body)

    def instances(
        self,
        *,
        version: str | None = None,
        state: Sequence[fleet.InstanceState] | None = None,
        region: str | None = None,
        behind: bool = False,
        find: str | None = None,
        sort: fleet.InstanceSort | None = None,
    ) -> Iterator[fleet.Instance]:
        """Instances, newest first unless sorted; without ``state`` those that are there or coming."""
        asked = {"version": version, "state": state, "region": region, "behind": behind or None, "find": find}
        return self._transport.pages(fleet.Instance, "/instances", **asked, sort=sort, limit=500)

    def instances_file(
        self,
        form: Literal["csv", "ndjson"],
        *,
        version: str | None = None,
        state: Sequence[fleet.InstanceState] | None = None,
        region: str | None = None,
        behind: bool = False,
        find: str | None = None,
        sort: fleet.InstanceSort | None = None,
    ) -> Iterator[bytes]:
        """The same as a file, in pieces."""
        asked = {"version": version, "state": state, "region": region, "behind": behind or None, "find": find}
        return self._transport.file("/instances", **asked, sort=sort, format=form)

    def instance(self, name: str) -> fleet.Instance:
        """One instance by id or name."""
        return self._transport.one(fleet.Instance, "GET", f"/instances/{name}")

    def instance_counts(self, *, line: str | None = None) -> list[fleet.VersionCount]:
        """Instances per version and state."""
        return self._transport.many(fleet.VersionCount, "/instances/counts", line=line)

    def act_on_instance(self, name: str, verb: str) -> fleet.Instance:
        """``stop``, ``start`` or ``terminate``."""
        return self._transport.one(fleet.Instance, "POST", f"/instances/{name}/{verb}")

    def plan_instance_change(
        self,
        verb: fleet.InstanceVerb,
        *,
        instances: Sequence[str] | None = None,
        where: fleet.InstanceFilter | None = None,
    ) -> fleet.InstancePlan:
        """What a change of many instances would do: those that are named, or all that fit a filter."""
        body = _change_request(verb, instances, where, None)
        return self._transport.one(fleet.InstancePlan, "POST", "/instance-plans", json=body)

    def change_instances(
        self,
        verb: fleet.InstanceVerb,
        *,
        instances: Sequence[str] | None = None,
        where: fleet.InstanceFilter | None = None,
        selection: str | None = None,
        key: str | None = None,
    ) -> work.Operation:
        """Stop, start or terminate many instances; with a plan's ``selection``, just those of the plan."""
        body = _change_request(verb, instances, where, selection)
        return self._create(work.Operation, "/instance-changes", body, key)

    # First-boot settings

    def saved_first_boot(self) -> list[fleet.SavedFirstBoot]:
        """Saved settings."""
        return list(self._transport.pages(fleet.SavedFirstBoot, "/first-boot", limit=500))

    def first_boot(self, name: str) -> fleet.SavedFirstBoot:
        """The settings that are saved under a name."""
        return self._transport.one(fleet.SavedFirstBoot, "GET", f"/first-boot/{name}")

    def save_first_boot(self, name: str, settings: FirstBoot, *, revision: str | None = None) -> fleet.SavedFirstBoot:
        """Save settings under a name; with the ``revision`` that was seen, only if nobody has changed them since."""
        body, headers = settings.model_dump(mode="json"), if_match(revision)
        return self._transport.one(fleet.SavedFirstBoot, "PUT", f"/first-boot/{name}", json=body, headers=headers)

    def drop_first_boot(self, name: str) -> None:
        """Remove saved settings."""
        self._transport.call("DELETE", f"/first-boot/{name}")


def _launch_request(
    reference: str,
    region: str,
    zone: str | None,
    machine_size: str | None,
    count: int,
    name: str,
    first_boot: FirstBoot | str | dict[str, Any] | None,
    attach: Attach | None,
    room: Room | None,
    tags: dict[str, str] | None,
    wait_seconds: int,
) -> dict[str, Any]:
    settings = FirstBoot.model_validate(first_boot) if isinstance(first_boot, dict) else first_boot
    return fleet.LaunchRequest(
        reference=reference, region=region, zone=zone, machine_size=machine_size, count=count, name=name,
        first_boot=settings, attach=attach or Attach(), room=room or Room(), tags=tags or {}, wait_seconds=wait_seconds,
    ).model_dump(mode="json")  # fmt: skip


def _change_request(
    verb: fleet.InstanceVerb, instances: Sequence[str] | None, where: fleet.InstanceFilter | None, selection: str | None
) -> dict[str, Any]:
    named = None if instances is None else list(instances)
    request = fleet.InstanceChangeRequest(verb=verb, instances=named, where=where, selection=selection)
    return request.model_dump(mode="json")
