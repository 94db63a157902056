"""Reaching regions: their stores, and their sites as an account sees them."""

from __future__ import annotations

import threading

from sqlalchemy import select

from bathotype.core.errors import NotFound, Refused
from bathotype.core.store.region import RegionStore
from bathotype.service.database import Database
from bathotype.service.records import Account
from bathotype.service.settings import Places
from bathotype.sites.standin import StandinSite


class Reach:
    """Opens each store and site once.  Raises `NotFound` for unknown regions, `Refused` without access.

    ``patience`` is how long, in seconds, a call to a site is repeated: long for operations, short where somebody
    waits for an answer.
    """

    def __init__(self, database: Database, places: Places, *, patience: float) -> None:
        self._database, self.places, self._patience = database, places, patience
        self._stores: dict[str, RegionStore] = {}
        self._sites: dict[tuple[str, str], StandinSite] = {}
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

    def site(self, region: str, account: str) -> StandinSite:
        """A region's site as an account sees it."""
        self.check_region(region)
        access = self.places.accounts.get(account)
        if access is None:
            raise Refused(
                f"Account {account} has no access to any site.", advice="Add its site token to the regions file."
            )
        with self._lock:
            key = (region, account)
            if key not in self._sites:
                self._sites[key] = StandinSite(self.places.regions[region].site, access.token, patience=self._patience)
            return self._sites[key]

    def site_order(self, region: str, account: str) -> tuple[str, str]:
        """``(address, token)``, for the thaw guard."""
        return self.places.regions[region].site, self.places.accounts[account].token

    def account_tags(self, account: str) -> dict[str, str]:
        """Tags that an account puts on everything it creates."""
        access = self.places.accounts.get(account)
        return dict(access.tags) if access else {}

    def account_name(self, account_id: str) -> str:
        """An account's name by id."""
        if account_id not in self._names:
            with self._database.sessions() as session:
                name = session.scalar(select(Account.name).where(Account.id == account_id))
            if name is None:
                raise NotFound(f"There is no account {account_id}.")
            self._names[account_id] = name
        return self._names[account_id]
