"""Finding the values of secrets in what programs print and in captured bytes, also in the forms that they often take."""

from __future__ import annotations

import base64
from collections.abc import Iterable, Mapping
from urllib.parse import quote

from bathotype.core.disk.source import BlockSource

#: A shorter value would be found everywhere.
LEAST = 8
#: So much of a form is looked for: a value that was cut is found too.
_LONGEST = 64
_PIECE = 4 * 1024 * 1024
_HIDDEN = "\N{BULLET}" * 6


def forms_of(value: str) -> dict[str, list[bytes]]:
    """A value as it is, in base64 (at each of the three places that it can have in a longer text), in a URL, in
    hexadecimal."""
    raw = value.encode()
    aligned = []
    for before in range(3):
        text = base64.b64encode(b"\0" * before + raw)
        # What depends on the bytes before and behind is left out.
        part = text[(before * 8 + 5) // 6 : (before + len(raw)) * 8 // 6]
        aligned += [part, part.translate(bytes.maketrans(b"+/", b"-_"))]
    quoted = quote(value, safe="").encode()
    found = {
        "as it is": [raw, value.encode("utf-16-le")],
        "in base64": aligned,
        "in a URL": [quoted, quote(value).encode(), quoted.replace(b"%20", b"+")],
        "in hexadecimal": [raw.hex().encode(), raw.hex().upper().encode()],
    }
    seen: set[bytes] = set()
    told = {}
    for name, forms in found.items():  # a value that a URL does not change is hidden by its own text
        told[name] = [form for form in dict.fromkeys(forms) if len(form) >= LEAST and form not in seen]
        seen |= set(told[name])
    return told


class Mask:
    """Hides the values of secrets in texts."""

    def __init__(self, values: Iterable[str]) -> None:
        forms: set[str] = set()
        for value in values:
            lines = [line for line in value.splitlines() if len(line) >= LEAST]
            for one in {value, *lines}:
                forms |= {
                    f.decode("utf-8", "replace") for many in forms_of(one).values() for f in many if b"\0" not in f
                }
        self._forms = sorted(forms, key=len, reverse=True)

    def hide(self, text: str) -> str:
        """The text with every form of every value replaced."""
        for form in self._forms:
            if form in text:
                text = text.replace(form, _HIDDEN)
        return text


def held_in(disk: BlockSource, secrets: Mapping[str, str]) -> list[tuple[str, str]]:
    """Which secrets the bytes of a disk hold, and in which form."""
    needles = {
        (name, form): [one[:_LONGEST] for one in many]
        for name, value in secrets.items()
        for form, many in forms_of(value).items()
    }
    found: set[tuple[str, str]] = set()
    for start, end in disk.allocated() if needles else ():
        tail = b""
        for at in range(start, end, _PIECE):
            data = tail + disk.read(at, min(_PIECE, end - at))
            for key, many in needles.items():
                if key not in found and any(needle in data for needle in many):
                    found.add(key)
            tail = data[-4 * _LONGEST :]
    return sorted(found)
