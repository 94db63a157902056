"""Whether a system's own preparation tool has run on a disk: what its marker says.  And its answer file for one instance."""

from __future__ import annotations

import re
from collections.abc import Mapping
from html import escape

from bathotype.core.disk.ext4.filesystem import Ext4
from bathotype.core.disk.layout import Layout
from bathotype.core.disk.ntfs import Ntfs
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
        return Ntfs(window).read_file(path, most=_MOST_MARKER)
    if filesystem == "ext4":
        fs = Ext4(window)
        inode = fs.lookup(path)
        return fs.read(inode, most=_MOST_MARKER) if inode is not None and inode.is_file else None
    return None


def answers_for(file: AnswerFile, values: Mapping[str, str]) -> bytes:
    """The answer file of one instance.  Each ``{name}`` of the values is replaced, and escaped where the file is XML."""
    is_xml = file.name.lower().endswith(".xml")

    def replaced(found: re.Match[str]) -> str:
        value = values.get(found[1])
        return found[0] if value is None else escape(value) if is_xml else value

    return re.sub(r"\{([a-z_]+)\}", replaced, file.template).encode()
