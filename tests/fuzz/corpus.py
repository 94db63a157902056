"""Inputs that reach different code of a reader, found by the fuzzer and kept: one a line, as hexadecimal text."""

from __future__ import annotations

from pathlib import Path

_KEPT = Path(__file__).parent / "corpus"
#: Where the fuzzer collects.
FOUND = Path(".cache/fuzz")
_MOST = 250


def kept(reader: str) -> list[bytes]:
    """What is kept of a reader."""
    place = _KEPT / f"{reader}.txt"
    return [bytes.fromhex(line) for line in place.read_text().split()] if place.exists() else []


def give(reader: str) -> Path:
    """The folder from which the fuzzer goes on, with what is kept in it."""
    folder = FOUND / reader
    folder.mkdir(parents=True, exist_ok=True)
    for number, data in enumerate(kept(reader)):
        (folder / f"kept-{number}").write_bytes(data)
    return folder


def keep(readers: list[str]) -> None:
    """Keep what the fuzzer has collected, the shortest first."""
    _KEPT.mkdir(exist_ok=True)
    for reader in readers:
        found = {path.read_bytes() for path in (FOUND / reader).glob("*")}
        lines = [data.hex() for data in sorted(found, key=lambda data: (len(data), data))[:_MOST] if data]
        (_KEPT / f"{reader}.txt").write_text("".join(f"{line}\n" for line in lines))
