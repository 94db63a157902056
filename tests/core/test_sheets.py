"""Build sheets: what is wrong is told at once with its place; parameters, locks, and what package managers print."""

from __future__ import annotations

import base64
import hashlib
import io
import itertools
import json
import os
import shutil
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import quote
from zoneinfo import ZoneInfo

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.errors import BathotypeError, Invalid
from bathotype.core.sheets.document import read_document
from bathotype.core.sheets.folders import pack
from bathotype.core.sheets.lock import check_lock, lock_of, lock_path, payload_folders, read_lock
from bathotype.core.sheets.packages import MANAGERS, Wanted, changed_packages, unmet_packages
from bathotype.core.sheets.reading import read_sheet
from bathotype.core.sheets.schedule import When
from bathotype.core.sheets.secrecy import Mask, held_in
from bathotype.core.sheets.sheet import schema
from bathotype.core.sheets.steps import PutFile, RunScript
from tests.support import Memory

SHEET = """\
sheet: logging
base: gauge-collector@1.0.0
parameters:
  station: {type: text, default: harbour, allowed: [harbour, outer]}
  minutes: {type: number, default: 5}
  tools: {type: boolean}
payload:
  settings: {file: files/logger.conf}
steps:
  - {id: logger, do: install-packages, packages: [tide-logger, "chart-tools=1.4.2-1"], only_if: {tools: true}}
  - {id: settings, do: put-file, payload: settings, to: "/etc/tide/{station}.conf"}
  - {id: text, do: put-file, content: "{station} {other} {tools}", to: /etc/tide/text}
  - id: script
    do: run-script
    seconds: "{minutes}"
    environment: {STATION: "{station}"}
    script: echo ${station} {station}
result: {line: gauge-collector, bump: minor}
"""


def test_the_number_of_the_result_is_judged_where_it_is_known() -> None:
    text = "sheet: s\nbase: a\nparameters: {n: {}}\nsteps: [{id: r, do: restart}]\nresult: {line: b, number: %s}\n"
    assert "result.number: 'one' is not a version number." in faults(text % "one")[0]
    assert faults(text % "'{n}'") == [], "it is given when it runs"
    assert "'two' is not a version number." in str(read_sheet(text % "'{n}'", {"n": "two"}).faults)


def faults(text: str, **values: object) -> list[str]:
    return [str(fault) for fault in read_sheet(text, values or None).faults]


def test_values_are_put_in_and_scripts_stay_as_they_are() -> None:
    checked = read_sheet(SHEET, {"tools": False, "station": "outer"})
    _, settings, text, script = checked.need().steps
    assert isinstance(settings, PutFile) and settings.to == "/etc/tide/outer.conf"
    assert isinstance(text, PutFile) and text.content == "outer {other} false"
    assert isinstance(script, RunScript) and script.script == "echo ${station} {station}" and script.seconds == 5
    assert script.environment == {"STATION": "outer"}, "a shell is given values, never a text made of them"
    assert checked.skipped == {checked.need().steps[0].id}


