"""Calls about shares, adoption, launch rules and allowances."""

from __future__ import annotations

from typing import Any

from bathotype.client.calls import Calls
from bathotype.core.lifecycle.rules import LaunchRule
from bathotype.wire import operations as work
from bathotype.wire import rules as ruling
from bathotype.wire import sharing as wire
from bathotype.wire import versions as catalogue


class SharingCalls(Calls):
    """Who may use what of whom."""

    def share(self, *, key: str | None = None, **request: Any) -> wire.Share:
        """Propose a share; fields as `bathotype.wire.sharing.ShareRequest`."""
        body = wire.ShareRequest(**request).model_dump(mode="json")
        return wire.Share.model_validate(self._create("/shares", body, key))

    def shares(self, side: str = "all", *, ended: bool = False) -> list[wire.Share]:
        """Shares given and taken; ``inbox`` are those that wait for this account."""
        return self._transport.many(wire.Share, "/shares", side=side, ended=ended)

    def show_share(self, share: str) -> wire.Share:
        """One share."""
        return self._transport.one(wire.Share, "GET", f"/shares/{share}")

    def accept_share(self, share: str) -> wire.Share:
        """Accept a share that was proposed."""
        return self._transport.one(wire.Share, "POST", f"/shares/{share}/acceptance")

    def decline_share(self, share: str) -> wire.Share:
        """Decline one."""
        return self._transport.one(wire.Share, "POST", f"/shares/{share}/refusal")

    def end_share(self, share: str) -> wire.Share:
        """End one, from either side."""
        return self._transport.one(wire.Share, "POST", f"/shares/{share}/end")

    def shared_versions(self) -> list[wire.SharedVersion]:
        """Versions of others that this account may use."""
        return self._transport.many(wire.SharedVersion, "/shared-versions")

    def consumers(self, line: str) -> list[wire.ConsumerCount]:
        """How many instances other accounts run from a line."""
        return self._transport.many(wire.ConsumerCount, f"/lines/{line}/consumers")

    def calendar(self) -> list[wire.Due]:
        """What this account runs that comes to its end."""
        return self._transport.many(wire.Due, "/calendar")

    def adopt(self, reference: str, *, key: str | None = None, **request: Any) -> work.Operation:
        """Take a version of another account over; fields as `bathotype.wire.sharing.AdoptRequest`."""
        body = wire.AdoptRequest(**request).model_dump(mode="json")
        return work.Operation.model_validate(self._create(f"/versions/{reference}/adoption", body, key))

    def signature(self, reference: str) -> catalogue.Signature:
        """A version's signed record."""
        return self._transport.one(catalogue.Signature, "GET", f"/versions/{reference}/signature")

    # Rules and allowances

    def rules(self) -> list[ruling.SetRule]:
        """The launch rules that hold for this account."""
        return self._transport.many(ruling.SetRule, "/rules")

    def set_rule(self, rule: LaunchRule, *, for_all: bool = False) -> ruling.SetRule:
        """Set a rule, for this account or for all."""
        return self._transport.one(
            ruling.SetRule, "PUT", f"/rules/{rule.name}", params={"all": for_all}, json=rule.model_dump(mode="json")
        )

    def drop_rule(self, name: str, *, for_all: bool = False) -> None:
        """Remove a rule."""
        self._transport.call("DELETE", f"/rules/{name}", params={"all": for_all})

    def explain(self, reference: str, region: str, **options: Any) -> ruling.Explanation:
        """Each rule's verdict on a launch; options: account, tag."""
        params = {"reference": reference, "region": region, **options}
        return self._transport.one(ruling.Explanation, "GET", "/rules/explanation", params=params)

    def allowances(self) -> list[ruling.Allowance]:
        """Allowances and what is used of them."""
        return self._transport.many(ruling.Allowance, "/allowances")

    def set_allowance(self, name: str, **request: Any) -> ruling.Allowance:
        """Set one; fields as `bathotype.wire.rules.AllowanceRequest`."""
        body = ruling.AllowanceRequest(**request).model_dump(mode="json")
        return self._transport.one(ruling.Allowance, "PUT", f"/allowances/{name}", json=body)

    def drop_allowance(self, name: str) -> None:
        """Remove one."""
        self._transport.call("DELETE", f"/allowances/{name}")
