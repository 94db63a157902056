"""What leaves the service by itself: which events, to whom, in which form, and signed how."""

from __future__ import annotations

import email
import email.policy
import json
from dataclasses import replace
from datetime import datetime, timedelta, timezone
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.errors import Invalid
from bathotype.core.messages.choice import (
    MOST_ATTEMPTS,
    asked_for,
    check_actions,
    check_address,
    check_url,
    pause_after,
)
from bathotype.core.messages.message import CLOUD_EVENT, Happening, cloud_event, mail
from bathotype.core.messages.signature import TOLERANCE, headers, holds, new_key, shown

RELEASED = Happening(
    7, "tide-core", datetime(2026, 11, 26, 11, tzinfo=timezone(timedelta(hours=1))), "orla", "version.released",
    "gauge-collector@1.4.0", {"state": "staged"}, {"state": "released", "marks": ["stable"]},
)  # fmt: skip
SERVICE = "https://images.tide.example"
FREE = st.text(st.characters(codec=None), max_size=60)  # any text at all, half characters as well

# CloudEvents


def test_an_event_has_what_cloudevents_demand() -> None:
    assert json.loads(cloud_event(RELEASED, SERVICE)) == {
        "specversion": "1.0", "id": "7", "source": f"{SERVICE}/accounts/tide-core", "type": "bathotype.version.released",
        "subject": "gauge-collector@1.4.0", "time": "2026-11-26T10:00:00Z", "datacontenttype": "application/json",
        "data": {"actor": "orla", "before": {"state": "staged"}, "after": {"state": "released", "marks": ["stable"]}},
    }  # fmt: skip
    assert CLOUD_EVENT.startswith("application/cloudevents+json")
    assert cloud_event(RELEASED, SERVICE) == cloud_event(replace(RELEASED), SERVICE), "the same each time it is sent"


@given(FREE, FREE)
def test_whatever_an_event_says_is_json(subject: str, value: str) -> None:
    said = json.loads(cloud_event(replace(RELEASED, subject=subject, after={"name": value}), SERVICE))
    assert said["id"] == "7" and set(said["data"]) == {"actor", "before", "after"}


# Mail


def parsed(happening: Happening) -> email.message.EmailMessage:
    """A mail as a receiver reads it."""
    made = mail(happening, SERVICE, "bathotype@tide.example", ["orla@tide.example", "teo@tide.example"], "night-watch")
    read = email.message_from_bytes(made.as_bytes(), policy=email.policy.default)
    assert isinstance(read, email.message.EmailMessage)
    return read


def test_a_mail_tells_who_did_what() -> None:
    read = parsed(RELEASED)
    assert read["Subject"] == "[tide-core] gauge-collector@1.4.0: version released"
    assert (read["To"], read["From"]) == ("orla@tide.example, teo@tide.example", "bathotype@tide.example")
    assert read["Message-ID"] == "<7.night-watch.tide-core@tide.example>" and read["Auto-Submitted"] == "auto-generated"
    assert read["Date"].datetime == RELEASED.at
    assert read.get_content().splitlines() == [
        "Version released: gauge-collector@1.4.0", "", "Account  tide-core", "By       orla",
        "At       2026-11-26 11:00:00 UTC", "", "Before", "  state: staged", "", "After", "  state: released",
        '  marks: ["stable"]', "", f"{SERVICE}/ledger", "Sent for the subscription night-watch.",
    ]  # fmt: skip
    assert "Before" not in parsed(replace(RELEASED, before=None)).get_content()


@given(FREE, FREE, FREE)
def test_no_text_becomes_a_header_or_another_line(subject: str, actor: str, value: str) -> None:
    read = parsed(replace(RELEASED, subject=subject, actor=actor, after={"name": f"{value}\nBcc: eve@reef.example"}))
    assert sorted(set(read)) == [
        "Auto-Submitted", "Content-Transfer-Encoding", "Content-Type", "Date", "From", "MIME-Version", "Message-ID",
        "Subject", "To",
    ]  # fmt: skip
    lines = read.get_content().rstrip("\n").split("\n")
    assert len(lines) == 14 and not any(line.startswith("Bcc") for line in lines)


# Which


@pytest.mark.parametrize(
    ("actions", "lines", "asked"),
    [
        (["*"], [], True),
        (["version.released"], [], True),
        (["version.*"], [], True),
        (["operation.failed", "version.*"], [], True),
        (["version.release"], [], False),
        (["version.released.*"], [], False),
        (["ver*"], [], False),
        (["share.*"], [], False),
        ([], [], False),
        (["*"], ["gauge-collector"], True),
        (["*"], ["surge-model", "gauge-collector"], True),
        (["*"], ["gauge"], False),
    ],
)
def test_an_event_is_asked_for_by_action_and_line(actions: list[str], lines: list[str], asked: bool) -> None:
    assert asked_for(actions, lines, "version.released", "gauge-collector@1.4.0") is asked


