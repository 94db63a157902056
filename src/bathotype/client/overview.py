"""What is seen first of an account, a line, a version, an instance, and the regions."""

from __future__ import annotations

from typing import Any

from bathotype.client.calls import Calls
from bathotype.wire import overview as wire
from bathotype.wire import regions as places


class OverviewCalls(Calls):
    """Sentences, what can be done, and history."""

    def overview(self) -> wire.Overview:
        """What is seen first of the account: what needs somebody, what goes on, which dates come near."""
        return self._transport.one(wire.Overview, "GET", "/overview")

    def line_overview(self, line: str) -> wire.LineOverview:
        """What is seen first of a line."""
        return self._transport.one(wire.LineOverview, "GET", f"/lines/{line}/overview")

    def version_overview(self, reference: str) -> wire.VersionOverview:
        """What is seen first of a version."""
        return self._transport.one(wire.VersionOverview, "GET", f"/versions/{reference}/overview")

    def instance_overview(self, instance: str) -> wire.InstanceOverview:
        """What is seen first of an instance, by name or id."""
        return self._transport.one(wire.InstanceOverview, "GET", f"/instances/{instance}/overview")

    def history(self, line: str, *, days: int = 120) -> wire.History:
        """How many instances ran of each version of a line, day by day."""
        return self._transport.one(wire.History, "GET", f"/lines/{line}/history", params={"days": days})

    def storage(self, *, days: int = 120) -> wire.Storage:
        """The bytes that the account's lines need of each region's store, day by day."""
        return self._transport.one(wire.Storage, "GET", "/storage", params={"days": days})

    def regions(self) -> list[wire.RegionState]:
        """Every region: whether its site answers, and what is used of its quotas."""
        return self._transport.many(wire.RegionState, "/regions")

    def links(self) -> list[places.LinkState]:
        """The links between regions."""
        return self._transport.many(places.LinkState, "/links")

    def networks(self, region: str) -> places.NetworksState:
        """What instances in a region can attach to."""
        return self._transport.one(places.NetworksState, "GET", f"/regions/{region}/networks")

    def buckets(self) -> list[places.BucketState]:
        """The buckets that the account may import from or export to."""
        return self._transport.many(places.BucketState, "/buckets")

    def formats(self) -> list[places.FormatState]:
        """The image formats that can be written and read."""
        return self._transport.many(places.FormatState, "/formats")

    def profiles(self) -> list[dict[str, Any]]:
        """The built-in generalization profiles, with their steps."""
        return list(self._transport.data("GET", "/profiles"))
