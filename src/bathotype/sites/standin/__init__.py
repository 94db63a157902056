"""The adapter to the stand-in cloud: its HTTP API, and agent channels over WebSocket."""

from __future__ import annotations

from bathotype.sites.factory import SiteAddress
from bathotype.sites.standin.site import StandinSite

__all__ = ["StandinSite", "open_site"]


def open_site(address: SiteAddress, *, timeout: float, patience: float) -> StandinSite:
    """See `bathotype.sites.factory.open_site`."""
    return StandinSite(address.url, address.token, timeout=timeout, patience=patience)
