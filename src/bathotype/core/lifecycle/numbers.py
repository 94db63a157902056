"""Version numbers: Semantic Versioning 2.0, by the ``semver`` package."""

from __future__ import annotations

from semver import Version

from bathotype.core.errors import Invalid

PARTS = ("patch", "minor", "major")
FIRST = "1.0.0"


def parse_number(text: str) -> Version:
    """Raises `Invalid` for anything but a Semantic Versioning 2.0 number."""
    try:
        number = Version.parse(text)
    except (ValueError, TypeError) as error:
        raise Invalid(f"{text!r} is not a version number.", advice="Give MAJOR.MINOR.PATCH, such as 1.4.0.") from error
    if number.build:
        raise Invalid(f"{text!r} has build metadata, which does not distinguish versions.", advice="Leave out '+...'.")
    if max(number.major, number.minor, number.patch) > 2**31 - 1 or len(text) > 64:
        raise Invalid(f"The version number {text[:80]!r} is too large.")
    return number


def sort_key(text: str) -> str:
    """A string that sorts, byte by byte, as Semantic Versioning orders numbers (section 11)."""
    number = parse_number(text)
    core = f"{number.major:010d}.{number.minor:010d}.{number.patch:010d}"
    if not number.prerelease:
        return core + "~"  # a release comes after all of its pre-releases
    parts = []
    for part in number.prerelease.split("."):
        # Numeric identifiers come before others; fewer identifiers before more.
        parts.append(f"0{len(part):02d}{part}" if part.isdigit() else f"1{part}")
    return core + "-" + "!".join(parts) + "!"


def again(number: str, count: int) -> str:
    """The number of a repetition of a version's making: a pre-release of it, so that it is no newer one."""
    return f"{number}{'.' if parse_number(number).prerelease else '-'}again.{count}"


def bump(existing: list[str], part: str) -> str:
    """The number after the highest of ``existing``; the first one is 1.0.0."""
    if part not in PARTS:
        raise Invalid(f"{part!r} is not a part of a version number.", advice=f"Give one of {', '.join(PARTS)}.")
    if not existing:
        return FIRST
    newest = max(parse_number(n) for n in existing)
    return str(newest.next_version(part))
