"""A sheet's text with the texts of its parts behind it, and where each line of that came from."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace

from bathotype.core.sheets.document import Fault, pieces
from bathotype.core.sheets.reading import Checked, not_valid, part_name, parts_named
from bathotype.core.sheets.sheet import PartSource, Sheet

_SEPARATOR = "---\n"


@dataclass(frozen=True)
class Gathered:
    """One text; ``origins`` are the numbers of the lines before each piece of it, and the piece's name."""

    text: str
    origins: tuple[tuple[int, str], ...]

    def origin(self, fault: Fault) -> tuple[str, Fault]:
        """The piece in which a fault is, and the fault with its line there."""
        before, name = next(one for one in reversed(self.origins) if one[0] < fault.line)
        return name, replace(fault, line=fault.line - before)

    def need(self, checked: Checked) -> Sheet:
        """What was read of the text.  Raises `Invalid` with every fault in its own piece."""
        if checked.sheet is None:
            found = [self.origin(fault) for fault in checked.faults]
            own = self.origins[0][1]
            raise not_valid([str(fault) if name == own else f"{name}, {fault}" for name, fault in found])
        return checked.sheet


def gathered(text: str, name: str, read: Callable[[str, PartSource], tuple[str, str] | None]) -> Gathered:
    """A sheet's text and those of its parts that are not in it.  ``read`` gives the name of a part's piece and its text;
    None leaves the part out."""
    origins = [(0, name)]
    named, there = parts_named(text)
    for part, source in named.items():
        found = read(part, source) if part not in there else None
        if found is not None:
            text += "" if text.endswith("\n") else "\n"
            text += "" if found[1].startswith(_SEPARATOR) else _SEPARATOR
            origins.append((text.count("\n"), found[0]))
            text += found[1]
    return Gathered(text, tuple(origins))


def without_parts(text: str, names: Collection[str]) -> str:
    """A sheet's text without those of these parts, which are gathered anew.  What cannot be read stays as it is."""
    first, *others = pieces(text)
    return first + "".join(piece for piece in others if part_name(piece) not in names)
