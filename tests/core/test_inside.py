"""Scripts that change a booted clone: names are lists beside them, whatever is in a name."""

from __future__ import annotations

import subprocess
from pathlib import Path

from bathotype.core.generalize.inside import change_script, listed


def test_no_name_is_a_part_of_the_script(tmp_path: Path) -> None:
    odd = ["plain", "two words", "-rf", "$(touch bad)", "`touch bad`", "a'b\"c", "new\nline", "\udcff\udcfe", "*", "~"]
    tree = tmp_path / "tree"
    (tree / "keep").mkdir(parents=True)
    for name in odd:
        (tree / name).write_bytes(b"old")
        (tree / "keep" / name).write_bytes(b"old")
    (tmp_path / "new").write_bytes(b"new")
    pairs = [word for name in odd for word in (str(tmp_path / "new"), str(tree / "keep" / name))]
    (tmp_path / "removed").write_bytes(listed(str(tree / name) for name in odd))
    (tmp_path / "written").write_bytes(listed(pairs))
    script = change_script(str(tmp_path / "removed"), str(tmp_path / "written"))
    (tmp_path / "script").write_text(script.partition("sync\n")[0])
    subprocess.run(["/bin/sh", str(tmp_path / "script")], check=True, cwd=tree)
    assert [path.name for path in tree.iterdir()] == ["keep"]
    assert {path.name: path.read_bytes() for path in (tree / "keep").iterdir()} == dict.fromkeys(odd, b"new")
    (tmp_path / "removed").write_bytes(b"")
    (tmp_path / "written").write_bytes(b"")
    subprocess.run(["/bin/sh", str(tmp_path / "script")], check=True, cwd=tree)
    assert len(list((tree / "keep").iterdir())) == len(odd), "nothing to do is nothing done"
