"""Subscriptions: who is notified of which events, and sending one message."""

from __future__ import annotations

import asyncio
import smtplib
import ssl
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from urllib.parse import urlsplit

import httpx
from cryptography.fernet import InvalidToken
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.core.errors import Invalid, NotFound
from bathotype.core.lifecycle.references import check_name
from bathotype.core.messages import signature
from bathotype.core.messages.choice import check_actions, check_address, check_url
from bathotype.core.messages.message import CLOUD_EVENT, Happening, cloud_event, mail
from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.records import Delivery, Event, Subscription
from bathotype.service.records.base import CHANGE, new_id, utcnow
from bathotype.service.settings import MailServer, Settings
from bathotype.wire.subscriptions import SubscriptionRequest

_SECONDS = 10.0
_MOST_ANSWER = 200
NOT_DELIVERED = "messages-not-delivered"
TESTED = "subscription.tested"


def find_subscription(session: Session, caller: Principal, name: str, *, lock: bool = False) -> Subscription:
    """A subscription of the caller's account.  Raises `NotFound`."""
    query = select(Subscription).where(Subscription.account_id == caller.account_id, Subscription.name == name)
    found = session.scalar(query.with_for_update(**CHANGE) if lock else query)
    if found is None:
        raise NotFound(f"There is no subscription {name!r}.", advice="`bathotype messages list` shows them.")
    return found


def check_request(settings: Settings, body: SubscriptionRequest) -> None:
    """Raises `Invalid` unless messages may go where a request says."""
    check_actions(body.events)
    places = settings.places.messages
    if (body.url is None) == (body.mail_to is None):
        raise Invalid("A subscription has either a url or addresses.", advice="Give one of them.")
    if body.url is not None:
        check_url(body.url, places.hosts)
    for address in body.mail_to or ():
        if places.mail is None:
            raise Invalid("This service sends no mail.", advice="The operator names a mail server in the regions file.")
        check_address(address, places.mail_to)


def put(
    session: Session, settings: Settings, caller: Principal, name: str, row: Subscription | None,
    body: SubscriptionRequest,
) -> tuple[Subscription, str]:  # fmt: skip
    """Keep a subscription, in the place of ``row``, which is locked; with the key of a webhook that is new."""
    check_name(name, "subscription")
    check_request(settings, body)
    key = ""
    if row is None:
        now = session.scalar(select(func.max(Event.id)).where(Event.account_id == caller.account_id)) or 0
        row = Subscription(
            id=new_id("su"), account_id=caller.account_id, name=name, cursor=now, made_by=caller.actor, sealed=""
        )
        session.add(row)
    if body.url is not None and (not row.sealed or row.url != body.url):
        key = signature.new_key()  # another receiver gets another key
        row.sealed = settings.box.encrypt(key.encode()).decode()
    row.url, row.mail_to, row.events, row.lines = body.url, body.mail_to, body.events, body.lines
    session.flush()
    after = {"to": body.mail_to or shown_url(body.url), "events": body.events, "lines": body.lines}
    audit.record(session, caller.account_id, caller.actor, "subscription.set", name, after=after)
    return row, key


def shown_url(url: str | None) -> str | None:
    """A webhook's address without what follows the host: it may be all that keeps others from posting there."""
    if url is None:
        return None
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}/..."


def test(session: Session, caller: Principal, row: Subscription) -> Delivery:
    """Send it a test event, which only says that somebody tries the subscription."""
    audit.record(session, caller.account_id, caller.actor, TESTED, row.name)
    audit.append(session)
    event = session.scalar(
        select(Event.id)
        .where(Event.account_id == caller.account_id, Event.action == TESTED, Event.subject == row.name)
        .order_by(Event.id.desc())
        .limit(1)
    )
    made = Delivery(id=new_id("dl"), subscription_id=row.id, event_id=event)
    session.add(made)
    session.flush()
    return made


def happening_of(event: Event, account: str) -> Happening:
    """An event as it is sent."""
    return Happening(event.id, account, event.at, event.actor, event.action, event.subject, event.before, event.after)


@dataclass(frozen=True)
class Receiver:
    """Where a subscription's messages go, and the key that they are signed with."""

    name: str
    url: str | None
    mail_to: list[str]
    sealed: str

    @classmethod
    def of(cls, row: Subscription) -> Receiver:
        """What a row says, to be used without a transaction."""
        return cls(row.name, row.url, list(row.mail_to or ()), row.sealed)


def send(settings: Settings, receiver: Receiver, happening: Happening) -> str:
    """Send one message.  Returns why it was not taken; nothing where it was.

    What may be sent where is looked at again: the operator may have taken a host back.
    """
    places = settings.places.messages
    service = settings.public_url.rstrip("/") or "bathotype"
    try:
        if receiver.url is not None:
            check_url(receiver.url, places.hosts)
            body = cloud_event(happening, service)
            key = settings.box.decrypt(receiver.sealed.encode()).decode()
            message = f"{happening.id}-{receiver.name}"
            headers = {"content-type": CLOUD_EVENT, **signature.headers(key, message, int(time.time()), body)}
            return _post(receiver.url, headers, body)
        if places.mail is None:
            return "this service sends no mail any more"
        for address in receiver.mail_to:
            check_address(address, places.mail_to)
        letter = mail(happening, service, places.mail.sender, receiver.mail_to, receiver.name)
        with _server(places.mail)() as server:
            refused = server.send_message(letter)
        return _short(f"refused: {', '.join(refused)}") if refused else ""
    except InvalidToken:
        return "its key cannot be decrypted on this host"
    except (Invalid, OSError, smtplib.SMTPException, httpx.HTTPError, UnicodeError) as error:
        return _short(f"{type(error).__name__}: {error}")


def _post(url: str, headers: dict[str, str], body: bytes) -> str:
    """Within a time for all of it: a receiver that answers a byte at a time must not hold up the others."""

    async def post() -> str:
        async with (
            httpx.AsyncClient(timeout=_SECONDS, follow_redirects=False, trust_env=False) as http,
            http.stream("POST", url, content=body, headers=headers) as answer,
        ):
            return "" if answer.is_success else f"answered {answer.status_code}"

    try:
        return asyncio.run(asyncio.wait_for(post(), _SECONDS))
    except TimeoutError:
        return f"no answer within {_SECONDS:.0f} s"


def _server(given: MailServer) -> Callable[[], smtplib.SMTP]:
    def connect() -> smtplib.SMTP:
        secure = ssl.create_default_context()
        if given.security == "tls":
            server: smtplib.SMTP = smtplib.SMTP_SSL(given.host, given.port, timeout=_SECONDS, context=secure)
        else:
            server = smtplib.SMTP(given.host, given.port, timeout=_SECONDS)
            if given.security == "starttls":
                server.starttls(context=secure)
        if given.user:
            server.login(given.user, given.password)
        return server

    return connect


def _short(text: str) -> str:
    return " ".join(text.split())[:_MOST_ANSWER]


def ended(row: Delivery, why: str, pause: int | None) -> None:
    """Keep what came of an attempt: ``why`` it failed, and the ``pause`` until the next."""
    now = utcnow()
    row.attempts += 1
    row.answer = why
    if not why:
        row.state, row.ended_at = "delivered", now
    elif pause is None:
        row.state, row.ended_at = "given-up", now
    else:
        row.next_at = now + timedelta(seconds=pause)
