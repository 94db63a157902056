"""Comparing versions of packages as Debian does (Debian Policy 5.6.12: epoch, upstream version, revision).

Other managers order most versions in the same way.
"""

from __future__ import annotations

from itertools import zip_longest


def is_at_least(has: str, wanted: str) -> bool:
    """Whether a version is the wanted one or a newer one."""
    return _compare(has, wanted) >= 0


def _compare(one: str, other: str) -> int:
    (epoch, upstream, revision), (epoch2, upstream2, revision2) = _parts(one), _parts(other)
    if epoch != epoch2:
        return 1 if epoch > epoch2 else -1
    return _texts(upstream, upstream2) or _texts(revision, revision2)


def _parts(version: str) -> tuple[int, str, str]:
    epoch, colon, rest = version.partition(":")
    if not colon or not epoch.isdecimal():
        epoch, rest = "0", version
    upstream, dash, revision = rest.rpartition("-")
    return int(epoch[:9]), upstream if dash else rest, revision if dash else ""


def _order(character: str) -> int:
    if character == "~":
        return -1
    return 0 if not character else ord(character) if character.isalpha() else ord(character) + 256


def _texts(one: str, other: str) -> int:
    """Parts that are no digits are compared by their characters, parts of digits as numbers, in turns."""
    at = at2 = 0
    while at < len(one) or at2 < len(other):
        start, start2 = at, at2
        while at < len(one) and not one[at].isdecimal():
            at += 1
        while at2 < len(other) and not other[at2].isdecimal():
            at2 += 1
        for a, b in zip_longest(one[start:at], other[start2:at2], fillvalue=""):
            if _order(a) != _order(b):
                return 1 if _order(a) > _order(b) else -1
        start, start2 = at, at2
        while at < len(one) and one[at].isdecimal():
            at += 1
        while at2 < len(other) and other[at2].isdecimal():
            at2 += 1
        number, number2 = one[start:at].lstrip("0"), other[start2:at2].lstrip("0")
        if number != number2:
            return 1 if (len(number), number) > (len(number2), number2) else -1
    return 0
