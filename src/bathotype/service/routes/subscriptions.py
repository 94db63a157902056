"""Subscriptions to events: who is notified, and what became of each message."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.service import audit
from bathotype.service.access.principals import Principal
from bathotype.service.records import Delivery, Event, Subscription
from bathotype.service.routes.callers import Manager, Reader, ReadsOf, ServiceOf
from bathotype.service.routes.conditions import Conditional
from bathotype.service.routes.paging import REVERSED, Ordering, Paged
from bathotype.service.routes.route import api_router
from bathotype.service.subscriptions import NOT_DELIVERED, find_subscription, put, shown_url
from bathotype.service.subscriptions import test as tested
from bathotype.wire import subscriptions as wire
from bathotype.wire.common import Page

router = api_router("/subscriptions", tags=["subscriptions"])
_SUBSCRIPTIONS = Ordering(Subscription.name, name=Subscription.name, made=Subscription.made_at)
_DELIVERIES = Ordering(Delivery.id, made=Delivery.event_id, state=Delivery.state)


@router.get("")
def list_subscriptions(
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    sort: Annotated[wire.SubscriptionSort, Query(description=REVERSED)] = "name",
) -> Page[wire.Subscription]:
    """Who is notified of the account's events."""
    with reads.session() as session:
        query = select(Subscription).where(Subscription.account_id == caller.account_id)
        rows, following, total = paging.in_order(session, query, _SUBSCRIPTIONS, sort)
        return Page(items=[_answer(session, caller, row[0]) for row in rows], next=following, total=total)


@router.get("/{name}")
def show_subscription(name: str, caller: Reader, reads: ReadsOf) -> wire.Subscription:
    """One subscription."""
    with reads.session() as session:
        return _answer(session, caller, find_subscription(session, caller, name))


@router.put("/{name}")
def set_subscription(
    name: str, body: wire.SubscriptionRequest, caller: Manager, service: ServiceOf, conditions: Conditional
) -> wire.NewSubscription:
    """Notify a webhook, or people by mail, of events from now on.  A webhook's key is in the answer, and shown this
    once."""
    with service.database.sessions.begin() as session:
        query = select(Subscription).where(Subscription.account_id == caller.account_id, Subscription.name == name)
        row = session.scalar(query.with_for_update())
        conditions.check(f"The subscription {name}", _answer(session, caller, row) if row else None)
        row, key = put(session, service.settings, caller, name, row, body)
        return wire.NewSubscription(**_fields(session, caller, row), key=key)


@router.put("/{name}/pause")
def pause_subscription(
    name: str, body: wire.SubscriptionPause, caller: Manager, service: ServiceOf
) -> wire.Subscription:
    """Pause or resume a subscription: the events of the pause are sent after it, in their order."""
    with service.database.sessions.begin() as session:
        row = find_subscription(session, caller, name, lock=True)
        if row.paused != body.paused:
            row.paused = body.paused
            verb = "paused" if body.paused else "resumed"
            audit.record(session, caller.account_id, caller.actor, f"subscription.{verb}", name)
        session.flush()
        return _answer(session, caller, row)


@router.post("/{name}/test", status_code=202)
def test_subscription(name: str, caller: Manager, service: ServiceOf) -> wire.Delivery:
    """Send it a message that says no more than that somebody wants to see whether that works."""
    with service.database.sessions.begin() as session:
        row = find_subscription(session, caller, name, lock=True)
        made = tested(session, caller, row)
        return _delivery(made, session.get_one(Event, made.event_id))


@router.get("/{name}/deliveries")
def list_deliveries(
    name: str,
    caller: Reader,
    reads: ReadsOf,
    paging: Paged,
    state: wire.DeliveryState | None = None,
    sort: Annotated[wire.DeliverySort, Query(description=REVERSED)] = "-made",
) -> Page[wire.Delivery]:
    """Messages of a subscription, the newest first unless sorted; those that have ended are kept for 30 days."""
    with reads.session() as session:
        row = find_subscription(session, caller, name)
        query = select(Delivery, Event).join(Event, Event.id == Delivery.event_id)
        query = query.where(Delivery.subscription_id == row.id)
        if state is not None:
            query = query.where(Delivery.state == state)
        rows, following, total = paging.in_order(session, query, _DELIVERIES, sort)
        return Page(items=[_delivery(one[0], one[1]) for one in rows], next=following, total=total)


@router.delete("/{name}", status_code=204)
def drop_subscription(name: str, caller: Manager, service: ServiceOf) -> None:
    """Remove a subscription, with its messages that are not delivered yet."""
    with service.database.sessions.begin() as session:
        row = find_subscription(session, caller, name, lock=True)
        session.delete(row)
        audit.clear_alert(session, caller.account_id, NOT_DELIVERED, name)
        audit.record(session, caller.account_id, caller.actor, "subscription.removed", name)


def _answer(session: Session, caller: Principal, row: Subscription) -> wire.Subscription:
    return wire.Subscription(**_fields(session, caller, row))


def _fields(session: Session, caller: Principal, row: Subscription) -> dict[str, Any]:
    mine = Delivery.subscription_id == row.id
    last = select(Delivery).where(mine, Delivery.attempts > 0).order_by(Delivery.event_id.desc()).limit(1)
    delivered = session.scalar(select(func.max(Delivery.ended_at)).where(mine, Delivery.state == "delivered"))
    tried = session.scalar(last)
    named = ("name", "mail_to", "events", "lines", "paused", "made_by", "made_at")
    return {
        **{name: getattr(row, name) for name in named},
        "url": row.url if "manage" in caller.verbs else shown_url(row.url),
        "pending": session.scalar(select(func.count()).where(mine, Delivery.state == "pending")) or 0,
        "delivered_at": delivered,
        "answer": tried.answer if tried is not None else "",
    }


def _delivery(row: Delivery, event: Event) -> wire.Delivery:
    return wire.Delivery(
        id=row.id,
        event=row.event_id,
        action=event.action,
        subject=event.subject,
        state=row.state,
        attempts=row.attempts,
        answer=row.answer,
        made_at=row.made_at,
        next_at=row.next_at if row.state == "pending" else None,
        ended_at=row.ended_at,
    )
