"""The people of the demo: who signs in to its console, and in which role."""

from __future__ import annotations

import secrets

from sqlalchemy import func, select

from bathotype.core.access.roles import Role
from bathotype.service.access.principals import make_account, make_user, set_role
from bathotype.service.access.signin import hash_password
from bathotype.service.database import Database
from bathotype.service.records import User

PEOPLE: dict[str, dict[str, Role]] = {
    "mara": {"tide-core": Role.STEWARD, "harbour-watch": Role.VIEWER},
    "orla": {"tide-core": Role.OPERATOR},
    "finn": {"tide-core": Role.VIEWER},
    "ines": {"harbour-watch": Role.STEWARD},
    "juro": {"chart-house": Role.STEWARD},
}
_WORDS = [
    "anchor",
    "beacon",
    "buoy",
    "cove",
    "current",
    "ebb",
    "fathom",
    "ferry",
    "gull",
    "harbour",
    "keel",
    "ledge",
    "mooring",
    "pier",
    "reef",
    "shoal",
    "sound",
    "tern",
]


def new_password() -> str:
    """Four words and a number: easy to read from a terminal and to type."""
    words = [secrets.choice(_WORDS) for _ in range(4)]
    return f"{'-'.join(words)}-{secrets.randbelow(9000) + 1000}"


def make_people(database_url: str, passwords: dict[str, str]) -> None:
    """The demo's people with their memberships and passwords."""
    database = Database(database_url, pool_size=1)
    try:
        with database.sessions.begin() as session:
            for name, roles in PEOPLE.items():
                user = make_user(session, name, "person")
                if user.password is None:
                    user.password = hash_password(passwords[name])
                for account, role in roles.items():
                    set_role(session, make_account(session, account), user, role)
    finally:
        database.close()


def people_are_there(database_url: str) -> bool:
    """Whether this demo has the demo's people."""
    database = Database(database_url, pool_size=1)
    try:
        with database.reads() as session:
            named = select(func.count()).select_from(User).where(User.name.in_(PEOPLE), User.password.is_not(None))
            return session.scalar(named) == len(PEOPLE)
    finally:
        database.close()
