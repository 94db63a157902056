"""Opening a site of any kind.

A kind of site is a package in this folder, named as the regions file names it (``kind: standin``), with a function
``open_site`` that returns a `Site`.  Nothing else names an adapter: a new one is one new folder.
"""

from __future__ import annotations

import pkgutil
from dataclasses import dataclass
from functools import cache
from importlib import import_module
from pathlib import Path

from bathotype.core.errors import Invalid
from bathotype.sites.protocol import Site


@dataclass(frozen=True)
class SiteAddress:
    """How to reach a site as one account: the adapter's name, the site's address and the account's token there."""

    kind: str
    url: str
    token: str


@cache
def kinds_of_site() -> tuple[str, ...]:
    """The adapters that there are, by name."""
    return tuple(sorted(m.name for m in pkgutil.iter_modules([str(Path(__file__).parent)]) if m.ispkg))


def open_site(address: SiteAddress, *, timeout: float = 15.0, patience: float = 45.0) -> Site:
    """A site as one account sees it.

    ``timeout`` bounds one call and ``patience`` all repetitions of it, both in seconds.  Raises `Invalid` for an
    unknown kind.
    """
    if address.kind not in kinds_of_site():
        raise Invalid(
            f"There is no site adapter {address.kind!r}.", advice=f"The adapters are {', '.join(kinds_of_site())}."
        )
    site: Site = import_module(f"{__package__}.{address.kind}").open_site(address, timeout=timeout, patience=patience)
    return site
