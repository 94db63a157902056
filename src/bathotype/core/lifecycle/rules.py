"""Launch rules: who may launch what.  A rule is data; deciding is a pure function that explains every verdict."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from datetime import date, datetime
from fnmatch import fnmatchcase
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, model_validator

from bathotype.core.forms import NAME, form
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.units import agree, plural

_PATTERN = r"[a-z*?][a-z0-9*?-]*(?:/[a-z*?][a-z0-9*?-]*)?(?:@[0-9a-zA-Z.*?-]+)?"
_LINES = form(f"^{_PATTERN}$", "line, account/line or account/line@number, with * and ? for any characters")
Pattern = Annotated[str, StringConstraints(pattern=_LINES, max_length=200)]
Name = Annotated[str, StringConstraints(pattern=NAME, max_length=63)]


class RuleException(BaseModel):
    """What a rule lets pass all the same: a version, or all of a line's, for a reason and until a date."""

    model_config = ConfigDict(extra="forbid", defer_build=True)  # a command may import it and never use it

    name: Name
    subject: Pattern = Field(
        description="account/line or account/line@number; * and ? match any characters, as in file names."
    )
    account: str = Field(default="*", max_length=63, description="The launching account; * for each.")
    reason: str = Field(min_length=3, max_length=2000)
    until: date

    def covers(self, facts: LaunchFacts) -> bool:
        """Whether it holds for this launch today."""
        return (
            facts.now.date() <= self.until
            and fnmatchcase(facts.account, self.account)
            and matches(self.subject, facts.owner, facts.line, facts.number)
        )


class LaunchRule(BaseModel):
    """One rule.  Every condition that is given must hold; what it does not name, it does not judge."""

    model_config = ConfigDict(
        defer_build=True,
        extra="forbid",
        json_schema_extra={"examples": [{"name": "fresh-gauges", "released_only": True, "no_older_than_days": 90}]},
    )

    name: Name
    effect: Literal["refuse", "warn"] = "refuse"
    applies_to: Pattern = Field(default="*", description="Which lines it judges: line, account/line; * for all.")
    owners: list[str] | None = Field(default=None, min_length=1, description="Only lines of these accounts.")
    lines: list[Pattern] | None = Field(default=None, min_length=1, description="Only these lines.")
    released_only: bool = False
    no_older_than_days: int | None = Field(default=None, ge=1, le=36500)
    signed: bool = False
    residue_clean: bool = False
    checks_passed: list[Name] | None = Field(default=None, min_length=1)
    regions: list[str] | None = Field(default=None, min_length=1)
    tags: list[str] | None = Field(default=None, min_length=1, description="Tags that the launch must carry.")
    subnets: list[str] | None = Field(default=None, min_length=1, description="Only into these subnets.")
    firewalls: list[str] | None = Field(
        default=None, min_length=1, description="Only with these firewall sets, or none."
    )
    no_public_address: bool = Field(default=False, description="No instance gets a public address.")
    exceptions: list[RuleException] = Field(default=[], max_length=500)

    @model_validator(mode="after")
    def _says_something(self) -> LaunchRule:
        said = (self.owners, self.lines, self.no_older_than_days, self.checks_passed, self.regions, self.tags,
                self.subnets, self.firewalls)  # fmt: skip
        flags = self.released_only or self.signed or self.residue_clean or self.no_public_address
        if not (flags or any(s is not None for s in said)):
            raise ValueError("A rule needs at least one condition, such as released_only or owners.")
        if len({e.name for e in self.exceptions}) != len(self.exceptions):
            raise ValueError("Each exception needs a name of its own.")
        return self


@dataclass(frozen=True)
class LaunchFacts:
    """What a decision rests on.  ``signed`` is None where nothing signed was found, False where a signature is bad."""

    account: str
    owner: str
    line: str
    number: str
    state: str
    region: str
    now: datetime
    released_at: datetime | None = None
    signed: bool | None = None
    open_findings: int = 0
    checks: frozenset[str] = frozenset()
    tags: frozenset[str] = field(default_factory=frozenset)
    #: Where it attaches; the subnet is empty where it is not known.
    subnet: str = ""
    firewalls: frozenset[str] = frozenset()
    public: bool = False


@dataclass(frozen=True)
class Verdict:
    """What one rule says: ``pass``, ``excepted``, ``not-concerned``, ``warn`` or ``refuse``; ``need`` says for each
    condition that does not hold what would satisfy it."""

    rule: str
    outcome: Literal["pass", "excepted", "not-concerned", "warn", "refuse"]
    reasons: tuple[str, ...] = ()
    need: tuple[str, ...] = ()


@dataclass(frozen=True)
class Decision:
    """All verdicts on one launch."""

    verdicts: tuple[Verdict, ...]

    @property
    def admitted(self) -> bool:
        """Whether no rule refuses."""
        return not any(v.outcome == "refuse" for v in self.verdicts)

    def reasons_for(self, outcome: str) -> list[str]:
        """Each reason of the rules with an outcome, with what would satisfy it."""
        return [
            f"Rule {v.rule}: {reason} {need}".strip()
            for v in self.verdicts
            if v.outcome == outcome
            for reason, need in zip(v.reasons, v.need, strict=True)
        ]


