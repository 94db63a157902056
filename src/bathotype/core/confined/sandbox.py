"""Running a program on what an enemy may have written: alone, for so long and with so much memory.

By bubblewrap: namespaces of its own (no network, no other process), no capabilities, and of the host's files only ``/usr``
and what is named, to be read.  Limits are set by ``prlimit`` (util-linux).
"""

from __future__ import annotations

import shutil
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path

import bathotype
from bathotype.core.errors import Refused, Unavailable

_SECONDS, _FILES = 600, 64
MEMORY = 4 * 1024**3
#: Where a tool sees the file.
DISK = "/disk"


def walled(
    argv: Iterable[str], *, seconds: int, binds: Iterable[str] = (), environment: Iterable[str] = ()
) -> list[str]:
    """The command that runs another behind the walls, for so many seconds of processor time at most.

    ``binds`` and ``environment`` are more arguments of bubblewrap.  Raises `Refused` where something is not installed.
    """
    return [
        tool("prlimit"), f"--as={MEMORY}", f"--cpu={seconds}", f"--nofile={_FILES}", "--core=0",
        tool("bwrap"), "--unshare-all", "--die-with-parent", "--new-session", "--cap-drop", "ALL",
        "--uid", "65534", "--gid", "65534", "--clearenv", *environment,
        "--ro-bind", "/usr", "/usr", "--symlink", "usr/lib", "/lib", "--symlink", "usr/lib64", "/lib64",
        "--dev", "/dev", *binds, *argv,
    ]  # fmt: skip


def python(*argv: str, seconds: int) -> list[str]:
    """The command that runs our Python behind the walls, where it finds our own modules."""
    ours = {Path(sys.prefix), Path(sys.base_prefix), Path(bathotype.__file__).parent.parent}
    shown = sorted(str(place) for place in ours if not place.is_relative_to("/usr"))
    return walled(
        [sys.executable, "-I", *argv],
        seconds=seconds,
        binds=[word for place in shown for word in ("--ro-bind", place, place)],
        # One thread: many would each reserve memory, of which there is a limit.
        environment=["--setenv", "OPENBLAS_NUM_THREADS", "1", "--setenv", "LANG", "C.UTF-8"],
    )


def run_on(disk: Path, argv: list[str], *, writable: bool = False) -> subprocess.CompletedProcess[str]:
    """Run a tool of ``/usr`` that finds the file as `DISK`.

    Raises `Unavailable` where it does not end in time, and `Refused` where something needed is not installed.
    """
    bind = ("--bind" if writable else "--ro-bind", str(disk), DISK)
    command = walled([tool(argv[0]), *argv[1:]], seconds=_SECONDS, binds=bind)
    try:
        return subprocess.run(command, capture_output=True, text=True, errors="replace", timeout=_SECONDS, check=False)
    except subprocess.TimeoutExpired as error:
        raise Unavailable(f"{argv[0]} did not end within {_SECONDS} s.") from error


#: What is needed, and the packages of Debian in which it is.
PACKAGES = {"e2fsck": "e2fsprogs", "bwrap": "bubblewrap", "prlimit": "util-linux"}


def tools_missing() -> list[str]:
    """Which of the tools are not installed."""
    return [name for name in PACKAGES if _find(name) is None]


def _find(name: str) -> str | None:
    return shutil.which(name, path="/usr/sbin:/usr/bin")


def tool(name: str) -> str:
    """Where a tool is."""
    path = _find(name)
    if path is None:
        raise Refused(f"{name} is not installed here.", advice=f"Install Debian's package {PACKAGES.get(name, name)}.")
    return path
