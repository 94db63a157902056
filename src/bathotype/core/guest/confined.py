"""Running a system tool on a disk that an enemy may have written: alone with that file, for so long and with so much memory.

By bubblewrap: namespaces of its own (no network, no other process), no capabilities, and of the host's files only ``/usr``, to
be read.  Limits are set by ``prlimit`` (util-linux).
"""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

from bathotype.core.errors import Refused, Unavailable

_SECONDS, _MEMORY, _FILES = 600, 4 * 1024**3, 64
#: Where the tool sees the file.
DISK = "/disk"
_SYSTEM = (
    "--ro-bind",
    "/usr",
    "/usr",
    "--symlink",
    "usr/lib",
    "/lib",
    "--symlink",
    "usr/lib64",
    "/lib64",
    "--dev",
    "/dev",
)


def run_on(disk: Path, argv: list[str], *, writable: bool = False) -> subprocess.CompletedProcess[str]:
    """Run a tool of ``/usr`` that finds the file as `DISK`.

    Raises `Unavailable` where it does not end in time, and `Refused` where something needed is not installed.
    """
    command = [
        tool("prlimit"), f"--as={_MEMORY}", f"--cpu={_SECONDS}", f"--nofile={_FILES}", "--core=0",
        tool("bwrap"), "--unshare-all", "--die-with-parent", "--new-session", "--cap-drop", "ALL",
        "--uid", "65534", "--gid", "65534", "--clearenv", *_SYSTEM,
        "--bind" if writable else "--ro-bind", str(disk), DISK, tool(argv[0]), *argv[1:],
    ]  # fmt: skip
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
        raise Refused(
            f"{name} is not installed on the worker.", advice=f"Install Debian's package {PACKAGES.get(name, name)}."
        )
    return path
