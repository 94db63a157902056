"""The sentence with which everything that is shown begins, made from the state of the thing: pure functions."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date
from typing import Protocol

from bathotype.core.units import plural

_MONTHS = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
]


@dataclass(frozen=True)
class Part:
    """A piece of a sentence.  ``about`` names what it leads to, such as ``instances``; ``heed`` that it needs somebody."""

    text: str
    about: str = ""
    heed: bool = False
    strong: bool = False


Sentence = list[Part]


class HasText(Protocol):
    """A piece of a sentence, in core or as it was sent."""

    @property
    def text(self) -> str:
        """The words."""
        ...


def text_of(sentence: Iterable[HasText]) -> str:
    """The sentence as plain text."""
    return "".join(part.text for part in sentence)


def spoken(day: date, today: date) -> str:
    """A day for people: ``14 December``, with the year where it is another one."""
    year = f" {day.year}" if day.year != today.year else ""
    return f"{day.day} {_MONTHS[day.month - 1]}{year}"


def _run(count: int) -> str:
    return f"{plural(count, 'instance')} {'runs' if count == 1 else 'run'}"


@dataclass(frozen=True)
class Ending:
    """A version that retires on a day, and how many instances still run it."""

    reference: str
    day: date
    running: int


def of_today(*, needs: int, dates: int, running: int, versions: int, failed: int) -> Sentence:
    """What the first page begins with."""
    out: Sentence = []
    if needs:
        out.append(Part(f"{plural(needs, 'thing')} {'needs' if needs == 1 else 'need'} you", "needs", strong=True))
        if dates:
            out.append(Part(f", and {plural(dates, 'date')} {'comes' if dates == 1 else 'come'} near"))
    elif dates:
        out.append(Part(f"{plural(dates, 'date')} {'comes' if dates == 1 else 'come'} near", "dates", strong=True))
    else:
        out.append(Part("Nothing needs you", strong=True))
    out.append(Part(". "))
    if not running:
        out.append(Part("No instance runs."))
        return out
    out.append(Part(_run(running), "instances"))
    out.append(Part(f" on {plural(versions, 'version')}"))
    out.append(Part("; everything else is in order." if needs and not failed else "."))
    return out


def of_line(name: str, *, newest: str, versions: int, running: int, regions: int, behind: int, next_end: Ending | None, today: date) -> Sentence:  # fmt: skip
    """What the page of a line begins with."""
    out = [Part(name, strong=True)]
    if not versions:
        return [*out, Part(" has no version yet. Capture a machine to make its first one.")]
    if not newest:
        return [*out, Part(f" has {plural(versions, 'version')}, of which none is released.")]
    out.append(Part(f" {newest} is the newest release. "))
    if not running:
        return [*out, Part("No instance runs any version of it.")]
    out += [Part(_run(running), "instances"), Part(f" in {plural(regions, 'region')}")]
    if behind:
        out += [Part("; "), Part(f"{behind} {'is' if behind == 1 else 'are'} behind", "behind", heed=True)]
        if next_end and next_end.running:
            lose = "loses its version" if next_end.running == 1 else "lose their version"
            out.append(Part(f", and {next_end.running} of them {lose} on {spoken(next_end.day, today)}"))
    else:
        out.append(Part("; none is behind"))
    return [*out, Part(".")]


def of_version(reference: str, *, state: str, running: int, regions: int, consumers: dict[str, int], open_high: int, retire_on: date | None, today: date) -> Sentence:  # fmt: skip
    """What the page of a version begins with."""
    out = [Part(reference, strong=True), Part(f" is {'in sunset' if state == 'sunset' else state}")]
    if state == "staged" and open_high:
        out += [
            Part("; "),
            Part(
                f"{plural(open_high, 'finding')} of high severity {'is' if open_high == 1 else 'are'} open",
                "findings",
                heed=True,
            ),
        ]
    if running:
        out += [
            Part("; "),
            Part(
                f"{plural(running, 'instance')} in {plural(regions, 'region')} {'runs' if running == 1 else 'run'} it",
                "instances",
            ),
        ]
        if consumers:
            (who, most), *rest = sorted(consumers.items(), key=lambda item: (-item[1], item[0]))
            others = f" and {plural(len(rest), 'other account')}" if rest else ""
            out.append(Part(f", {most if not rest else sum(consumers.values())} of them for {who}{others}"))
    elif state != "staged":
        out.append(Part("; no instance runs it"))
    if retire_on and state == "sunset":
        out += [Part("; it retires on "), Part(spoken(retire_on, today), "retire", heed=bool(running))]
    return [*out, Part(".")]


def of_instance(name: str, *, state: str, reference: str, behind: int, newest: str, region: str, zone: str, reason: str) -> Sentence:  # fmt: skip
    """What the page of an instance begins with."""
    out = [Part(name, strong=True)]
    if state in ("terminated", "failed"):
        return [
            *out,
            Part(f" is {'gone' if state == 'terminated' else 'a failed launch'}; it ran "),
            Part(reference, "version"),
            Part(f".{f' {reason}' if reason else ''}"),
        ]
    where = f"{region}, zone {zone}" if zone else region
    verb = "runs" if state == "running" else f"is {state}, made from"
    out += [Part(f" {verb} "), Part(reference, "version"), Part(f" in {where}")]
    if behind:
        out += [Part("; "), Part(f"{newest} is newer", "behind", heed=True)]
    return [*out, Part(".")]
