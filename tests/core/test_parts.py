"""Parts of build sheets: steps that several sheets include, each with its own values."""

from __future__ import annotations

from pathlib import Path

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.sheets.gathering import Gathered, gathered
from bathotype.core.sheets.lock import payload_files
from bathotype.core.sheets.reading import read_part, read_sheet
from bathotype.core.sheets.sheet import PartSource
from bathotype.core.sheets.steps import InstallPackages, PutFile, RunScript

SHEET = """\
sheet: outer-loggers
base: gauge-collector
parameters:
  station: {type: text, allowed: [harbour, outer]}
  agent: {type: boolean, default: true}
payload:
  settings: {file: logger.conf}
parts:
  tide-agent: {file: parts/agent.yaml}
steps:
  - {id: settings, do: put-file, payload: settings, to: /etc/tide/logger.conf}
  - {id: first, do: include, part: tide-agent, values: {station: "{station}"}, only_if: {agent: true}}
  - {id: second, do: include, part: tide-agent, values: {station: mole, quiet: true}}
result: {line: outer-loggers, bump: minor}
"""
_NAMES = ["part", "parts", "steps", "checks", "payload", "parameters", "values", "id", "do", "file", "saved", "sheet"]
AGENT = """\
part: tide-agent
parameters:
  station: {type: text, allowed: [harbour, outer, mole]}
  quiet: {type: boolean, default: false}
payload:
  package: {file: tide-agent.deb}
  settings: {file: ../agent.conf}
steps:
  - {id: install, do: install-packages, files: [package]}
  - {id: settings, do: put-file, payload: settings, to: "/etc/{station}.conf"}
  - {id: chatter, do: run-script, script: "echo {station}", environment: {STATION: "{station}"}, only_if: {quiet: false}}
checks:
  - {id: agent, is: service, service: tide-agent}
""".replace("../agent.conf", "agent.conf")


def both(sheet: str = SHEET, part: str = AGENT) -> Gathered:
    def read(_: str, source: PartSource) -> tuple[str, str] | None:
        return (source.file, part) if source.file else None

    return gathered(sheet, "sheet.yaml", read)


def told(found: Gathered, **values: object) -> list[str]:
    faults = [found.origin(fault) for fault in read_sheet(found.text, values or None).faults]
    return [f"{name}:{fault.line}: {fault.message}" for name, fault in faults]


def test_a_part_does_its_steps_where_it_is_included() -> None:
    checked = read_sheet(both().text, {"station": "outer"})
    sheet = checked.need()
    assert [step.id for step in sheet.steps] == [
        "settings", "first-install", "first-settings", "first-chatter",
        "second-install", "second-settings", "second-chatter",
    ]  # fmt: skip
    _, install, put, chatter, _, second, _ = sheet.steps
    assert isinstance(install, InstallPackages) and install.files == ["first-package"]
    assert isinstance(put, PutFile) and (put.payload, put.to) == ("first-settings", "/etc/outer.conf")
    assert isinstance(chatter, RunScript) and chatter.script == "echo {station}"
    assert chatter.environment == {"STATION": "outer"}
    assert isinstance(second, PutFile) and second.to == "/etc/mole.conf"
    assert checked.skipped == {"second-chatter"}
    assert {name: about.file for name, about in sheet.payload.items()} == {
        "settings": "logger.conf",
        "first-package": "parts/tide-agent.deb", "first-settings": "parts/agent.conf",
        "second-package": "parts/tide-agent.deb", "second-settings": "parts/agent.conf",
    }  # fmt: skip
    assert [check.id for check in sheet.checks] == ["first-agent", "second-agent"]
    without = read_sheet(both().text, {"station": "outer", "agent": False})
    assert {"first-install", "first-settings"} <= without.skipped
    assert [check.id for check in without.need().checks] == ["second-agent"], "what was not done is not judged"
    assert checked.digest != read_sheet(both(part=AGENT + "# new\n").text, {"station": "outer"}).digest


def test_a_sheet_is_judged_without_values_that_only_a_run_has() -> None:
    assert told(both()) == []
    assert told(both(), station="harbour") == []
    found = read_sheet(both().text, {"agent": False}, partly=True)
    assert found.faults == () and "first-install" in found.skipped


