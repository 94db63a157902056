"""What the settings make by themselves."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from bathotype.service.settings import _secret


def test_threads_that_need_the_secret_for_the_first_time_get_one(tmp_path: Path) -> None:
    for number in range(20):
        path, gate = tmp_path / f"{number}.secret", threading.Barrier(4)

        def take(_: int, path: Path = path, gate: threading.Barrier = gate) -> bytes:
            gate.wait()
            return _secret.__wrapped__(path)

        with ThreadPoolExecutor(4) as pool:
            assert len(set(pool.map(take, range(4)))) == 1
    assert len(list(tmp_path.iterdir())) == 20
