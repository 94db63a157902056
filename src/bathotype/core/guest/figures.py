"""How busy a Linux guest is: processor, memory, disk and network, from the counters that its kernel keeps.

The files are those of proc(5): ``/proc/stat``, ``/proc/meminfo``, ``/proc/diskstats``, ``/proc/net/dev``.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from bathotype.core.expressions import for_text

FILES = ("/proc/stat", "/proc/meminfo", "/proc/diskstats", "/proc/net/dev")
_SECTOR = 512
#: Counters are at most so large; more is not the kernel's.
_MOST = 1 << 62
_PROCESSOR = for_text(r"(?m)^cpu((?: +[0-9]{1,19}){7,12})")
_MEMORY = for_text(r"(?m)^(MemTotal|MemAvailable): +([0-9]{1,15}) kB")
# Whole disks alone: a partition's bytes are its disk's too.
_DISK = for_text(
    r"(?m)^ *[0-9]+ +[0-9]+ (?:[vsx]v?d[a-z]{1,2}|nvme[0-9]+n[0-9]+|mmcblk[0-9]+) ((?:[0-9]{1,19} ){6}[0-9]{1,19})"
)
_CARD = for_text(r"(?m)^ *([^: \n]{1,32}): *([0-9]{1,19})((?: +[0-9]{1,19}){7}) +([0-9]{1,19})")


@dataclass(frozen=True)
class Counters:
    """What the kernel has counted since the guest started: processor time in ticks, bytes of disks and network."""

    busy: int
    ticks: int
    memory_used: int
    memory: int
    read: int
    written: int
    received: int
    sent: int


@dataclass(frozen=True)
class Figure:
    """How busy a guest was in the ``seconds`` before a moment: share of its processors, bytes of memory in use, and bytes
    a second from and to disks and network."""

    seconds: float
    processor: float
    memory_used: int
    memory: int
    read: float
    written: float
    received: float
    sent: float


def read_counters(texts: Mapping[str, str]) -> Counters | None:
    """The counters in the texts of `FILES`; None where they are not what a kernel writes."""
    processor = _PROCESSOR.search(texts.get("/proc/stat", ""))
    memory = {m[1]: int(m[2]) * 1024 for m in _MEMORY.finditer(texts.get("/proc/meminfo", ""))}
    if processor is None or len(memory) < 2:
        return None
    ticks = [int(word) for word in processor[1].split()]
    disks = [[int(word) for word in m[1].split()] for m in _DISK.finditer(texts.get("/proc/diskstats", ""))]
    cards = [m for m in _CARD.finditer(texts.get("/proc/net/dev", "")) if m[1] != "lo"]
    found = Counters(
        # user, nice, system, idle, iowait, irq, softirq, steal; a guest's guests are in user already
        busy=sum(ticks[:8]) - ticks[3] - ticks[4],
        ticks=sum(ticks[:8]),
        memory_used=max(memory["MemTotal"] - memory["MemAvailable"], 0),
        memory=memory["MemTotal"],
        read=sum(disk[2] for disk in disks) * _SECTOR,
        written=sum(disk[6] for disk in disks) * _SECTOR,
        received=sum(int(card[2]) for card in cards),
        sent=sum(int(card[4]) for card in cards),
    )
    return found if max(vars(found).values()) < _MOST else None


def between(before: Counters, after: Counters, seconds: float) -> Figure | None:
    """How busy the guest was between two looks; None where it started anew meanwhile, or too little time has passed."""
    ticks = after.ticks - before.ticks
    moved = [getattr(after, name) - getattr(before, name) for name in ("read", "written", "received", "sent")]
    if ticks <= 0 or seconds <= 0 or min(*moved, after.busy - before.busy) < 0:
        return None
    share = min((after.busy - before.busy) / ticks, 1.0)
    rates = [round(count / seconds, 1) for count in moved]
    return Figure(round(seconds, 2), round(share, 4), after.memory_used, after.memory, *rates)
