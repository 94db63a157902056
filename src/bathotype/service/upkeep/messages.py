"""Duty: notify subscribers of events.  Each event that is asked for is sent until it is taken, for about a day."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta

from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert

from bathotype.core.messages.choice import asked_for, pause_after
from bathotype.service import audit
from bathotype.service.records import Account, Delivery, Event, Subscription
from bathotype.service.records.base import CHANGE, new_id, utcnow
from bathotype.service.subscriptions import NOT_DELIVERED, TESTED, Receiver, ended, happening_of, send
from bathotype.service.upkeep.duty import Duty, Turn

_EVENTS, _MESSAGES, _AT_ONCE = 500, 50, 8
_ALERT_AFTER = 4  # attempts
_KEPT = timedelta(days=30)


def _run(turn: Turn) -> None:
    with turn.database.reads() as session:
        ids = session.scalars(select(Subscription.id).where(~Subscription.paused).order_by(Subscription.id)).all()
    for subscription in ids:
        with turn.alone(f"events for {subscription}"):
            _gather(turn, subscription)
    # One that does not answer holds up no other.
    with ThreadPoolExecutor(_AT_ONCE) as threads:
        list(threads.map(lambda one: _send_due(turn, one), ids))
    with turn.alone("old messages"), turn.database.sessions.begin() as session:
        session.execute(delete(Delivery).where(Delivery.ended_at < utcnow() - _KEPT))


def _gather(turn: Turn, subscription: str) -> None:
    """Note a message for each event that is asked for, and how far that is done, in one transaction."""
    with turn.database.sessions.begin() as session:
        row = session.get(Subscription, subscription, with_for_update=CHANGE)
        if row is None or row.paused:
            return
        named = Event.after["tell"].contains([row.name])  # a sheet asks for it
        query = select(Event.id, Event.action, Event.subject, named).where(
            Event.account_id == row.account_id, Event.id > row.cursor
        )
        for number, action, subject, is_named in session.execute(query.order_by(Event.id).limit(_EVENTS)):
            row.cursor = number
            if action != TESTED and (is_named or asked_for(row.events, row.lines, action, subject)):
                made = {"id": new_id("dl"), "subscription_id": row.id, "event_id": number}
                session.execute(insert(Delivery).values(**made).on_conflict_do_nothing())


def _send_due(turn: Turn, subscription: str) -> None:
    """Send what is due, the oldest first; after one that is not taken the others wait for the next turn."""
    with turn.alone(f"messages for {subscription}"):
        with turn.database.reads() as session:
            due = select(Delivery.id).where(
                Delivery.subscription_id == subscription, Delivery.state == "pending", Delivery.next_at <= utcnow()
            )
            waiting = session.scalars(due.order_by(Delivery.event_id).limit(_MESSAGES)).all()
        for message in waiting:
            turn.check()
            if not _send(turn, message):
                return


def _send(turn: Turn, message: str) -> bool:
    with turn.database.reads() as session:
        found = session.execute(
            select(Delivery, Subscription, Event, Account.name)
            .join(Subscription, Subscription.id == Delivery.subscription_id)
            .join(Event, Event.id == Delivery.event_id)
            .join(Account, Account.id == Subscription.account_id)
            .where(Delivery.id == message)
        ).first()
        if found is None:
            return True
        receiver, happening = Receiver.of(found[1]), happening_of(found[2], found[3])
    why = send(turn.settings, receiver, happening)
    with turn.database.sessions.begin() as session:
        row = session.get(Delivery, message, with_for_update=CHANGE)
        if row is None or row.state != "pending":
            return not why
        ended(row, why, pause_after(row.attempts + 1))
        account = session.get_one(Subscription, row.subscription_id).account_id
        if not why:
            audit.clear_alert(session, account, NOT_DELIVERED, receiver.name)
        elif row.attempts >= _ALERT_AFTER and happening.action != "alert.raised":
            told = f"Messages for {receiver.name} are not delivered: {why}."
            audit.raise_alert(session, account, NOT_DELIVERED, receiver.name, told)
    return not why


DUTY = Duty("messages", _run, period=lambda settings: min(5.0, settings.reconcile_seconds))