def test_of_a_line_its_own_events_are_asked_for_too() -> None:
    assert asked_for(["line.*"], ["gauge-collector"], "line.created", "gauge-collector")


def test_what_names_no_event_is_refused() -> None:
    check_actions(["*", "version.*", "version.released", "operation.build-failed"])
    for bad in ("", "Version.released", "version.**", "**", "version.*.x", ".x", "a" * 90, "version released"):
        with pytest.raises(Invalid, match="names no event"):
            check_actions(["*", bad])


HOSTS = ["hooks.tide.example", "*.quay.example", "127.0.0.1"]


@pytest.mark.parametrize(
    ("url", "words"),
    [
        ("https://hooks.tide.example/a?b=c", None),
        ("https://HOOKS.tide.example:8443/a", None),
        ("https://east.quay.example/", None),
        ("http://127.0.0.1:9000/hook", None),
        ("http://hooks.tide.example/", "needs https"),
        ("https://tide.example/", "may not go to tide.example"),
        ("https://hooks.tide.example.reef.example/", "may not go"),
        ("https://quay.example/", "may not go"),
        ("https://orla@hooks.tide.example/", "no address"),
        ("https://hooks.tide.example/#top", "no address"),
        ("https://hooks.tide.example:0/", "no address"),
        ("https://hooks.tide.example:99999/", "no address"),
        ("https://[::1/", "no address"),
        ("ftp://hooks.tide.example/", "no address"),
        ("file:///etc/passwd", "no address"),
        ("https:///x", "no address"),
        ("", "no address"),
    ],
)
def test_a_webhook_goes_where_the_operator_allows(url: str, words: str | None) -> None:
    if words is None:
        check_url(url, HOSTS)
        return
    with pytest.raises(Invalid, match=words):
        check_url(url, HOSTS)


@given(st.text(max_size=60) | st.from_regex(r"https?://[^/]{0,30}(/.*)?", fullmatch=True))
def test_no_address_breaks_the_check(url: str) -> None:
    try:
        check_url(url, HOSTS)
    except Invalid as error:
        assert error.advice


def test_mail_goes_where_the_operator_allows() -> None:
    allowed = ["*@tide.example"]
    check_address("orla.n+night@tide.example", allowed)
    for bad, words in (
        ("orla", "no mail address"),
        ("orla@tide.example\nBcc: eve@reef.example", "no mail address"),
        ("orla@tide.example, eve@reef.example", "no mail address"),
        ("Orla <orla@tide.example>", "no mail address"),
        ("orla@reef.example", "may not go"),
    ):
        with pytest.raises(Invalid, match=words):
            check_address(bad, allowed)


def test_it_is_sent_again_for_a_day_at_ever_longer_pauses() -> None:
    pauses: list[Any] = [pause_after(n) for n in range(1, MOST_ATTEMPTS)]
    assert pauses == sorted(pauses) and pauses[0] == 10 and pauses[-1] == 7200
    assert 20 * 3600 < sum(pauses) < 28 * 3600
    assert pause_after(MOST_ATTEMPTS) is None and pause_after(MOST_ATTEMPTS + 5) is None


# Signatures


def test_the_signature_is_that_of_the_standards_own_example() -> None:
    made = headers(
        "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "msg_p5jXN8AQM9LWM0D4loKWxJek", 1614265330, b'{"test": 2432232314}'
    )
    assert made["webhook-signature"] == "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="


def test_a_signature_holds_for_its_body_its_key_and_its_time() -> None:
    key, other, now = new_key(), new_key(), 1_800_000_000
    signed = headers(key, "m-1", now, b"body")
    assert holds(key, signed, b"body", now)
    assert holds(key, signed, b"body", now + TOLERANCE) and holds(key, signed, b"body", now - TOLERANCE)
    assert not holds(key, signed, b"body", now + TOLERANCE + 1) and not holds(key, signed, b"body", now - TOLERANCE - 1)
    assert not holds(other, signed, b"body", now) and not holds(key, signed, b"bodY", now)
    assert not holds(key, {**signed, "webhook-id": "m-2"}, b"body", now)
    assert not holds(key, {**signed, "webhook-timestamp": str(now + 1)}, b"body", now)
    for at in ("", "soon", "-1", "1e9", "٣", "9" * 13):
        assert not holds(key, {**signed, "webhook-timestamp": at}, b"body", now)
    both = f"{headers(other, 'm-1', now, b'body')['webhook-signature']} {signed['webhook-signature']}"
    assert holds(key, {**signed, "webhook-signature": both}, b"body", now), "while keys are changed there are two"
    assert not holds(key, {}, b"body", now)


def test_a_key_is_shown_in_one_of_four_ways() -> None:
    key, now = new_key(), 1_800_000_000
    assert shown(key, headers(key, "m-1", now, b"body"), b"body", now)
    assert shown(key, {"authorization": f"Bearer {key}"}, b"body", now)
    for wrong in ({}, {"authorization": key}, {"authorization": "Bearer "}, {"x-hub-signature": "sha256="}):
        assert not shown(key, wrong, b"body", now)
