"""Finding where content rules may match: all their literals in one pass, by Aho and Corasick's automaton."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from re import Match

from ahocorasick_rs import BytesAhoCorasick, Implementation

from bathotype.core.generalize.residuerules import ContentRule


class HintedRules:
    """Rules that each name literals (``hints``) of which every match holds one, and how far it reaches around it."""

    def __init__(self, rules: Sequence[ContentRule]) -> None:
        self._rules = [rule for rule in rules if rule.hints]
        owners: dict[bytes, list[int]] = defaultdict(list)
        for number, rule in enumerate(self._rules):
            for hint in rule.hints:
                owners[hint].append(number)
        self._owners = list(owners.values())
        self._finder = BytesAhoCorasick(list(owners), implementation=Implementation.DFA) if owners else None

    def matches(self, data: bytes) -> Iterator[tuple[ContentRule, Match[bytes]]]:
        """Every match of every rule, rule by rule."""
        if self._finder is None:
            return
        found: dict[int, list[int]] = defaultdict(list)
        for pattern, start, _ in self._finder.find_matches_as_indexes(data, overlapping=True):
            for number in self._owners[pattern]:
                found[number].append(start)
        for number, places in sorted(found.items()):
            rule = self._rules[number]
            # Literals are found in the order of their ends: a longer one may begin before a shorter one found first.
            for start, end in _windows(sorted(places), *rule.reach, len(data)):
                for match in rule.expression.finditer(data, start, end):
                    yield rule, match


def _windows(places: list[int], before: int, after: int, size: int) -> Iterator[tuple[int, int]]:
    """What has to be looked at around ascending places, each byte once."""
    start, end = max(0, places[0] - before), places[0] + after
    for place in places[1:]:
        if place - before <= end:
            end = place + after
            continue
        yield start, min(end, size)
        start, end = place - before, place + after
    yield start, min(end, size)
