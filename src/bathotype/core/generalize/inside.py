"""Shell scripts that carry out a plan inside a booted guest; plain POSIX sh and what every Linux guest has."""

from __future__ import annotations

import shlex

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
    """Write the guest's own files as a tar archive to the data disk with the serial ``room``."""
    device = shlex.quote(f"{_ROOM}{room[:20]}")
    return (
        "set -e\nsync\n"
        # File systems on disks, each once, the root first; those without a disk hold nothing that a capture takes.
        "points=$(awk '$1 ~ \"^/dev/\" {print $2}' /proc/mounts | sort -u | sed 's,^/,./,')\n"
        f"tar --create --one-file-system --numeric-owner --sort=name --warning=no-file-changed "
        f"--file={device} -C / $points 2>/dev/null || [ $? -eq 1 ]\n"
        f"sync {device}\nblockdev --flushbufs {device}\n"
    )


def change_script(removed: list[str], written: dict[str, str]) -> str:
    """Remove paths and replace the content of files (``written``: path → where its new content lies), keeping
    owner and mode of those that are there; then give free space back, so that it reads as zeros."""
    lines = ["set -e"]
    lines += [f"rm -rf -- {shlex.quote(path)}" for path in sorted(removed)]
    for path, new in sorted(written.items()):
        lines.append(f"cat {shlex.quote(new)} > {shlex.quote(path)}")
    lines += ["sync", "fstrim -a 2>/dev/null || fstrim / 2>/dev/null || true", "sync"]
    return "\n".join(lines) + "\n"
