"""A small read-only volume with files: ISO 9660 with Rock Ridge and Joliet names, written by pycdlib."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping

import pycdlib

_SHORT = re.compile(r"[a-z-]{1,30}")


def volume_of(label: str, files: Mapping[str, bytes]) -> bytes:
    """The bytes of a volume with files in its root, small enough to keep in memory."""
    iso = pycdlib.PyCdlib()
    iso.new(interchange_level=3, joliet=3, rock_ridge="1.09", vol_ident=label)
    try:
        for number, (name, data) in enumerate(files.items()):
            short = name.upper().replace("-", "_") if _SHORT.fullmatch(name) else f"FILE{number}"
            iso.add_fp(io.BytesIO(data), len(data), f"/{short}.;1", rr_name=name, joliet_path=f"/{name}")
        out = io.BytesIO()
        iso.write_fp(out)
        return out.getvalue()
    finally:
        iso.close()
