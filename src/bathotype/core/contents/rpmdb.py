"""The database of RPM: installed packages, and the sums of the files that they shipped.

Follows rpm's documentation of its header format ("Package format", lead, signature and header) and the table that its SQLite
backend makes (``lib/backend/sqlite.c``).  Its other backends, ndb and the older Berkeley DB, are not read.
"""

from __future__ import annotations

import sqlite3
import struct
from collections.abc import Iterator
from contextlib import closing, suppress
from dataclasses import dataclass

from bathotype.core.errors import Damaged
from bathotype.core.guest.tree import FileTree

_PLACES = ("/usr/lib/sysimage/rpm/rpmdb.sqlite", "/var/lib/rpm/rpmdb.sqlite")
_MOST_DATABASE, _MOST_HEADER, _MOST_PACKAGES = 1 << 30, 64 << 20, 200_000
#: A query that takes longer than so many thousand steps of SQLite's machine is no plain look at a table.
_MOST_STEPS = 50_000
_NUMBER, _TEXT, _TEXTS, _TRANSLATED = 4, 6, 8, 9
_NAME, _VERSION, _RELEASE, _EPOCH, _ARCHITECTURE = 1000, 1001, 1002, 1003, 1022
_DIGESTS, _FOLDER_OF, _FILE_NAMES, _FOLDER_NAMES, _DIGEST_KIND = 1035, 1116, 1117, 1118, 5011
_KINDS = {1: "md5", 8: "sha256", 9: "sha384", 10: "sha512"}
_WANTED = {_NAME, _VERSION, _RELEASE, _EPOCH, _ARCHITECTURE, _DIGESTS, _FOLDER_OF, _FILE_NAMES, _FOLDER_NAMES, _DIGEST_KIND}  # fmt: skip


@dataclass(frozen=True)
class RpmPackage:
    """An installed package; ``version`` is ``epoch:version-release`` as rpm writes it, without an epoch of 0."""

    name: str
    version: str
    architecture: str
    #: By path: the name of a hash function, and the sum that the file had.
    files: tuple[tuple[str, str, str], ...]


def installed(tree: FileTree) -> Iterator[RpmPackage]:
    """What is installed, in no order; nothing where there is no database that can be read.

    Keys that were imported are in the database too, and left out: they are no programs.
    """
    data = next((data for place in _PLACES if (data := tree.read(place, most=_MOST_DATABASE))), b"")
    if data:
        # Of a database that is broken, what was read up to there counts.
        with suppress(Damaged, sqlite3.Error, struct.error, UnicodeError, ValueError):
            yield from (p for header in _headers(data) if (p := _package(header)).name != "gpg-pubkey")


def _headers(data: bytes) -> Iterator[bytes]:
    # A database in memory has no log beside it: what its header says of one (bytes 18 and 19) would hinder.
    data = data[:18] + b"\x01\x01" + data[20:]
    with closing(sqlite3.connect(":memory:")) as database:
        database.deserialize(data)
        steps = iter(range(_MOST_STEPS))
        database.set_progress_handler(lambda: next(steps, None) is None, 1000)
        database.execute("PRAGMA trusted_schema = off")
        database.execute("PRAGMA cell_size_check = on")
        for (header,) in database.execute("SELECT blob FROM Packages LIMIT ?", (_MOST_PACKAGES,)):
            if isinstance(header, bytes):
                yield header


def _package(header: bytes) -> RpmPackage:
    tags = _tags(header)
    epoch = next(iter(tags.get(_EPOCH, ())), 0)
    version = f"{_one(tags, _VERSION)}-{_one(tags, _RELEASE)}"
    return RpmPackage(
        _one(tags, _NAME), f"{epoch}:{version}" if epoch else version, _one(tags, _ARCHITECTURE), _files(tags)
    )


Tags = dict[int, list[str | int]]


def _one(tags: Tags, tag: int) -> str:
    return str(next(iter(tags.get(tag, ())), ""))


def _files(tags: Tags) -> tuple[tuple[str, str, str], ...]:
    folders = tags.get(_FOLDER_NAMES, [])
    kind = _KINDS.get(int(next(iter(tags.get(_DIGEST_KIND, ())), 1)))
    rows = zip(tags.get(_FILE_NAMES, []), tags.get(_FOLDER_OF, []), tags.get(_DIGESTS, []), strict=False)
    if kind is None:
        return ()
    return tuple((f"{folders[int(at)]}{name}", kind, str(d)) for name, at, d in rows if d and int(at) < len(folders))


def _tags(header: bytes) -> Tags:
    """The tags of a header that are asked for: an index of 16 bytes each, and behind it their data."""
    if not 8 <= len(header) <= _MOST_HEADER:
        raise Damaged("A header of a package is broken.")
    count, size = struct.unpack_from(">II", header, 0)
    data = header[8 + 16 * count :]
    if len(data) < size:
        raise Damaged("A header of a package is broken.")
    found: Tags = {}
    for tag, kind, at, number in struct.iter_unpack(">IIII", header[8 : 8 + 16 * count]):
        if tag not in _WANTED:
            continue
        if kind == _NUMBER and at + 4 * number <= len(data):
            found[tag] = list(struct.unpack_from(f">{number}I", data, at))
        elif kind in (_TEXT, _TEXTS, _TRANSLATED) and at <= len(data):
            texts = data[at:].split(b"\0", number if kind != _TEXT else 1)
            found[tag] = [text.decode("utf-8", "replace") for text in texts[: number if kind != _TEXT else 1]]
    return found
