"""Opens regions: their stores, and their sites as an account sees them."""

from __future__ import annotations

import threading
from collections.abc import Callable

from sqlalchemy import select

from bathotype.core.errors import NotFound, Refused
from bathotype.core.store.region import RegionStore
from bathotype.service.database import Database
from bathotype.service.records import Account
from bathotype.service.settings import Places
from bathotype.sites.factory import SiteAddress, open_site
from bathotype.sites.protocol import Site

#: How a site is opened: its address, and for how many seconds failed calls are repeated.
OpenSite = Callable[[SiteAddress, float], Site]


def _by_adapter(address: SiteAddress, patience: float) -> Site:
    return open_site(address, patience=patience)


class Reach:
    """Opens each store and site once.  Raises `NotFound` for unknown regions, `Refused` without access.

    ``patience`` is for how many seconds a failed call to a site is repeated: long for operations, short where a person
    waits for an answer.
    """

    def __init__(
        self, database: Database, places: Places, *, patience: float, open_site: OpenSite = _by_adapter
    ) -> None:
        self.database, self.places, self._patience, self._open = database, places, patience, open_site
        self._stores: dict[str, RegionStore] = {}
        self._sites: dict[tuple[str, str], Site] = {}
        self._names: dict[str, str] = {}
        self._lock = threading.Lock()

    @property
    def regions(self) -> list[str]:
        """All regions, by name."""
        return sorted(self.places.regions)

    def check_region(self, region: str) -> str:
        """The region's name, if there is one."""
        if region not in self.places.regions:
            raise NotFound(f"There is no region {region!r}.", advice=f"The regions are {', '.join(self.regions)}.")
        return region

    def store(self, region: str) -> RegionStore:
        """A region's store."""
        self.check_region(region)
        with self._lock:
            if region not in self._stores:
                self._stores[region] = RegionStore(region, self.places.regions[region].store)
            return self._stores[region]

    def site(self, region: str, account: str) -> Site:
        """A region's site as an account sees it."""
        address = self.site_address(region, account)
        with self._lock:
            key = (region, account)
            if key not in self._sites:
                self._sites[key] = self._open(address, self._patience)
            return self._sites[key]

    def site_address(self, region: str, account: str) -> SiteAddress:
        """Where a region's site is, and the account's token there."""
        self.check_region(region)
        access = self.places.accounts.get(account)
        if access is None:
            raise Refused(
                f"Account {account} has no access to any site.", advice="Add its site token to the regions file."
            )
        place = self.places.regions[region]
        return SiteAddress(place.kind, place.site, access.token)

    def account_tags(self, account: str) -> dict[str, str]:
        """Tags that an account puts on everything it creates."""
        access = self.places.accounts.get(account)
        return dict(access.tags) if access else {}

    def account_name(self, account_id: str) -> str:
        """An account's name by id."""
        if account_id not in self._names:
            with self.database.sessions() as session:
                name = session.scalar(select(Account.name).where(Account.id == account_id))
            if name is None:
                raise NotFound(f"There is no account {account_id}.")
            self._names[account_id] = name
        return self._names[account_id]
