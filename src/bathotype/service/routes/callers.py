"""Who calls a route, and what the service gives it: the types of its parameters say which permission it needs."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Header, Request

from bathotype.core.access.roles import Verb
from bathotype.service.access.principals import SESSION_COOKIE, Credentials, Person, Principal, person_of, principal_of
from bathotype.service.database import Reads
from bathotype.service.routes.route import READS, Given
from bathotype.service.state import Service

ACCOUNT_HEADER = "Bathotype-Account"
AccountName = Annotated[
    str,
    Header(alias=ACCOUNT_HEADER, max_length=63, description="Which of your accounts acts; the only one if left out."),
]

ServiceOf = Annotated[Service, Depends(Given(lambda request: request.app.state.service))]
#: The database for a route that only reads; its connection is given back before the answer is sent.
ReadsOf = Annotated[Reads, Depends(READS)]


def shown_by(request: Request) -> Credentials:
    """What a request shows of its sender."""
    return Credentials(
        request.headers.get("Authorization", ""),
        request.cookies.get(SESSION_COOKIE, ""),
        request.headers.get("X-CSRF-Token", ""),
        request.method not in ("GET", "HEAD", "OPTIONS"),
        getattr(request.state, "origin", ""),
    )


def _person(request: Request) -> Person:
    reads: Reads = request.state.reads
    person = person_of(reads, shown_by(request))
    if not request.scope["route"].reads_on:
        reads.release()  # what follows may take long: a call to a site, or a wait for a lock
    return person


class AnyCaller(Given):
    """Whoever is signed in, whatever account it acts for.  Raises `NotSignedIn`."""

    is_caller = True

    def __init__(self) -> None:
        super().__init__(_person)


class CallerWith(Given):
    """A caller that may do something in the account for which it acts.  Raises `NotSignedIn`, `Forbidden`, `NotFound`."""

    is_caller = True

    def __init__(self, verb: Verb) -> None:
        super().__init__(self._principal)
        self.verb = verb

    def __call__(self, account: AccountName = "") -> None:
        """FastAPI looks at the parameters, for the API's document, and never calls it."""

    def _principal(self, request: Request) -> Principal:
        principal = principal_of(_person(request), request.headers.get(ACCOUNT_HEADER, ""))
        principal.need(self.verb)
        return principal


#: Each route says by the type of its caller what permission it needs.
Signed = Annotated[Person, Depends(AnyCaller())]
Reader = Annotated[Principal, Depends(CallerWith(Verb.READ))]
Operator = Annotated[Principal, Depends(CallerWith(Verb.OPERATE))]
Sharer = Annotated[Principal, Depends(CallerWith(Verb.SHARE))]
Ruler = Annotated[Principal, Depends(CallerWith(Verb.RULE))]
Retirer = Annotated[Principal, Depends(CallerWith(Verb.RETIRE))]
Manager = Annotated[Principal, Depends(CallerWith(Verb.MANAGE))]
