"""The hashes of names in large folders, beside those that debugfs works out."""

from __future__ import annotations

import re
import subprocess
import uuid
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bathotype.core.disk.ext4.hashes import HALF_MD4, LEGACY, TEA, UNSIGNED, name_hash

# debugfs has no names for those whose characters are unsigned.
KINDS = {
    "legacy": LEGACY,
    "half_md4": HALF_MD4,
    "tea": TEA,
    "HASHALG_3": LEGACY + UNSIGNED,
    "HASHALG_4": HALF_MD4 + UNSIGNED,
    "HASHALG_5": TEA + UNSIGNED,
}
# debugfs reads its commands as a shell does: no spaces, quotes or characters that lead a line astray.
NAMES = st.text(st.characters(codec="utf-8", categories=("L", "N"), include_characters="-_.~+"), min_size=1).filter(
    lambda name: len(name.encode()) <= 255 and not name.startswith("-")
)


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=4)
@given(names=st.lists(NAMES, min_size=30, max_size=60), seed=st.uuids(allow_nil=True))
def test_a_name_has_the_hash_that_debugfs_tells(
    tmp_path_factory: pytest.TempPathFactory, kind: str, names: list[str], seed: uuid.UUID
) -> None:
    script: Path = tmp_path_factory.mktemp("names") / "asked"
    script.write_text("".join(f"dx_hash -h {kind} -s {seed} {name}\n" for name in names))
    done = subprocess.run(["debugfs", "-f", str(script)], capture_output=True, text=True, check=True)
    told = [int(found, 16) for found in re.findall(r"^Hash of .* is (0x[0-9a-f]+) ", done.stdout, re.MULTILINE)]
    assert [name_hash(name.encode(), KINDS[kind], seed.bytes) for name in names] == told
