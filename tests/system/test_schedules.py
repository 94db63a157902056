"""Saved sheets on real processes: lines that are built on each other follow a release by themselves."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from tests.support import System, until

SHEET = """\
sheet: {name}
base: {base}
payload: {{note: {{file: note.txt}}}}
steps:
- {{id: note, do: put-file, payload: note, to: /etc/{name}.txt}}
checks:
- {{id: note, is: file, path: /etc/{name}.txt, contains: "made up"}}
result: {{line: {name}, bump: minor, release: true}}
when: {{after_base: true}}
"""


def test_lines_follow_their_bases_release_one_after_another(system: System, cli: Any, tmp_path: Path) -> None:
    (tmp_path / "note.txt").write_text("made up for the test\n")
    system.captured("sandbank", number="1.0.0")
    with system.core as client:
        for name, base in (("shallows", "sandbank"), ("shoreline", "shallows")):
            client.create_line(name)
            client.demand(name, proven_first=True)
            sheet = tmp_path / f"{name}.yaml"
            sheet.write_text(SHEET.format(name=name, base=base))
            for verb in ("lock", "save"):
                done = cli("sheets", verb, str(sheet), *(("--region", "skerry-1") if verb == "save" else ()))
                assert done.returncode == 0, done.stderr
        system.captured("sandbank", machine="gauge-seed-01", bump="minor")
        system.kill("worker")  # whatever it had begun
        system.revive()
        until(lambda: [v.state for v in client.versions("shoreline")] == ["released"], seconds=180)
        [shallows], [shoreline] = client.versions("shallows"), client.versions("shoreline")
        assert (shallows.parent, shoreline.parent) == ("sandbank@1.1.0", "shallows@1.0.0")
        ended = {"succeeded", "failed", "cancelled"}
        until(lambda: {r.state for r in client.builds() if r.sheet in ("shallows", "shoreline")} <= ended, seconds=60)
        runs = [r for r in client.builds() if r.sheet in ("shallows", "shoreline")]
        assert [(r.sheet, r.cause, r.state, r.saved_number) for r in runs] == [
            ("shoreline", "base", "succeeded", 1),
            ("shallows", "base", "succeeded", 1),
        ]
        lineage = client.lineage("sandbank")
        assert [(built.reference, built.behind) for built in lineage.built] == [
            ("shallows@1.0.0", False),
            ("shoreline@1.0.0", False),
        ]
    shown = json.loads(cli("sheets", "show", "shoreline", "--json").stdout)
    assert shown["runs"][0]["reference"] == "shoreline@1.0.0" and shown["after_base"]
