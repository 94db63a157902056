"""Calls about replicas and placements."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from bathotype.client.calls import Calls
from bathotype.client.transport import if_match
from bathotype.wire import operations as work
from bathotype.wire import regions as wire
from bathotype.wire.common import Plan


class RegionCalls(Calls):
    """Where versions are."""

    def replicas(self, reference: str) -> list[wire.Replica]:
        """Where a version is."""
        return self._transport.many(wire.Replica, f"/versions/{reference}/replicas")

    def replicas_of_line(self, line: str) -> Iterator[wire.VersionReplicas]:
        """Where each version of a line is, the newest first."""
        return self._transport.pages(wire.VersionReplicas, f"/lines/{line}/replicas")

    def plan_replication(self, reference: str, to: Sequence[wire.RegionPlace | dict[str, Any]]) -> wire.ReplicationPlan:
        """What a replication would move."""
        body = wire.ReplicateRequest(to=list(to)).model_dump(mode="json")  # type: ignore[arg-type]
        return self._transport.one(wire.ReplicationPlan, "POST", f"/versions/{reference}/replication-plan", json=body)

    def replicate(
        self, reference: str, to: Sequence[wire.RegionPlace | dict[str, Any]], *, key: str | None = None
    ) -> list[work.Operation]:
        """Bring a version to regions: one operation for each."""
        body = wire.ReplicateRequest(to=list(to)).model_dump(mode="json")  # type: ignore[arg-type]
        return self._create(wire.Replications, f"/versions/{reference}/replications", body, key).operations

    def drain_plan(self, reference: str, region: str) -> Plan:
        """What removing a version from a region would do."""
        return self._transport.one(Plan, "GET", f"/versions/{reference}/drain-plan", params={"region": region})

    def drain(self, reference: str, region: str) -> work.Operation:
        """Remove a version from a region."""
        return self._transport.one(work.Operation, "POST", f"/versions/{reference}/drain", params={"region": region})

    def placement(self, line: str) -> wire.Placement:
        """The regions where a line's released versions are kept."""
        return self._transport.one(wire.Placement, "GET", f"/lines/{line}/placement")

    def plan_placement(self, line: str, regions: Sequence[wire.RegionPlace | dict[str, Any]]) -> wire.PlacementPlan:
        """What a new placement would do."""
        body = wire.PlacementRequest(regions=list(regions)).model_dump(mode="json")  # type: ignore[arg-type]
        return self._transport.one(wire.PlacementPlan, "POST", f"/lines/{line}/placement-plan", json=body)

    def set_placement(
        self, line: str, regions: Sequence[wire.RegionPlace | dict[str, Any]], *, revision: str | None = None
    ) -> wire.PlacementChange:
        """Change a placement and start what brings the versions into line."""
        body = wire.PlacementRequest(regions=list(regions)).model_dump(mode="json")  # type: ignore[arg-type]
        return self._transport.one(
            wire.PlacementChange, "PUT", f"/lines/{line}/placement", json=body, headers=if_match(revision)
        )