def decide(rules: list[LaunchRule], facts: LaunchFacts) -> Decision:
    """Judge one launch by every rule, in their order."""
    return Decision(tuple(_judge(rule, facts) for rule in rules))


def _judge(rule: LaunchRule, facts: LaunchFacts) -> Verdict:
    if not matches(rule.applies_to, facts.owner, facts.line, facts.number):
        return Verdict(rule.name, "not-concerned")
    failed = _failures(rule, facts)
    if not failed:
        return Verdict(rule.name, "pass")
    for exception in rule.exceptions:
        if exception.covers(facts):
            excused = f"{exception.name} until {exception.until}: {exception.reason}"
            return Verdict(rule.name, "excepted", (excused,), ("",))
    return Verdict(rule.name, rule.effect, tuple(why for why, _ in failed), tuple(need for _, need in failed))


def _failures(rule: LaunchRule, facts: LaunchFacts) -> list[tuple[str, str]]:
    """``(why, what would satisfy it)`` of each condition that does not hold."""
    reference = f"{facts.owner}/{facts.line}@{facts.number}"
    out: list[tuple[str, str]] = []

    def fail(why: str, need: str) -> None:
        out.append((why, need))

    if rule.owners is not None and facts.owner not in rule.owners:
        fail(f"lines of {facts.owner} are not among those allowed.", f"Launch a line of {' or '.join(rule.owners)}.")
    if rule.lines is not None and not any(matches(p, facts.owner, facts.line, facts.number) for p in rule.lines):
        fail(f"{facts.owner}/{facts.line} is not among the lines allowed.", f"Launch {' or '.join(rule.lines)}.")
    if rule.released_only and facts.state != "released":
        fail(
            f"{reference} is {VersionState(facts.state).spoken}.",
            "Launch a released version, or have this one released.",
        )
    if rule.no_older_than_days is not None:
        out += _age(rule.no_older_than_days, facts, reference)
    if rule.signed and facts.signed is not True:
        why = "has no signature" if facts.signed is None else "has a signature that does not verify"
        fail(f"{reference} {why}.", "Launch a version that its owner has signed.")
    if rule.residue_clean and facts.open_findings:
        fail(
            f"{reference} has {plural(facts.open_findings, 'finding')} of residue that nobody has accepted.",
            "Have its owner accept each by name, or launch a clean version.",
        )
    for check in rule.checks_passed or ():
        if check not in facts.checks:
            fail(
                f"{reference} has not passed the check {check}.",
                "Have its owner prove it: `bathotype prove`.",
            )
    if rule.regions is not None and facts.region not in rule.regions:
        fail(f"region {facts.region} is not allowed.", f"Launch in {' or '.join(rule.regions)}.")
    if rule.subnets is not None and facts.subnet and facts.subnet not in rule.subnets:
        fail(f"subnet {facts.subnet} is not allowed.", f"Launch with --subnet {' or '.join(rule.subnets)}.")
    if rule.firewalls is not None and (others := sorted(facts.firewalls - set(rule.firewalls))):
        these = f"set {others[0]} is" if len(others) == 1 else f"sets {', '.join(others)} are"
        fail(f"the firewall {these} not allowed.", f"Use {' or '.join(rule.firewalls)}, or none.")
    if rule.no_public_address and facts.public:
        fail("a public address is not allowed.", "Launch without one.")
    if missing := sorted(set(rule.tags or ()) - facts.tags):
        lacking = (
            f"the tag {missing[0]} is missing." if len(missing) == 1 else f"the tags {', '.join(missing)} are missing."
        )
        fail(lacking, f"Add {' '.join(f'--tag {tag}=VALUE' for tag in missing)}.")
    return out


def _age(most: int, facts: LaunchFacts, reference: str) -> list[tuple[str, str]]:
    if facts.released_at is None:
        return [(f"{reference} has not been released, so its age is not known.", "Launch a released version.")]
    age = (facts.now - facts.released_at).days
    if age <= most:
        return []
    verb = agree(most, "is", "are")
    told = f"{reference} was released {plural(age, 'day')} ago; {plural(most, 'day')} {verb} allowed."
    return [(told, "Launch a newer version of its line.")]


def matches(pattern: str, owner: str, line: str, number: str) -> bool:
    """Whether ``[account/]line[@number]`` names a version; ``*`` and ``?`` as in file names."""
    match = re.fullmatch(r"(?:(?P<owner>[^/@]+)/)?(?P<line>[^/@]+)(?:@(?P<number>.+))?", pattern)
    assert match is not None  # the schema saw to that
    return (
        fnmatchcase(owner, match["owner"] or "*")
        and fnmatchcase(line, match["line"])
        and fnmatchcase(number, match["number"] or "*")
    )
