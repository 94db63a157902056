"""The end of the audit trail, kept outside the database as well: whoever removes the newest events cannot hide it here.

Each host that runs a worker keeps its own file beside the secret file, signed with the service's secret (HMAC-SHA-256), so that
who can only write to it cannot make it fit.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import secrets
from dataclasses import asdict, dataclass
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from bathotype.service.records import Event
from bathotype.service.settings import Settings


@dataclass(frozen=True)
class TrailEnd:
    """The number of events up to one, its id, digest and moment."""

    count: int
    event: int
    digest: str
    at: str


def end_of(session: Session) -> TrailEnd | None:
    """The end as the database has it, None where there are no events."""
    last = session.execute(select(Event.id, Event.digest, Event.at).order_by(Event.id.desc()).limit(1)).first()
    if last is None:
        return None
    count = session.scalar(select(func.count()).select_from(Event).where(Event.id <= last.id)) or 0
    return TrailEnd(count, last.id, last.digest, last.at.isoformat())


def keep(settings: Settings, end: TrailEnd) -> None:
    """Keep an end, unless a longer trail was kept before."""
    path, before = _path(settings), kept(settings)
    if before is not None and before.count >= end.count:
        return
    body = asdict(end)
    text = json.dumps({**body, "mac": _mac(settings.secrets[0], body)})
    fresh = path.with_name(f".{path.name}.{secrets.token_hex(8)}")
    fresh.touch(mode=0o600)
    fresh.write_text(text)
    fresh.replace(path)


def kept(settings: Settings) -> TrailEnd | None:
    """The end that was kept last on this host; None where there is none, or it was not written by the service."""
    try:
        body = json.loads(_path(settings).read_text())
        mac = body.pop("mac")
        held = TrailEnd(int(body["count"]), int(body["event"]), str(body["digest"]), str(body["at"]))
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return None
    fits = any(hmac.compare_digest(str(mac), _mac(key, asdict(held))) for key in settings.secrets)
    return held if fits else None


def missed(session: Session, held: TrailEnd) -> str:
    """What of the kept end is not in the database; empty where everything is."""
    digest = session.scalar(select(Event.digest).where(Event.id == held.event))
    count = session.scalar(select(func.count()).select_from(Event).where(Event.id <= held.event)) or 0
    if digest == held.digest and count == held.count:
        return ""
    return f"On {held.at} the trail had {held.count} events up to number {held.event}; now it has {count} of them."


def _path(settings: Settings) -> Path:
    return settings.secret_path.with_name("bathotype.trail")


def _mac(key: bytes, body: dict[str, object]) -> str:
    return hmac.new(key, json.dumps(body, sort_keys=True).encode(), hashlib.sha256).hexdigest()
