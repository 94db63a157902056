"""Sizes and durations for people."""

from __future__ import annotations

import re


def iec(count: int | float) -> str:
    """A number of bytes in IEC units: ``iec(1536) == '1.5 KiB'``."""
    value = float(count)
    for unit in ("B", "KiB", "MiB", "GiB", "TiB"):
        # What would be rounded to 1024.0 belongs to the next unit.
        if abs(value) < (1024 if unit == "B" else 1023.95) or unit == "TiB":
            return f"{value:.0f} B" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1024
    raise AssertionError("unreachable")


_SIZE = re.compile(r"(\d{1,18}(?:\.\d{1,6})?)\s*([KMGT]iB|B)?", re.IGNORECASE)
_POWERS = {"": 0, "B": 0, "KIB": 10, "MIB": 20, "GIB": 30, "TIB": 40}


def bytes_of(text: str) -> int:
    """A size as people write it: ``2 TiB``, ``512MiB`` or a number of bytes.  Raises `ValueError`."""
    found = _SIZE.fullmatch(text.strip())
    if found is None:
        raise ValueError("write a size such as 2 TiB, or a number of bytes")
    return int(float(found[1]) * (1 << _POWERS[(found[2] or "").upper()]))


def seconds(value: float) -> str:
    """A duration: ``seconds(75) == '1m 15s'``."""
    if value < 59.5:
        return f"{value:.1f}s" if value < 9.95 else f"{value:.0f}s"
    minutes, rest = divmod(round(value), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours}h {minutes:02d}m" if hours else f"{minutes}m {rest:02d}s"


def plural(count: int, noun: str) -> str:
    """``plural(2, 'version') == '2 versions'``."""
    if count == 1:
        return f"1 {noun}"
    if re.search("[^aeiou]y$", noun):
        return f"{count} {noun[:-1]}ies"
    return f"{count} {noun}es" if noun.endswith("s") else f"{count} {noun}s"


def agree(count: int, one: str, many: str) -> str:
    """The word that agrees with a number: ``agree(2, 'is', 'are') == 'are'``."""
    return one if count == 1 else many
