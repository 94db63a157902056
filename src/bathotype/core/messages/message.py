"""An event of the audit trail as it is sent: as a CloudEvent, and as a mail."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from email.message import EmailMessage
from typing import Any
from urllib.parse import quote

#: Media type of one event in the JSON format of CloudEvents 1.0 (structured mode of its HTTP binding).
CLOUD_EVENT = "application/cloudevents+json; charset=utf-8"
_TYPE = "bathotype."


@dataclass(frozen=True)
class Happening:
    """What happened: ``id`` is the event's number, ``action`` such as ``version.released``, ``subject`` what it is
    about."""

    id: int
    account: str
    at: datetime
    actor: str
    action: str
    subject: str
    before: Mapping[str, Any] | None
    after: Mapping[str, Any] | None


def cloud_event(happening: Happening, service: str) -> bytes:
    """It in the JSON format of CloudEvents 1.0.  ``service`` is the address of the service, a part of the source.

    The id is unique for a source, and the same each time that it is sent.
    """
    event = {
        "specversion": "1.0",
        "id": str(happening.id),
        "source": f"{service}/accounts/{quote(happening.account)}",
        "type": f"{_TYPE}{happening.action}",
        "subject": happening.subject,
        "time": happening.at.astimezone(UTC).isoformat().replace("+00:00", "Z"),
        "datacontenttype": "application/json",
        "data": {"actor": happening.actor, "before": happening.before, "after": happening.after},
    }
    return json.dumps(event, ensure_ascii=False, separators=(",", ":")).encode("utf-8", "replace")


def mail(happening: Happening, service: str, sender: str, to: list[str], name: str) -> EmailMessage:
    """It as a mail (RFC 5322).  ``name`` is the subscription's; the Message-ID is the same each time that it is sent."""
    message = EmailMessage()
    message["Subject"] = _line(f"[{happening.account}] {happening.subject}: {_words(happening.action)}")
    message["From"], message["To"] = sender, ", ".join(to)
    message["Date"] = happening.at.astimezone(UTC)
    message["Message-ID"] = f"<{happening.id}.{name}.{happening.account}@{sender.rpartition('@')[2] or 'localhost'}>"
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's absence is answered
    told = [f"{_words(happening.action).capitalize()}: {happening.subject}", ""]
    told += [
        f"Account  {happening.account}",
        f"By       {happening.actor}",
        f"At       {happening.at:%Y-%m-%d %H:%M:%S} UTC",
    ]
    for title, values in (("Before", happening.before), ("After", happening.after)):
        told += ["", title] + [f"  {key}: {_plain(value)}" for key, value in values.items()] if values else []
    told += ["", f"{service}/ledger", f"Sent for the subscription {name}."]
    message.set_content("\n".join(_line(text) for text in told) + "\n")
    return message


def _words(action: str) -> str:
    """``version.released`` as ``version released``."""
    return action.replace(".", " ").replace("-", " ")


def _plain(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)


def _line(text: str) -> str:
    """Without what would begin another line: mail knows more of those than two."""
    return " ".join(text.encode("utf-8", "replace").decode().splitlines())[:900]
