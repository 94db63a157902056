"""Whether a system's own preparation tool has run on a disk: what its marker says.  And its answer file for one instance."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from html import escape

from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.layout import Layout
from bathotype.core.disk.ntfs.files import NtfsFiles
from bathotype.core.disk.source import BlockSource
from bathotype.core.errors import Damaged
from bathotype.core.expressions import for_text, searched
from bathotype.core.generalize.profile import AnswerFile, Marker

_MOST_MARKER = 65536
_MOST_LINE = 200


def marker_line(source: BlockSource, layout: Layout, marker: Marker) -> str | None:
    """The line of the marker's file that matches, on any volume of the boot disk; None where there is none.

    Only NTFS and ext4 are looked into.
    """
    expression = for_text(marker.match)
    for volume in layout.volumes:
        if volume.disk:
            continue
        try:
            data = _read(volume.within(source), volume.filesystem, marker.path)
        except Damaged:
            continue
        for line in (data or b"").decode("utf-8", "replace").replace("\0", "").splitlines():
            if searched(expression, line.rstrip()):
                return "".join(c for c in line.strip() if c.isprintable())[:_MOST_LINE]
    return None


def _read(window: BlockSource, filesystem: str, path: str) -> bytes | None:
    if filesystem == "ntfs":
        files = NtfsFiles(window)
        file = files.find(path)
        return files.read(file, most=_MOST_MARKER) if file is not None and file.is_file else None
    if filesystem == "ext4":
        fs = Ext4(window)
        inode = fs.lookup(path)
        return fs.read(inode, most=_MOST_MARKER) if inode is not None and inode.is_file else None
    return None


Values = Mapping[str, str]


def answers_for(file: AnswerFile, values: Values, users: Sequence[Values] = (), network: Values | None = None) -> bytes:
    """The answer file of one instance.  Each ``{name}`` of the values is replaced, and escaped where the file is XML.

    ``users`` and ``network`` are the values of the parts for each user and for static addresses.
    """
    is_xml = file.name.lower().endswith(".xml")

    def filled(template: str, given: Values, parts: Values) -> str:
        def replaced(found: re.Match[str]) -> str:
            if found[1] in parts:
                return parts[found[1]]
            value = given.get(found[1])
            # In any other form a line that is begun in a value could say something else.
            return found[0] if value is None else escape(value) if is_xml else " ".join(value.splitlines())

        return re.sub(r"\{([a-z_]+)\}", replaced, template)

    parts = {
        "users": "".join(filled(file.user, {**values, **user}, {}) for user in users),
        "network": filled(file.network, {**values, **network}, {}) if network is not None else "",
    }
    return filled(file.template, values, parts).encode()


def names_answered(file: AnswerFile) -> frozenset[str]:
    """What an answer file names; ``users`` and ``network`` where it has a part for them."""
    found = set(re.findall(r"\{([a-z_]+)\}", file.template))
    return frozenset(found - ({"users"} if not file.user else set()) - ({"network"} if not file.network else set()))
