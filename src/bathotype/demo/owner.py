"""The user as whom the demo's service runs: a system user of its own where root starts the demo."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import sys
from pathlib import Path

#: Made by the Makefile's set-up.
USER = "bathotype"


def service_user(data: Path) -> str | None:
    """Who runs the service; None for whoever runs the demo.

    That is so where the demo is not started by root, and where the other user cannot reach the program or the data.
    """
    if os.geteuid() != 0:
        return None
    try:
        entry = pwd.getpwnam(USER)
    except KeyError:
        return None
    look = f"import os, bathotype.service.settings; os.stat({str(data / '.')!r})"
    try:
        done = subprocess.run(
            [sys.executable, "-c", look],
            user=entry.pw_uid,
            group=entry.pw_gid,
            extra_groups=[],
            cwd="/",
            capture_output=True,
            check=False,
        )
    except PermissionError:
        return None
    return USER if done.returncode == 0 else None


def hand_over(user: str | None, *places: Path) -> None:
    """Give files, and folders with all that is in them, to the user of the service."""
    if user is None:
        return
    entry = pwd.getpwnam(user)
    for place in places:
        if place.stat().st_uid != entry.pw_uid:
            for path in (place, *(place.rglob("*") if place.is_dir() else ())):
                shutil.chown(path, entry.pw_uid, entry.pw_gid)
