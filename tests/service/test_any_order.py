"""Releases, ends, shares, allowances and launches of three accounts in any order, held against a plain model."""

from __future__ import annotations

import random
from collections import Counter
from contextlib import ExitStack
from dataclasses import dataclass, field

import pytest

from bathotype.client import Client
from bathotype.core.errors import NotFound, Refused
from bathotype.core.lifecycle.states import MOVES, VersionState
from tests.office import Office

OWNER, CONSUMERS = "tide-core", ("harbour-watch", "chart-house")
REGIONS = ("skerry-1", "fjord-2")
NUMBERS = ("1.0.0", "1.1.0", "2.0.0")
STEPS = 60


@dataclass
class Grant:
    """A share: ``number`` is None for the whole line, ``regions`` None for all."""

    id: str
    consumer: str
    number: str | None
    regions: tuple[str, ...] | None
    state: str = "proposed"


@dataclass
class Model:
    """What should be so."""

    states: dict[str, str] = field(default_factory=lambda: dict.fromkeys(NUMBERS, "staged"))
    grants: list[Grant] = field(default_factory=list)
    running: dict[tuple[str, str], tuple[str, str]] = field(default_factory=dict)  # (account, name) → number, region
    most: dict[str | None, int] = field(default_factory=dict)  # consumer or None for all → allowance of the line

    def granted(self, account: str, number: str) -> list[Grant]:
        return [g for g in self.grants if g.consumer == account and g.state == "active" and g.number in (None, number)]

    def sees(self, account: str, number: str) -> bool:
        return account == OWNER or (self.states[number] != "staged" and bool(self.granted(account, number)))

    def refusals(self, account: str, number: str, region: str, count: int) -> set[str]:
        """Everything that forbids a launch of what one may see."""
        out = set()
        if self.states[number] in ("retired", "purged"):
            out.add("takes no new launches")
        grants = self.granted(account, number)
        if account != OWNER and not any(g.regions is None or region in g.regions for g in grants):
            out.add(f"not shared for {region}")
        for consumer, most in self.most.items():
            used = sum(consumer in (None, a) for a, _ in self.running)
            if consumer in (None, account) and used + count > most:
                out.add(f"{used} of {most} in use")
        return out


