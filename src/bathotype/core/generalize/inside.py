"""Shell scripts that carry out a plan inside a booted guest; plain POSIX sh and what every Linux guest has."""

from __future__ import annotations

import os
import shlex
from collections.abc import Iterable

_ROOM = "/dev/disk/by-id/virtio-"


def prepare_script() -> str:
    """Wait until the guest has booted, and make it write as little as possible by itself from then on."""
    return (
        "timeout 400 systemctl is-system-running --wait >/dev/null 2>&1 || true\n"
        "journalctl --relinquish-var >/dev/null 2>&1 || true\n"
        "for unit in rsyslog cron systemd-random-seed systemd-timesyncd; do\n"
        "  systemctl stop $unit.service >/dev/null 2>&1 || true\n"
        "done\nswapoff -a 2>/dev/null || true\n"
    )


def tar_script(room: str) -> str:
    """Write the guest's own files, those on its mounted data disks too, as a tar archive to the disk with the serial
    ``room``."""
    device = shlex.quote(f"{_ROOM}{room[:20]}")
    return (
        "set -e\nsync\n"
        # File systems on disks, each once, the root first; those without a disk hold nothing that a capture takes.
        "points=$(awk '$1 ~ \"^/dev/\" {print $2}' /proc/mounts | sort -u | sed 's,^/,./,')\n"
        f"tar --create --one-file-system --numeric-owner --sort=name --warning=no-file-changed "
        f"--file={device} -C / $points 2>/dev/null || [ $? -eq 1 ]\n"
        f"sync {device}\nblockdev --flushbufs {device}\n"
    )


def mounted_script(disk: str) -> str:
    """Succeeds where something of the data disk with the serial ``disk`` is mounted, or swapped to."""
    device = shlex.quote(f"{_ROOM}{disk[:20]}")
    return f"lsblk --noheadings --raw --output MOUNTPOINT {device} | grep -q ."


def change_script(removed: str, written: str) -> str:
    """Remove the paths that a file lists, and replace the content of files, keeping owner and mode of those that are there;
    then give free space back, so that it reads as zeros.

    The lists are files in the guest (see `listed`): no name of the guest's becomes a part of the script.  ``written`` lists a
    file's new content and the file in turn.
    """
    return (
        "set -e\n"
        f"xargs -0 -r rm -rf -- < {shlex.quote(removed)}\n"
        f'xargs -0 -r -n 2 sh -c \'cat -- "$1" > "$2"\' sh < {shlex.quote(written)}\n'
        "sync\nfstrim -a 2>/dev/null || fstrim / 2>/dev/null || true\nsync\n"
    )


def listed(paths: Iterable[str]) -> bytes:
    """Paths as ``xargs -0`` reads them."""
    return b"".join(os.fsencode(path) + b"\0" for path in paths)
