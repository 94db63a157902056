"""A modelled installer: a medium that holds a system lays it down on a blank disk, by what the answer volume says.

The medium is ISO 9660 with one file, the system's disk packed by gzip.  The answers are ``answers.yaml``: ``host-name``.
"""

from __future__ import annotations

import gzip
import io
import os
from pathlib import Path
from typing import Any

import pycdlib
import yaml

from standin.disks import copy_raw, create_raw
from standin.guestfiles import Edits, GuestFiles

_SYSTEM, _ANSWERS = "/system.img.gz", "/answers.yaml"
_PIECE = 1024 * 1024


def make_medium(system: Path, target: Path) -> None:
    """A medium that installs the system on a raw disk."""
    packed = gzip.compress(system.read_bytes(), 1)
    iso = pycdlib.PyCdlib()
    iso.new(interchange_level=3, joliet=3, vol_ident="INSTALLER")
    iso.add_fp(io.BytesIO(packed), len(packed), "/SYSTEM.;1", joliet_path=_SYSTEM)
    iso.write(str(target))
    iso.close()


def is_blank(path: Path) -> bool:
    """Whether nothing was ever written to a disk."""
    with path.open("rb") as file:
        try:
            os.lseek(file.fileno(), 0, os.SEEK_DATA)
        except OSError:
            return True
    return False


def install(boot: Path, medium: Path, volume: bytes | None) -> list[str]:
    """Lay the system down, as large as the disk is; returns console lines.  Raises `OSError` where it cannot."""
    answers = _answers(volume)
    system = boot.with_suffix(".installed")
    try:
        size = boot.stat().st_size
        create_raw(system, size)
        with system.open("r+b") as file, gzip.open(io.BytesIO(_read(medium.read_bytes(), _SYSTEM))) as packed:
            at = 0
            while piece := packed.read(_PIECE):
                if at + len(piece) > size:
                    raise OSError("the disk is too small for the system")
                if any(piece):
                    os.pwrite(file.fileno(), piece, at)
                at += len(piece)
        files = GuestFiles(system)
        grown = files.grow()
        edits = Edits()
        edits.write("/etc/hostname", f"{answers.get('host-name', 'installed')}\n")
        files.change(edits)
        copy_raw(system, boot)
    finally:
        system.unlink(missing_ok=True)
    return ["installer: the system is laid down", *([grown] if grown else []), "installer: done, power off"]


def _answers(volume: bytes | None) -> dict[str, Any]:
    if volume is None:
        raise OSError("installer: there are no answers, and nobody is here to ask")
    found = yaml.safe_load(_read(volume, _ANSWERS))
    return found if isinstance(found, dict) else {}


def _read(volume: bytes, path: str) -> bytes:
    iso = pycdlib.PyCdlib()
    try:
        iso.open_fp(io.BytesIO(volume))
        out = io.BytesIO()
        iso.get_file_from_iso_fp(out, joliet_path=path)
        return out.getvalue()
    except pycdlib.pycdlibexception.PyCdlibException as error:
        raise OSError(f"installer: {path} cannot be read: {error}") from error