class Walk:
    """One random walk through the system and its model."""

    def __init__(self, clients: dict[str, Client], line: str, chance: random.Random) -> None:
        self.clients, self.line, self.chance, self.model = clients, line, chance, Model()
        self.asked = self.ran = 0

    def name(self, account: str, number: str) -> str:
        return f"{self.line}@{number}" if account == OWNER else f"{OWNER}/{self.line}@{number}"

    def moves(self) -> None:
        number = self.chance.choice(NUMBERS)
        verb = self.chance.choice(("release", "release", "sunset", "retire"))
        wanted = {"release": "released", "sunset": "sunset", "retire": "retired"}[verb]
        allowed = VersionState(wanted) in MOVES[VersionState(self.model.states[number])]
        if verb == "retire" and self.chance.random() < 0.5:
            return  # else everything ends too soon
        call = getattr(self.clients[OWNER], verb)
        if allowed:
            assert call(self.name(OWNER, number)).state == wanted
            self.model.states[number] = wanted
        else:
            with pytest.raises(Refused):
                call(self.name(OWNER, number))

    def purges(self) -> None:
        number = self.chance.choice(NUMBERS)
        in_use = number in [n for n, _ in self.model.running.values()]
        client, reference = self.clients[OWNER], self.name(OWNER, number)
        if self.model.states[number] == "retired" and not in_use:
            client.wait(client.purge(reference, waive_grace=True).id)
            self.model.states[number] = "purged"
        else:
            with pytest.raises(Refused):
                client.purge(reference, waive_grace=True)

    def proposes(self) -> None:
        consumer, number = self.chance.choice(CONSUMERS), self.chance.choice((None, None, *NUMBERS))
        regions = self.chance.choice((None, None, REGIONS[:1], REGIONS[1:]))
        wanted = {"subject": f"{self.line}@{number}" if number else self.line, "consumer": consumer,
                  "regions": list(regions) if regions else None}  # fmt: skip
        open_ones = [g for g in self.model.grants if (g.consumer, g.number) == (consumer, number)]
        if any(g.state in ("proposed", "active") for g in open_ones):
            with pytest.raises(Refused, match="already"):
                self.clients[OWNER].share(**wanted)
        else:
            made = self.clients[OWNER].share(**wanted)
            self.model.grants.append(Grant(made.id, consumer, number, regions))

    def decides(self) -> None:
        if not self.model.grants:
            return
        grant = self.chance.choice(self.model.grants)
        verb, becomes = self.chance.choice(
            [
                ("accept_share", "active"),
                ("accept_share", "active"),
                ("decline_share", "declined"),
                ("end_share", "ended"),
            ]
        )
        account = self.chance.choice((OWNER, *CONSUMERS))
        call = getattr(self.clients[account], verb)
        open_still = grant.state == "proposed" or (grant.state == "active" and verb == "end_share")
        if account not in (OWNER, grant.consumer):
            with pytest.raises(NotFound):
                call(grant.id)
        elif not open_still or (account == OWNER and verb != "end_share"):
            with pytest.raises(Refused):
                call(grant.id)
        else:
            assert call(grant.id).state == becomes
            grant.state = becomes

    def launches(self) -> None:
        account = self.chance.choice((OWNER, *CONSUMERS, *CONSUMERS))
        number, region, count = self.chance.choice(NUMBERS), self.chance.choice(REGIONS), self.chance.choice((1, 1, 2))
        self.asked += 1
        wanted = {"reference": self.name(account, number), "region": region, "count": count,
                  "name": f"{self.line}-{self.asked}-{{n}}" if count > 1 else f"{self.line}-{self.asked}"}  # fmt: skip
        client = self.clients[account]
        if not self.model.sees(account, number):
            with pytest.raises(NotFound):
                client.launch(**wanted)
            return
        refusals = self.model.refusals(account, number, region, count)
        told = " ".join(client.plan_launch(**wanted).blockers)
        assert bool(refusals) == bool(told), f"{refusals} is not {told!r}"
        if self.model.states[number] != "purged":  # then there is no replica to ask for, either
            assert all(why in told for why in refusals), f"{refusals} is not {told!r}"
        if refusals:
            with pytest.raises(Refused):
                client.launch(**wanted)
            return
        done = client.wait(client.launch(**wanted).id)
        for instance in (done.result or {})["instances"]:
            self.model.running[account, instance["name"]] = (number, region)
            self.ran += 1

    def terminates(self) -> None:
        if self.model.running:
            account, name = self.chance.choice(sorted(self.model.running))
            other = next(a for a in CONSUMERS if a != account)
            with pytest.raises(NotFound):
                self.clients[other].act_on_instance(name, "terminate")
            self.clients[account].act_on_instance(name, "terminate")
            del self.model.running[account, name]

    def allows(self) -> None:
        consumer = self.chance.choice((None, CONSUMERS[0]))
        name = f"{self.line}-{consumer or 'all'}"
        if consumer in self.model.most and self.chance.random() < 0.4:
            self.clients[OWNER].drop_allowance(name)
            del self.model.most[consumer]
        else:
            most = self.chance.randrange(6)
            self.clients[OWNER].set_allowance(name, kind="line", line=self.line, consumer=consumer, most=most)
            self.model.most[consumer] = most

    def holds(self) -> None:
        """What every account is told is what the model says."""
        running = self.model.running
        owner = self.clients[OWNER]
        assert {v.number: v.state for v in owner.versions(self.line)} == self.model.states
        counts = Counter((a, *place) for (a, _), place in running.items() if a != OWNER)
        told = {(c.account, c.version, c.region): c.running for c in owner.consumers(self.line)}
        assert told == counts
        assert {(a.consumer, a.most, a.used) for a in owner.allowances() if a.subject == self.line} == {
            (c, most, sum(c in (None, a) for a, _ in running)) for c, most in self.model.most.items()
        }
        for account in CONSUMERS:
            client = self.clients[account]
            mine = Counter(number for (a, _), (number, _) in running.items() if a == account)
            shown = {
                v.reference.partition("@")[2]: v for v in client.shared_versions() if f"/{self.line}@" in v.reference
            }
            assert {*shown} == {n for n in NUMBERS if self.model.sees(account, n) and self.model.states[n] != "purged"}
            for number, seen in shown.items():
                assert (seen.state, seen.running) == (self.model.states[number], mine[number])
                grants = self.model.granted(account, number)
                assert set(seen.regions) == {
                    r for r in REGIONS if any(g.regions is None or r in g.regions for g in grants)
                }
            assert {(i.name, i.state) for i in client.instances() if i.name.startswith(f"{self.line}-") and i.state != "terminated"} == {
                (name, "running") for a, name in running if a == account
            }  # fmt: skip
            for number in NUMBERS:
                if not self.model.sees(account, number):
                    with pytest.raises(NotFound):
                        client.version(self.name(account, number))
            assert {s.id: s.state for s in client.shares("taken", ended=True) if s.subject.startswith(self.line)} == {
                g.id: g.state for g in self.model.grants if g.consumer == account
            }


@pytest.mark.parametrize("seed", [1, 3])
def test_whatever_comes_first_all_accounts_are_told_what_is_so(office: Office, seed: int) -> None:
    line, chance = f"walk-{seed}", random.Random(seed)
    for number in NUMBERS:
        office.version(f"{line}@{number}", release=False)
    with ExitStack() as stack:
        clients = {a: stack.enter_context(office.client(a)) for a in (OWNER, *CONSUMERS)}
        for number in NUMBERS:
            began = clients[OWNER].replicate(f"{line}@{number}", [{"region": "fjord-2", "copies": 1}])
            clients[OWNER].wait(began[0].id)
        walk = Walk(clients, line, chance)
        acts = [walk.moves, walk.proposes, walk.decides, walk.decides, walk.launches, walk.launches, walk.launches,
                walk.terminates, walk.allows, walk.purges]  # fmt: skip
        for step in range(STEPS):
            chance.choice(acts)()
            if step % 2:
                walk.holds()
        assert walk.ran >= 4, "a walk in which nothing ran shows nothing"
