"""Readers of foreign bytes: sound data of which some bytes are changed give documented errors and nothing else."""

from __future__ import annotations

import random
import subprocess
import sys

import pytest

from tests.fuzz.corpus import kept
from tests.fuzz.readers import READERS, fed


@pytest.mark.parametrize("reader", READERS)
def test_changed_bytes_give_documented_errors(reader: str) -> None:
    chance = random.Random(reader)
    for data in kept(reader):
        fed(reader, data)
    for _ in range(80):
        fed(reader, chance.randbytes(chance.randrange(8, 100)))


def test_a_coverage_guided_fuzzer_finds_nothing() -> None:
    pytest.importorskip("atheris")
    command = [sys.executable, "-m", "tests.fuzz", "formats", "8"]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0 and "Done" in done.stderr, done.stderr[-3000:]
