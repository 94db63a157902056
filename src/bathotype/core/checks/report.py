"""What checks found, and the report of it as JUnit XML, which other tools read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from xml.etree import ElementTree

_ALLOWED = {"\t", "\n", "\r"}


@dataclass(frozen=True)
class Judgement:
    """One check: whether it passed, how long that took in seconds, and what was seen."""

    id: str
    demands: str
    passed: bool
    seconds: float
    evidence: str = ""


def junit(name: str, judgements: Sequence[Judgement]) -> str:
    """The report, after the XML Schema that most readers of JUnit's results keep to: a suite, and a case for each check."""
    failed = sum(not one.passed for one in judgements)
    suite = ElementTree.Element(
        "testsuite",
        name=_clean(name),
        tests=str(len(judgements)),
        failures=str(failed),
        errors="0",
        skipped="0",
        time=f"{sum(one.seconds for one in judgements):.3f}",
    )
    for one in judgements:
        case = ElementTree.SubElement(
            suite, "testcase", name=_clean(one.id), classname=_clean(name), time=f"{one.seconds:.3f}"
        )
        if not one.passed:
            told = ElementTree.SubElement(case, "failure", message=_clean(f"Not so: {one.demands}"))
            told.text = _clean(one.evidence)
        elif one.evidence:
            ElementTree.SubElement(case, "system-out").text = _clean(one.evidence)
    ElementTree.indent(suite)
    body = ElementTree.tostring(suite, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{body}\n'


def _clean(text: str) -> str:
    """A text that XML 1.0 can hold."""
    return "".join(c if c.isprintable() or c in _ALLOWED else "\N{REPLACEMENT CHARACTER}" for c in text)
