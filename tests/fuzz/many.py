"""So many random inputs for a reader, as fast as it goes: none may crash it, hold it up, or take memory without bound."""

from __future__ import annotations

import random
import resource
import time
from collections.abc import Callable

#: What one input may take, in seconds of processor time since others may work beside it, and what all may take of memory,
#: in MiB.
MOST_SECONDS, MOST_MIB = 20.0, 2048


def many(name: str, count: int, feed: Callable[[str, bytes], None]) -> str:
    """Feed a reader; returns what was seen.  Raises what it raises, with the input before."""
    chance, longest, began = random.Random(f"{name} {count}"), 0.0, time.process_time()
    for number in range(count):
        data = chance.randbytes(chance.randrange(8, 100))
        before = time.process_time()
        try:
            feed(name, data)
        except BaseException:
            print(f"input {number}: {data.hex()}")
            raise
        longest = max(longest, time.process_time() - before)
        if longest > MOST_SECONDS:
            raise AssertionError(f"input {number} took {longest:.1f} s: {data.hex()}")
    mib = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    assert mib < MOST_MIB, f"{mib} MiB"
    seconds = time.process_time() - began
    return (
        f"{name}: {count} inputs in {seconds:.0f} s of processor time, the longest {longest:.2f} s, at most {mib} MiB"
    )