@pytest.mark.parametrize(
    ("sheet", "part", "why"),
    [
        (("part: tide-agent, values: {station: mole", "part: agent, values: {station: mole"), ("", ""),
         "sheet.yaml:13: `parts` has no 'agent'."),
        (("station: mole", "station: quay"), ("", ""),
         "sheet.yaml:13: The given value cannot be taken: 'quay' is not one of harbour, outer, mole."),
        (("station: mole, ", ""), ("", ""), "sheet.yaml:13: It has no default: give it a value."),
        (("station: mole", "station: mole, pier: 9"), ("", ""),
         "sheet.yaml:13: A value is given for pier, which is no parameter."),
        (("id: second", "id: first"), ("", ""), "sheet.yaml:13: Two steps are called first."),
        (("id: settings, do", "id: first-install, do"), ("", ""), "sheet.yaml:12: Two steps are called first-install."),
        (("", ""), ("id: chatter", f"id: {'c' * 60}"), f"sheet.yaml:12: first-{'c' * 60} is longer than 63 characters."),
        (("parts/agent.yaml}", "parts/agent.yaml}\n  other: {saved: newest}"), ("", ""),
         "sheet.yaml:10: No step includes it: remove it, or add the step."),
        (("", ""), ("files: [package]", "files: [pakage]"), "parts/agent.yaml:9: There is no 'pakage' in the payload."),
        (("", ""), ("service: tide-agent", "servise: tide-agent"), "parts/agent.yaml:13: There is nothing of this name here."),
        (("", ""), ("part: tide-agent", "part: harbour-agent"),
         "parts/agent.yaml:1: A part begins with `part:` and a name that the sheet's `parts` has."),
        (("", ""), ("do: install-packages, files: [package]", "do: include, part: tide-agent"),
         "parts/agent.yaml:9: There is no 'include'"),
        (("file: parts/agent.yaml", "file: ../agent.yaml"), ("", ""), "sheet.yaml:9: '../agent.yaml' must be a path"),
    ],
)  # fmt: skip
def test_faults_are_told_where_they_are(sheet: tuple[str, str], part: tuple[str, str], why: str) -> None:
    found = told(both(SHEET.replace(*sheet, 1), AGENT.replace(*part, 1)), station="outer")
    assert any(fault.startswith(why) for fault in found), found


def test_no_file_of_a_part_takes_the_place_of_another() -> None:
    sheet = SHEET.replace("  settings: {file", "  first-settings: {file").replace(
        "payload: settings", "payload: first-settings"
    )
    assert told(both(sheet), station="outer") == ["sheet.yaml:12: Two files of the payload are called first-settings."]


def test_a_part_that_is_kept_in_the_service_may_be_missing_here() -> None:
    text = SHEET.replace("{file: parts/agent.yaml}", "{saved: 3}")
    assert told(both(text), station="outer") == ["sheet.yaml:12: The part tide-agent is not with the sheet.",
                                                 "sheet.yaml:13: The part tide-agent is not with the sheet."]  # fmt: skip
    assert [s.id for s in read_sheet(text, {"station": "outer"}, here_alone=True).need().steps] == ["settings"]
    kept = read_sheet(f"{text}---\n{AGENT}", {"station": "outer"}).need()
    assert {*kept.payload} == {"settings", "first-package", "first-settings", "second-package", "second-settings"}


def test_only_what_lies_beside_the_sheet_is_looked_for(tmp_path: Path) -> None:
    (tmp_path / "logger.conf").write_text("interval = 60\n")
    text = SHEET.replace("{file: parts/agent.yaml}", "{saved: newest}")
    sheet = read_sheet(f"{text}---\n{AGENT}", {"station": "outer"}).need()
    assert payload_files(sheet, tmp_path) == {"settings": tmp_path / "logger.conf"}


def test_a_part_is_judged_by_itself() -> None:
    part, faults = read_part(AGENT)
    assert part is not None and not faults and part.part == "tide-agent"
    part, faults = read_part(AGENT.replace("payload: settings", "payload: setings") + "---\npart: other\n")
    assert part is None and [fault.message for fault in faults] == ["A part is one document."]


_DATA = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.text(max_size=12)
    | st.sampled_from(["{station}", "include", "agent"]),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.sampled_from(_NAMES), inner, max_size=6),
    max_leaves=24,
)


@given(_DATA, _DATA)
def test_whatever_parts_hold_is_read_or_faulted(one: object, other: object) -> None:
    steps = "- {id: a, do: include, part: agent, values: {station: mole}}"
    for sheet in (f"sheet: a\nbase: b\nparts: {{agent: {{file: a}}}}\nsteps:\n{steps}\nresult: {{line: c}}\n",
                  yaml.safe_dump(other)):  # fmt: skip
        for part in (one, {"part": "agent", **one} if isinstance(one, dict) else one):
            text = f"{sheet}---\n{yaml.safe_dump(part)}"
            checked = read_sheet(text)
            assert (checked.sheet is None) == bool(checked.faults)
            assert all(fault.line <= text.count("\n") + 1 for fault in checked.faults)
            read_part(yaml.safe_dump(part))
