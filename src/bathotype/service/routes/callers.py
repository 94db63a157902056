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

    def __init__(self, verb: Verb, *, account_query: str = "") -> None:
        """``account_query`` names a parameter of the query that may name the account: a browser's stream of events
        cannot send a header."""
        super().__init__(lambda request: self.principal(request, _person(request)))
        self.verb, self._account_query = verb, account_query

    def __call__(self, account: AccountName = "") -> None:
        """FastAPI looks at the parameters, for the API's document, and never calls it."""

    def principal(self, request: Request, person: Person) -> Principal:
        """What a person may in the account that a request names."""
        named = request.headers.get(ACCOUNT_HEADER, "")
        if self._account_query:
            named = named or request.query_params.get(self._account_query, "")
        principal = principal_of(person, named)
        principal.need(self.verb)
        return principal

    def again(self, request: Request, reads: Reads) -> Principal:
        """Whoever sent a request, looked up anew: for answers that last long."""
        return self.principal(request, person_of(reads, shown_by(request), note=False))


#: Each route says by the type of its caller what permission it needs.
Signed = Annotated[Person, Depends(AnyCaller())]
Reader = Annotated[Principal, Depends(CallerWith(Verb.READ))]
Runner = Annotated[Principal, Depends(CallerWith(Verb.RUN))]
Operator = Annotated[Principal, Depends(CallerWith(Verb.OPERATE))]
Sharer = Annotated[Principal, Depends(CallerWith(Verb.SHARE))]
Ruler = Annotated[Principal, Depends(CallerWith(Verb.RULE))]
Retirer = Annotated[Principal, Depends(CallerWith(Verb.RETIRE))]
Manager = Annotated[Principal, Depends(CallerWith(Verb.MANAGE))]
