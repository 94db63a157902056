"""What a version is to an account that looks at it: one statement, for the questions that are asked most."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import ColumnElement, Date, String, and_, bindparam, func, or_, select
from sqlalchemy.orm import Session

from bathotype.core.errors import Refused
from bathotype.core.lifecycle.references import Reference, parse_reference
from bathotype.core.lifecycle.states import LaunchVerdict, VersionState, may_launch
from bathotype.service.access.principals import Principal
from bathotype.service.catalogue import written
from bathotype.service.database import Reads
from bathotype.service.records import Account, Line, Mark, Share, Version
from bathotype.service.records.base import utcnow
from bathotype.service.shares import find_usable, in_regions, owner_of
from bathotype.service.statements import Statement


@dataclass(frozen=True)
class Usable:
    """A version that an account may see.  ``regions`` are those where shares let it launch, None for all."""

    id: str
    line_id: str
    line: str
    number: str
    owner_id: str
    owner: str
    state: VersionState
    pin_only: bool
    mode: str
    content_digest: str
    virtual_bytes: int
    released_at: datetime | None
    sunset_on: date | None
    retire_on: date | None
    has_signature: bool
    regions: frozenset[str] | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "state", VersionState(self.state))

    @property
    def reference(self) -> str:
        """``line@number``."""
        return f"{self.line}@{self.number}"

    def written_by(self, account_id: str) -> str:
        """How an account writes it: with its owner before it where that is another."""
        return written(self.line, self.number, (self.owner_id, self.owner), account_id)

    def may_launch(self, reference: str, *, exact: bool, as_is: bool | None = None) -> LaunchVerdict:
        """Whether its state lets it be launched by a reference; ``as_is``, where that is known, whether it keeps the
        identity of its source."""
        return may_launch(
            reference,
            self.state,
            exact=exact,
            pin_only=self.pin_only,
            as_is=self.mode == "as-is" if as_is is None else as_is,
            sunset_on=self.sunset_on,
            retire_on=self.retire_on,
        )

    def require_region(self, region: str) -> None:
        """Raises `Refused` where shares do not allow a region."""
        if self.regions is not None and region not in self.regions:
            raise Refused(
                f"{self.owner}/{self.reference} is not shared for {region}.",
                advice=f"It is shared for {', '.join(sorted(self.regions))}; launch there, or ask its owner.",
                code="region-not-shared",
            )


def usable_of(session: Session, version: Version, shares: list[Share] | None) -> Usable:
    """The same of a record."""
    allowed = in_regions(shares) if shares is not None else None
    return Usable(
        version.id, version.line_id, version.line.name, version.number, version.line.account_id,
        owner_of(session, version), VersionState(version.state), version.pin_only, version.mode, version.content_digest,
        version.virtual_bytes, version.released_at, version.sunset_on, version.retire_on, version.signature is not None,
        frozenset(allowed) if allowed is not None else None,
    )  # fmt: skip


def _statement(more: Sequence[ColumnElement[Any]], which: ColumnElement[bool], *, marked: bool = False) -> Statement:
    caller = bindparam("caller", type_=String)
    grants = (
        Share.line_id == Version.line_id,
        or_(Share.consumer_id == caller, Share.consumer_id.is_(None)),
        Share.state == "active",
        or_(Share.until.is_(None), Share.until >= bindparam("today", type_=Date)),
        or_(Share.version_id.is_(None), Share.version_id == Version.id),
    )
    granted = select(Share.id).where(*grants).correlate(Version).exists()
    query = (
        select(
            Version.id, Version.line_id, Line.name, Version.number, Line.account_id, Account.name, Version.state,
            Version.pin_only, Version.mode, Version.content_digest, Version.virtual_bytes, Version.released_at,
            Version.sunset_on, Version.retire_on, Version.signature.is_not(None),
            select(func.json_agg(Share.regions)).where(*grants).correlate(Version).scalar_subquery(),
            *more,
        )
        .join(Line, Line.id == Version.line_id)
        .join(Account, Account.id == Line.account_id)
        .where(Account.name == bindparam("owner"), Line.name == bindparam("line"), which)
        .where(or_(Line.account_id == caller, and_(Version.state != VersionState.STAGED, granted)))
    )  # fmt: skip
    if marked:
        query = query.join(Mark, and_(Mark.line_id == Line.id, Mark.version_id == Version.id))
    return Statement(query.order_by(Version.sort_key.desc()).limit(1))


_OFFERED = and_(Version.state == VersionState.RELEASED, ~Version.pin_only)


class Lookup:
    """How the version that a reference names is found, with ``more`` columns of it or of its caller."""

    def __init__(self, *more: ColumnElement[Any]) -> None:
        self._by_number = _statement(more, Version.number == bindparam("name"))
        self._by_mark = _statement(more, Mark.name == bindparam("name"), marked=True)
        self._newest = _statement(more, _OFFERED)

    def row(self, reads: Reads, caller: Principal, reference: Reference) -> Any:
        """What `Usable` has, as far as the database knows it, then the regions of each share, then ``more``; or None."""
        name = reference.number or reference.mark
        statement = self._by_number if reference.number else self._by_mark if reference.mark else self._newest
        return statement.first(
            reads.connection, caller=caller.account_id, today=utcnow().date(), owner=reference.account or caller.account,
            line=reference.line, **({"name": name} if name else {}),
        )  # fmt: skip


_ALONE = Lookup()
_COLUMNS = 15  # of a row that are what `Usable` has, before the regions of shares


def usable(reads: Reads, caller: Principal, text: str | Reference) -> Usable:
    """The version that a reference names, as `find_usable` finds it.  Raises `NotFound`."""
    return found(_ALONE, reads, caller, text)[0]


def found(lookup: Lookup, reads: Reads, caller: Principal, text: str | Reference) -> tuple[Usable, Any]:
    """The same, and the row that it was made of, with what the lookup has more; None where the account may see the
    version for another reason than what is asked for most.  Raises `NotFound`."""
    reference = parse_reference(text) if isinstance(text, str) else text
    row = lookup.row(reads, caller, reference)
    if row is None:
        with reads.session() as session:  # which says what is missing, and what there is
            return usable_of(session, *find_usable(session, caller, reference)), None
    grants = row[_COLUMNS]
    if row.account_id == caller.account_id or None in grants:
        regions = None  # everywhere
    else:
        regions = frozenset(region for granted in grants for region in granted)
    facts: list[Any] = [*row[:_COLUMNS], regions]
    return Usable(*facts), row
