"""Calls about shares, adoption, launch rules and allowances."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Literal

from bathotype.client.calls import Calls
from bathotype.client.transport import if_match
from bathotype.core.lifecycle.rules import LaunchRule
from bathotype.wire import operations as work
from bathotype.wire import rules as ruling
from bathotype.wire import sharing as wire
from bathotype.wire import versions as catalogue


class SharingCalls(Calls):
    """Who may use what of whom."""

    def share(
        self,
        *,
        subject: str,
        consumer: str | None = None,
        regions: list[str] | None = None,
        until: date | None = None,
        note: str = "",
        confirm_public: bool = False,
        key: str | None = None,
    ) -> wire.Share:
        """Propose a share of a line, or of one version, with an account; without one, confirmed, with every account."""
        body = wire.ShareRequest(
            subject=subject, consumer=consumer, regions=regions, until=until, note=note, confirm_public=confirm_public
        )
        return self._create(wire.Share, "/shares", body.model_dump(mode="json"), key)

    def shares(self, side: str = "all", *, ended: bool = False) -> list[wire.Share]:
        """Shares given and taken; ``inbox`` are those that wait for this account."""
        return list(self._transport.pages(wire.Share, "/shares", side=side, ended=ended))

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
        return list(self._transport.pages(wire.SharedVersion, "/shared-versions"))

    def consumers(self, line: str) -> list[wire.ConsumerCount]:
        """How many instances other accounts run from a line."""
        return self._transport.many(wire.ConsumerCount, f"/lines/{line}/consumers")

    def calendar(self) -> list[wire.Due]:
        """The versions in sunset or retired that this account runs."""
        return self._transport.many(wire.Due, "/calendar")

    def dates(self) -> list[wire.Due]:
        """The calendar, and with it the account's own versions that come to their end, with what is in the way."""
        return self._transport.many(wire.Due, "/dates")

    def adopt(
        self,
        reference: str,
        *,
        line: str,
        number: str | None = None,
        bump: Literal["patch", "minor", "major"] | None = None,
        notes: str = "",
        key: str | None = None,
    ) -> work.Operation:
        """Take a version of another account over into a line of this one."""
        body = wire.AdoptRequest(line=line, number=number, bump=bump, notes=notes).model_dump(mode="json")
        return self._create(work.Operation, f"/versions/{reference}/adoption", body, key)

    def signature(self, reference: str) -> catalogue.Signature:
        """A version's signed record."""
        return self._transport.one(catalogue.Signature, "GET", f"/versions/{reference}/signature")

    # Rules and allowances

    def rules(self) -> list[ruling.SetRule]:
        """The launch rules that hold for this account."""
        return list(self._transport.pages(ruling.SetRule, "/rules", limit=500))

    def set_rule(self, rule: LaunchRule, *, for_all: bool = False, revision: str | None = None) -> ruling.SetRule:
        """Set a rule, for this account or for all; with the ``revision`` that was seen, only if it is that still."""
        return self._transport.one(
            ruling.SetRule, "PUT", f"/rules/{rule.name}",
            params={"all": for_all}, json=rule.model_dump(mode="json"), headers=if_match(revision),
        )  # fmt: skip

    def drop_rule(self, name: str, *, for_all: bool = False) -> None:
        """Remove a rule."""
        self._transport.call("DELETE", f"/rules/{name}", params={"all": for_all})

    def explain(
        self, reference: str, region: str, *, account: str | None = None, tags: Sequence[str] | None = None
    ) -> ruling.Explanation:
        """Each rule's verdict on a launch, by this account or another one, that would carry tags of these names."""
        params = {"reference": reference, "region": region, "account": account, "tag": list(tags or ()) or None}
        return self._transport.one(ruling.Explanation, "GET", "/rules/explanation", params=params)

    def allowances(self) -> list[ruling.Allowance]:
        """Allowances and what is used of them."""
        return list(self._transport.pages(ruling.Allowance, "/allowances", limit=500))

    def set_allowance(
        self,
        name: str,
        *,
        kind: ruling.AllowanceKind,
        most: int,
        line: str | None = None,
        version: str | None = None,
        lines: list[str] | None = None,
        consumer: str | None = None,
        revision: str | None = None,
    ) -> ruling.Allowance:
        """Set how many instances may run of a line, a version or a pool of lines, or in this account."""
        body = ruling.AllowanceRequest(
            kind=kind, most=most, line=line, version=version, lines=lines, consumer=consumer
        ).model_dump(mode="json")
        headers = if_match(revision)
        return self._transport.one(ruling.Allowance, "PUT", f"/allowances/{name}", json=body, headers=headers)

    def drop_allowance(self, name: str) -> None:
        """Remove one."""
        self._transport.call("DELETE", f"/allowances/{name}")
