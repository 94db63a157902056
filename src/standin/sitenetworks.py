"""Where machines at the stand-in attach: their subnet, address, firewall sets and public address."""

from __future__ import annotations

import secrets
from ipaddress import ip_address
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from standin.guest import ModelledGuest
from standin.networks import admits, firewall_sets, isolated_addresses, public_addresses, subnets_of
from standin.records import Machine
from standin.siterules import SiteError, SiteRules
from standin.world import Account

_PAGE = "/var/www/html/index.html"


class SiteNetworks(SiteRules):
    """Everything about networks."""

    _guests: dict[str, ModelledGuest]
    sessions: Any

    def networks(self, session: Session, account: Account, region: str) -> dict[str, Any]:
        """What there is to attach to, and what of it is free."""
        taken = self._taken(session, region)
        rows = session.execute(
            select(Machine.public_address, Machine.name).where(
                Machine.account == account.name, Machine.region == region, Machine.public_address.is_not(None)
            )
        )
        used: dict[str | None, str] = {row[0]: row[1] for row in rows}
        return {
            "subnets": [
                {
                    "name": subnet.name,
                    "network": subnet.network,
                    "cidr": subnet.cidr,
                    "free": len(set(subnet.addresses()) - taken),
                }
                for subnet in subnets_of(region).values()
            ],
            "firewalls": [
                {
                    "name": name,
                    "openings": [
                        {"protocol": o.protocol, "first": o.ports[0], "last": o.ports[1], "source": o.source}
                        for o in openings
                    ],
                }
                for name, openings in firewall_sets(region).items()
            ],
            "public_addresses": [{"address": one, "machine": used.get(one)} for one in public_addresses(region)],
        }

    @staticmethod
    def _taken(session: Session, region: str) -> set[str]:
        return set(session.scalars(select(Machine.address).where(Machine.region == region)))

    def _attached(self, session: Session, account: Account, body: dict[str, Any]) -> dict[str, Any]:
        """The fields of a new machine that say where it attaches.  Raises `SiteError`."""
        region, taken = body["region"], self._taken(session, body["region"])
        if body.get("isolated"):
            free = next(one for one in isolated_addresses() if one not in taken)
            return {"address": free, "subnet": "", "firewalls": [], "public_address": None}
        subnets = subnets_of(region)
        name = body.get("subnet") or next(iter(subnets))
        if name not in subnets:
            raise SiteError(422, "subnet", f"Region {region} has the subnets {', '.join(subnets)}.")
        unknown = [one for one in body.get("firewalls", []) if one not in firewall_sets(region)]
        if unknown:
            raise SiteError(422, "firewall", f"There is no firewall set {', '.join(unknown)}.")
        address = body.get("address")
        if address is None:
            free_ones = (one for one in subnets[name].addresses() if one not in taken)
            # Where a subnet is full, machines of the simulation get an address of the sixth version.
            address = next(free_ones, f"2001:db8::{secrets.randbelow(1 << 16):x}:{secrets.randbelow(1 << 16):x}")
        elif address not in subnets[name].addresses():
            raise SiteError(422, "address", f"{address} is no address of machines in subnet {name}.")
        elif address in taken:
            raise SiteError(409, "address-in-use", f"{address} is in use.")
        return {
            "address": address,
            "subnet": name,
            "firewalls": list(body.get("firewalls", [])),
            "public_address": self._public(session, region, body.get("public_address")),
        }

    @staticmethod
    def _public(session: Session, region: str, wanted: bool | str | None) -> str | None:
        if not wanted:
            return None
        used = set(session.scalars(select(Machine.public_address).where(Machine.region == region)))
        free = [one for one in public_addresses(region) if one not in used]
        if isinstance(wanted, str):
            if wanted not in free:
                raise SiteError(409, "public-address", f"The public address {wanted} is not free.")
            return wanted
        if not free:
            raise SiteError(403, "quota", f"No public address of {region} is free.")
        return free[0]

    def probe(self, account: Account, machine_id: str, port: int, source: str) -> dict[str, Any]:
        """Try a connection to a modelled machine: whether it gets through, and the page that its web server shows."""
        try:
            ip_address(source)
        except ValueError as error:
            raise SiteError(422, "source", f"{source!r} is no address.") from error
        with self.sessions.begin() as session:
            machine = self.machine(session, account, machine_id)
            is_open = bool(machine.subnet) and admits(machine.region, machine.firewalls, port, source)
            guest = self._guests.get(machine.id) if machine.state == "running" else None
        page = guest.page(_PAGE) if is_open and port == 80 and guest is not None else None
        return {"open": is_open and guest is not None, "page": page}
