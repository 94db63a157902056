"""Runs inside the lab guest: cloud-init's stages, each in a process forked from one that has loaded cloud-init.

Debian's units start Python anew for each of cloud-init's four stages.  Under software emulation loading takes several
times as long as what the stages do, so it happens once a boot here.  The stages are cloud-init's own, with their own
arguments and a process each.  `labguest` puts this file and its units into the guest; the stand-in does not import it.
"""

from __future__ import annotations

import gc
import os
import sys
from pathlib import Path

# What is loaded stays: looking for garbage among it costs each stage a copy of all of it.
gc.disable()

from cloudinit.cmd.main import main  # noqa: E402

gc.freeze()
gc.enable()
FOLDER = Path("/run/lab-stages")
ASKED, ENDED, SERVER = FOLDER / "asked", FOLDER / "ended", FOLDER / "server"
LAST = "--mode=final"


def stage(arguments: list[str]) -> int:
    """Run a stage in a process of its own; returns its exit code."""
    child = os.fork()
    if child == 0:
        sys.exit(main(["/usr/bin/cloud-init", *arguments]))
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


def serve() -> None:
    """Run the stages that the units of this boot ask for, one after another, up to the last."""
    SERVER.write_text(str(os.getpid()))
    arguments: list[str] = []
    while LAST not in arguments:
        arguments = ASKED.read_text().split()
        ENDED.write_text(f"{stage(arguments)}\n")
    ASKED.unlink()


if __name__ == "__main__":
    FOLDER.mkdir(exist_ok=True)
    for pipe in (ASKED, ENDED):
        pipe.unlink(missing_ok=True)
        os.mkfifo(pipe, 0o600)
    if os.fork() == 0:
        os.setsid()
        serve()
    else:
        sys.exit(main(["/usr/bin/cloud-init", "init", "--local"]))
