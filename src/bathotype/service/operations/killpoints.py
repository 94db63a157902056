"""Kill points: a test setting by which a process kills itself at a named point of a named step.

``BATHOTYPE_KILL_FILE`` names a file.  While the file exists and holds ``KIND STEP POINT...``, the process that reaches one
of the points removes the file and then sends itself SIGKILL: nothing is flushed, closed or given back.  Points of every step are
``begin`` (nothing is done yet), ``progress`` (its first report of progress) and ``done`` (everything is done, and not
recorded yet); ``clean_up`` counts as a step.
"""

from __future__ import annotations

import os
import signal
from pathlib import Path


def reached(file: Path | None, kind: str, step: str, point: str) -> None:
    """Die here if the kill file says so."""
    if file is None:
        return
    try:
        wanted = file.read_text().split()
    except FileNotFoundError:
        return
    if wanted[:2] == [kind, step] and point in wanted[2:]:
        file.unlink()
        os.kill(os.getpid(), signal.SIGKILL)