def test_every_fault_is_told_at_once_with_its_place() -> None:
    wrong = (
        SHEET.replace("base: g", "base: G")
        .replace("do: put-file, payload: settings", "do: put-file, payload: nosuch")
        .replace("seconds:", "secs:")
        .replace("bump: minor", "bump: tiny")
        .replace("[tide-logger,", "[--force,")
    )
    told = faults(wrong)
    assert [line.split(": ")[0] for line in told] == [
        "line 2, column 7", "line 10, column 50", "line 15, column 11", "line 18, column 39"
    ]  # fmt: skip
    assert "'--force' is not the name of a package" in told[1] and "nothing of this name" in told[2]
    consistent = SHEET.replace("payload: settings, to", "payload: nosuch, to").replace("id: text", "id: script")
    assert faults(consistent) == [
        "line 8, column 13: payload.settings: No step uses it: remove it, or add the step.",
        "line 11, column 5: steps.1: There is no 'nosuch' in the payload.",
        "line 13, column 9: steps.3.id: Two steps are called script.",
    ]


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("a: &x 1\nb: *x", "line 1, column 4: Anchors"),
        ("a: 1\na: 2", "line 2, column 1: a: a is given twice."),
        ("a: !!python/name:os.system x", "line 1, column 4: Tags"),
        ("[" * 1000, "nested too deeply"),
        ("a: [1,", "line 1, column 7: It is not YAML"),
        ("a: \0", "It is not YAML"),
        ("", "A sheet is a mapping"),
        ("x" * 300_000, "more than 256 KiB"),
        (SHEET.replace("{type: boolean}", "{type: boolean, default: 1}"), "1 is not a boolean"),
        (SHEET.replace("/etc/tide/text", "/etc/../text"), "an absolute path"),
        (SHEET.replace("files/logger.conf", "../logger.conf"), "a path in the sheet's own folder"),
        (SHEET.replace("do: run-script", "do: bake"), "There is no 'bake'"),
        (SHEET.replace("do: run-script", "do: [x]"), "line 13, column 5"),
        (SHEET.replace('"/etc/tide/{station}.conf"', '"/etc/{where}"'), "There is no parameter 'where'"),
    ],
)
def test_what_is_no_sheet(text: str, told: str) -> None:
    assert any(told in fault for fault in faults(text)), faults(text)


def test_values_that_cannot_be_taken() -> None:
    assert "It has no default" in faults(SHEET, station="outer")[0]
    told = faults(SHEET, station="inner", tools="yes", depth=4, minutes=True)
    assert len(told) == 4 and all("line" in line for line in told)


@given(st.text(max_size=200) | st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(
        st.sampled_from([*"abc", "sheet", "base", "steps", "id", "do", "payload", "parameters", "result", "line", "machine"])
        , inner, max_size=5),
    max_leaves=20,
).map(lambda data: yaml.safe_dump(data)))  # fmt: skip
def test_whatever_is_given_is_read_or_faulted(text: str) -> None:
    checked = read_sheet(text)
    assert (checked.sheet is None) == bool(checked.faults)
    read_document(text)


def test_the_schema_says_what_is_read() -> None:
    found = schema()
    steps = found["properties"]["steps"]["items"]["discriminator"]["mapping"]
    assert {"install-packages", "put-file", "run-script", "restart"} <= set(steps)
    assert {*found["required"]} == {"sheet", "base", "steps", "result"} and json.dumps(found)
    assert {*schema("part")["required"]} == {"part", "steps"}


def test_a_lock_notices_every_change(tmp_path: Path) -> None:
    sheet = read_sheet(SHEET).need()
    with pytest.raises(BathotypeError, match=r"settings \(files/logger.conf\) is not there"):
        lock_of(sheet, tmp_path)
    (tmp_path / "files").mkdir()
    file = tmp_path / "files/logger.conf"
    file.write_text("interval = 60\n")
    lock = lock_of(sheet, tmp_path)
    assert read_lock(lock.model_dump_json()) == lock and lock_path(tmp_path / "a.yaml").name == "a.yaml.lock"
    check_lock(lock, lock_of(sheet, tmp_path))
    with pytest.raises(BathotypeError, match="no lock"):
        check_lock(None, lock)
    file.write_text("interval = 61\n")
    with pytest.raises(BathotypeError, match="settings has changed"):
        check_lock(lock, lock_of(sheet, tmp_path))
    file.unlink()
    file.symlink_to("/etc/hostname")
    with pytest.raises(BathotypeError, match="a link out of the sheet's folder"):
        lock_of(sheet, tmp_path)
    with pytest.raises(Invalid):
        read_lock("{}")


