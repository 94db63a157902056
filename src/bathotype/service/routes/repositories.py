"""Git repositories that sheets come from."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query
from sqlalchemy import select
from sqlalchemy.orm import Session

from bathotype.service.builds import repositories
from bathotype.service.records import Repository, SavedSheet
from bathotype.service.records.base import utcnow
from bathotype.service.routes.callers import Manager, Operator, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.wire import repositories as wire
from bathotype.wire.common import Page

router = api_router("/repositories", tags=["builds"])
_REPOSITORIES = Ordering(Repository.name, name=Repository.name, read=Repository.read_at)


@router.get("")
def list_repositories(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.RepositorySort, Query(description=REVERSED)] = "name",
) -> Page[wire.Repository]:
    """The account's repositories, and what was read of each last."""
    with reads.session() as session:
        query = select(Repository).where(Repository.account_id == caller.account_id)
        rows, following, total = paging.in_order(session, query, _REPOSITORIES, sort)
        items = [wire.Repository(**fields) for fields in _fields(session, [row[0] for row in rows])]
        return Page(items=items, next=following, total=total)


@router.get("/{name}")
def show_repository(name: str, caller: Reader, reads: ReadsOf) -> wire.Repository:
    """One of them."""
    with reads.session() as session:
        return _answer(session, repositories.find_repository(session, caller, name))


@router.put("/{name}")
def connect_repository(
    name: str, body: wire.RepositoryRequest, caller: Manager, service: ServiceOf, conditions: Conditional
) -> wire.NewRepository:
    """Let a repository's sheets be the account's: its newest commit is read at once, and again as it moves.

    The key that pushes are signed with is in the answer where it is new, and shown this once.
    """
    with service.database.sessions.begin() as session:
        query = select(Repository).where(Repository.account_id == caller.account_id, Repository.name == name)
        row = session.scalar(query.with_for_update())
        conditions.check(f"The repository {name}", _answer(session, row) if row else None)
        row, key = repositories.put(session, service.settings, caller, name, row, body)
        session.flush()
        return wire.NewRepository(**_fields(session, [row])[0], key=key)


@router.post("/{name}/readings", status_code=202)
def read_repository(name: str, caller: Operator, service: ServiceOf) -> wire.Repository:
    """Look at it now, and take its newest commit over, also if that is the one that was read last."""
    with service.database.sessions.begin() as session:
        row = repositories.find_repository(session, caller, name, lock=True)
        row.next_at, row.again = utcnow(), True
        session.flush()
        return _answer(session, row)


@router.post("/{name}/push-keys", status_code=201)
def renew_push_key(name: str, caller: Manager, service: ServiceOf) -> wire.NewRepository:
    """Have a new key for pushes, which is shown this once.  What is signed with the one before is refused from now on."""
    with service.database.sessions.begin() as session:
        row = repositories.find_repository(session, caller, name, lock=True)
        key = repositories.renew_key(session, service.settings, caller, row)
        session.flush()
        return wire.NewRepository(**_fields(session, [row])[0], key=key)


@router.delete("/{name}", status_code=204)
def drop_repository(name: str, caller: Manager, service: ServiceOf) -> None:
    """Forget a repository.  Its sheets stay as they are, and are kept by hand from then on."""
    with service.database.sessions.begin() as session:
        repositories.drop(session, caller, repositories.find_repository(session, caller, name, lock=True))


def _answer(session: Session, row: Repository) -> wire.Repository:
    return wire.Repository(**_fields(session, [row])[0])


def _fields(session: Session, rows: list[Repository]) -> list[dict[str, Any]]:
    sheets: dict[str | None, list[wire.RepositorySheet]] = {}
    theirs = select(SavedSheet).where(SavedSheet.repository_id.in_([row.id for row in rows])).order_by(SavedSheet.name)
    for sheet in session.scalars(theirs):
        one = wire.RepositorySheet(name=sheet.name, path=sheet.path, withdrawn=sheet.withdrawn)
        sheets.setdefault(sheet.repository_id, []).append(one)
    told = [name for name in wire.Repository.model_fields if name not in ("sheets", "revision", "wrong")]
    return [
        {
            **{name: getattr(row, name) for name in told},
            "wrong": [wire.NoSheet(**one) for one in row.wrong],
            "sheets": sheets.get(row.id, []),
        }
        for row in rows
    ]
