"""A proof sheet as a page that can be printed: one HTML file that needs no other."""

from __future__ import annotations

from html import escape
from typing import TYPE_CHECKING

from bathotype.core.units import iec, plural

if TYPE_CHECKING:
    from bathotype.wire.versions import Held, Proof, ProofRow

OUTCOMES = {"none": "none", "gone": "gone", "left": "there", "unknown": "not known"}
#: Classes whose bytes are not counted.
_WITHOUT_BYTES = ("host-name", "secrets")
_STYLE = """
@page { size: A4; margin: 16mm }
body { font: 10pt/1.35 sans-serif; color: #111; max-width: 178mm; margin: 8mm auto }
h1 { font-size: 15pt; margin: 0 0 2mm } p { margin: 0 0 3mm }
table { border-collapse: collapse; width: 100%; margin: 4mm 0 }
th, td { text-align: left; vertical-align: top; padding: 1.2mm 2mm 1.2mm 0; border-bottom: 0.2mm solid #bbb }
td.now { font-weight: 600 } code { font: 8.5pt monospace; word-break: break-all }
"""


def held_text(row: ProofRow, held: Held | None) -> str:
    """``4 paths, 1.6 KiB``."""
    if held is None:
        return "not counted"
    if not held.paths:
        return "nothing"
    if row.name in _WITHOUT_BYTES:
        return plural(held.paths, "path" if row.name == "host-name" else "finding")
    return f"{plural(held.paths, 'path')}, {iec(held.bytes) if held.bytes else 'empty'}"


def sums(sheet: Proof) -> list[tuple[str, str]]:
    """The bytes before and after; each sum is the disk's size."""
    rows = []
    if sheet.used_before is not None:
        swap = sheet.swap_before or 0
        free = sheet.disk_bytes - sheet.used_before - swap
        rows.append(("before", f"{iec(sheet.used_before)} in use + {iec(swap)} swap + {iec(free)} free"))
    rows.append(("now", f"{iec(sheet.used_after)} in use + {iec(sheet.disk_bytes - sheet.used_after)} zeros"))
    rows.append(("disk", f"{iec(sheet.disk_bytes)} ({sheet.disk_bytes} bytes)"))
    if sheet.files_before and sheet.files_after:
        gone = sheet.files_before.paths - sheet.files_after.paths
        rows.append(("files", f"{sheet.files_before.paths} before, {sheet.files_after.paths} now, {gone} gone"))
    return rows


def page(sheet: Proof) -> str:
    """The page."""
    rows = "".join(
        f"<tr><td>{escape(r.title)}</td><td>{escape(held_text(r, r.before))}</td><td>{escape('; '.join(r.done))}</td>"
        f"<td>{escape(held_text(r, r.after))}</td><td class=now>{escape(OUTCOMES[r.outcome])}</td></tr>"
        for r in sheet.rows
    )
    facts = "".join(f"<tr><th>{escape(name)}</th><td>{escape(value)}</td></tr>" for name, value in sums(sheet))
    how = f"by profile {sheet.profile}" if sheet.profile else "kept as it was" if sheet.mode == "as-is" else sheet.mode
    return (
        f"<!doctype html><html lang=en><meta charset=utf-8><title>Proof sheet of {escape(sheet.reference)}</title>"
        f"<style>{_STYLE}</style><h1>Proof sheet of {escape(sheet.reference)}</h1>"
        f"<p>Made by {escape(sheet.mode)}, generalized {escape(how)}. What was there was counted on the copy before it was "
        "changed, what is there now on the stored bytes.</p>"
        "<table><tr><th>what<th>was there<th>done<th>is there now<th>outcome</tr>"
        f"{rows}</table><table>{facts}</table>"
        f"<p>Content <code>{escape(sheet.content_digest)}</code></p>"
        + (f"<p>Signed as <code>{escape(sheet.digest)}</code></p>" if sheet.digest else "")
        + "</html>\n"
    )