def test_a_folder_is_the_same_archive_wherever_it_is_packed(tmp_path: Path) -> None:
    text = SHEET.replace("{file: files/logger.conf}", "{folder: conf}").replace("put-file, payload", "unpack, payload")
    sheet = read_sheet(text).need()
    tars = []
    for number, names in enumerate((("b", "a/x", "run"), ("run", "a/x", "b"))):
        home = tmp_path / str(number)
        for name in names:
            (home / "conf" / name).parent.mkdir(parents=True, exist_ok=True)
            (home / "conf" / name).write_text(f"{name}\n")
        (home / "conf/run").chmod(0o750 + number)  # only whether it runs is kept
        (home / "conf/empty").mkdir()
        os.utime(home / "conf/b", (number, number))
        tars.append(lock_of(sheet, home).payload["settings"])
        out = io.BytesIO()
        pack("settings", payload_folders(sheet, home)["settings"], out)
        assert hashlib.sha256(out.getvalue()).hexdigest() == tars[-1].sha256
    assert tars[0] == tars[1]
    (tmp_path / "out").mkdir()
    subprocess.run(["tar", "-x", "-C", tmp_path / "out"], input=out.getvalue(), check=True)
    assert {p.relative_to(tmp_path / "out").as_posix() for p in (tmp_path / "out").rglob("*")} == {
        "a",
        "a/x",
        "b",
        "run",
    }
    assert (tmp_path / "out/run").stat().st_mode & 0o777 == 0o755 and (tmp_path / "out/a/x").read_text() == "a/x\n"
    (home / "conf/link").symlink_to("/etc/hostname")
    with pytest.raises(BathotypeError, match="'link', which is no file"):
        lock_of(sheet, home)
    shutil.rmtree(home / "conf")
    with pytest.raises(BathotypeError, match=r"settings \(conf\) is not there"):
        lock_of(sheet, home)
    (home / "conf").mkdir()
    with pytest.raises(BathotypeError, match="holds no file"):
        lock_of(sheet, home)


def test_a_secret_parameter_names_a_secret_and_stands_in_no_text() -> None:
    text = SHEET.replace("  minutes:", "  join_key: {secret: true}\n  minutes:")
    given = text.replace("environment: {", 'secrets: {K: "{join_key}"}\n    environment: {')
    assert read_sheet(given, {"tools": True}).need().secrets == {"join-key"}
    other = read_sheet(given, {"tools": True, "join_key": "other-key"})
    assert other.need().secrets == {"other-key"} and other.values["join_key"] == "other-key"
    [told] = faults(given, tools=True, join_key="HT-4Q7M the secret itself")
    assert "never the secret itself" in told
    for where in ('content: "{join_key}"', 'to: "/etc/{join_key}"'):
        wrong = text.replace(
            'content: "{station} {other} {tools}"' if "content" in where else 'to: "/etc/tide/{station}.conf"', where
        )
        assert any("join_key is a secret" in fault for fault in faults(wrong)), where
    assert any("is a text" in fault for fault in faults(text.replace("secret: true", "secret: true, type: number")))


def test_what_package_managers_print() -> None:
    apt, dnf, apk = MANAGERS
    assert apt.read_installed("a\t1.0-1\tinstalled\nb\t2\tconfig-files\n\x1b\n") == {"a": "1.0-1"}
    assert dnf.read_installed("bash\t5.1-2.el9\n") == {"bash": "5.1-2.el9"}
    assert apk.read_installed("libc-utils-0.7.2-r5\nbusybox-1.36.1-r2\n") == {
        "libc-utils": "0.7.2-r5", "busybox": "1.36.1-r2"
    }  # fmt: skip
    assert apt.read_outstanding("Reading...\nInst curl [7.1] (7.2 stable)\nConf curl\n") == ["curl"]
    assert dnf.read_outstanding("\nkernel-core.x86_64   6.1-1   updates\n") == ["kernel-core"]
    assert apk.read_outstanding("Installed:   Available:\ncurl-8.1-r0  < 8.2-r0\n") == ["curl"]
    assert dnf.named([Wanted.of("a=1-2"), Wanted.of("b")]) == ["a-1-2", "b"]
    before, after = {"a": "1", "b": "1", "c": "1"}, {"a": "2", "c": "1", "d": "1"}
    assert changed_packages(before, after) == ["a 1 -> 2", "b (removed)", "d 1 (new)"]
    assert len(unmet_packages([Wanted("a", "1"), Wanted("b"), Wanted("d")], after)) == 2


