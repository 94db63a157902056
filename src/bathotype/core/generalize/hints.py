"""Finding where content rules may match: all their literals in one pass, by Aho and Corasick's automaton."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

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

    def matches(self, data: bytes) -> Iterator[tuple[ContentRule, int, bytes]]:
        """Where every rule matches, and what, rule by rule."""
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
                    yield rule, match.start(), match[0]


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


class Words:
    """Finds values that are words of their own: not within a longer word, name or number."""

    def __init__(self, values: Sequence[bytes]) -> None:
        self._values = values

    def finditer(self, data: bytes, start: int, end: int) -> Iterator[Word]:
        """Every one of them between two places."""
        for value in self._values:
            at = data.find(value, start, end)
            while at >= 0:
                if _stands_alone(data, at, at + len(value)):
                    yield Word(at, value)
                at = data.find(value, at + 1, end)


@dataclass(frozen=True)
class Word:
    """One value, and where it was found."""

    at: int
    value: bytes

    def start(self) -> int:
        """The place, as a match of an expression has it."""
        return self.at

    def __getitem__(self, group: int) -> bytes:
        return self.value


def _stands_alone(data: bytes, start: int, end: int) -> bool:
    before, after = data[start - 1 : start] if start else b"", data[end : end + 2]
    if before and (before in b"-." or _in_word(before)):
        return False
    return not (after[:1] == b"-" or _in_word(after[:1]) or (after[:1] == b"." and _in_word(after[1:])))


def _in_word(char: bytes) -> bool:
    return char.isalnum() or char == b"_"
