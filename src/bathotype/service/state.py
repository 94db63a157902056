"""What one process of the service holds."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property

from bathotype.core.confined.reader import ConfinedReader
from bathotype.core.confined.spare import SpareReaders
from bathotype.service import schema
from bathotype.service.access.oidc import OidcLogIn
from bathotype.service.changes import Changes
from bathotype.service.database import Database
from bathotype.service.reach import Reach
from bathotype.service.room import Room
from bathotype.service.settings import Settings

#: Each child takes a hundred megabytes and a processor.
_room = Room(4, 12, "Too many disks are being inspected just now.")


@dataclass(frozen=True)
class Service:
    """Settings, database, regions, outside log-in, and what changes; made once a process."""

    settings: Settings
    database: Database
    reach: Reach
    oidc: OidcLogIn | None = None

    @cached_property
    def changes(self) -> Changes:
        """What changes, for pages that are open."""
        return Changes(self.database.url)

    @contextmanager
    def reader(self) -> Iterator[ConfinedReader]:
        """A confined child for the time of a request.  Raises `TooMany` where many read disks at this moment."""
        with _room.one(), self._readers.one() as reader:
            yield reader

    @cached_property
    def _readers(self) -> SpareReaders:
        return SpareReaders()

    def close(self) -> None:
        """Close every connection."""
        if "_readers" in vars(self):
            self._readers.close()
        if "changes" in vars(self):
            self.changes.close()
        self.database.close()

    @classmethod
    def from_environment(cls, *, patience: float) -> Service:
        """Open everything that the settings name and bring the schema up to date."""
        settings = Settings.from_environment()
        _ = settings.scratch  # a mistake is said at once
        database = Database(settings.database_url)
        schema.prepare(database)
        given = settings.places.oidc
        return cls(
            settings,
            database,
            Reach(database, settings.places, patience=patience),
            OidcLogIn(**given.model_dump()) if given else None,
        )