@given(st.text(min_size=8, max_size=60).filter(lambda text: "\0" not in text), st.text(max_size=5), st.text(max_size=5))
def test_a_secret_is_found_and_hidden_in_every_form(value: str, before: str, behind: str) -> None:
    try:
        whole = f"{before}{value}{behind}".encode()
    except UnicodeEncodeError:
        return  # half of a character is no text that anybody can give
    for text in (
        whole,
        base64.b64encode(whole),
        base64.urlsafe_b64encode(whole),
        quote(value).encode(),
        whole.hex().encode(),
    ):
        disk = Memory(b"\1" * 70_000 + text + b"\2" * 70_000)
        if len(value.encode()) >= 12:
            assert held_in(disk, {"s": value}), text
    told = Mask([value]).hide(f"it is {value}, {value.encode().hex()}")
    assert value not in told.replace("•", "") or set(value) <= {"•"}


@pytest.mark.parametrize(
    ("when", "begin", "dates"),
    [
        # 2027-03-28 has no 02:30 in Oslo, and 2026-10-25 has two.
        ("{schedule: [{at: '02:30'}], zone: Europe/Oslo}", "2027-03-27T12:00Z", ["03-28T01:00", "03-29T00:30"]),
        ("{schedule: [{at: '02:30'}], zone: Europe/Oslo}", "2026-10-24T12:00Z", ["10-25T00:30", "10-26T01:30"]),
        ("{schedule: [{days: [tuesday, saturday], at: '02:00'}, {cron: '0 2 * * 6'}]}", "2026-11-27T00:00Z",
         ["11-28T02:00", "12-01T02:00", "12-05T02:00"]),
        ("{after_base: true}", "2026-11-27T00:00Z", []),
    ],
)  # fmt: skip
def test_dates_are_clock_times_of_their_zone(when: str, begin: str, dates: list[str]) -> None:
    found = When.model_validate(yaml.safe_load(when)).next_dates(datetime.fromisoformat(begin), len(dates) or 1)
    assert [date.strftime("%m-%dT%H:%M") for date in found] == dates


@given(
    st.integers(0, 59), st.integers(0, 23), st.sampled_from(["Europe/Oslo", "America/St_Johns", "Pacific/Apia", "Etc/UTC"]),
    st.datetimes(datetime(2024, 1, 1), datetime(2030, 1, 1), timezones=st.just(UTC)),
)  # fmt: skip
def test_a_daily_date_comes_once_a_day(minute: int, hour: int, zone: str, begin: datetime) -> None:
    when = When.model_validate({"schedule": [{"at": f"{hour:02}:{minute:02}"}], "zone": zone})
    dates = when.next_dates(begin, 20)
    days = [date.astimezone(ZoneInfo(zone)).date() for date in dates]
    assert begin < dates[0] and dates == sorted(set(dates)) and len(set(days)) == 20
    assert all(23 <= (b - a) / timedelta(hours=1) <= 25 for a, b in itertools.pairwise(dates))


@pytest.mark.parametrize(
    ("when", "told"),
    [
        ("{}", "it does not say when"),
        ("{after_base: true, zone: Mars/Olympus}", "no time zone"),
        ("{schedule: [{days: [monday]}]}", "give at, with days"),
        ("{schedule: [{at: '2:00'}]}", "must be a time of day, such as 02:00"),
        ("{schedule: [{cron: '* * * * * *'}]}", "five fields"),
        ("{schedule: [{cron: '0 0 30 2 *'}]}", "bad day-of-month"),
    ],
)
def test_a_schedule_that_never_comes_is_a_fault(when: str, told: str) -> None:
    faults = read_sheet(SHEET + f"when: {when}\n").faults
    assert any(told in fault.message.casefold() and fault.line == SHEET.count("\n") + 1 for fault in faults), faults
