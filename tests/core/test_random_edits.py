"""Five hundred random sequences of edits, over the features of ext2, ext3 and ext4 (`tests.fuzz.edits` makes more)."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import pytest

from tests.fuzz.edits import KINDS, hostile, sequence


@pytest.mark.parametrize("kind", KINDS)
def test_edits_end_in_a_clean_file_system_that_holds_what_was_meant(kind: str, tmp_path: Path) -> None:
    for seed in range(20):
        sequence(kind, seed, tmp_path, kernel=seed % 4 == 0)


@pytest.mark.parametrize("kind", ["ext3", "32 bits, no checksums", "oldest hash", "inline without checksums"])
def test_a_damaged_file_system_gives_documented_errors(kind: str, tmp_path: Path) -> None:
    ends = Counter(hostile(kind, seed, tmp_path) for seed in range(25))
    assert ends["damaged"], "some of the damage is in the way"
