"""The sheets of a commit: which files are meant to be sheets, what they need beside them, and what their locks say."""

from __future__ import annotations

import hashlib
import io
import json
import tarfile
from collections.abc import Mapping
from dataclasses import dataclass

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.errors import NotFound, Refused
from bathotype.core.repositories.sheets import MOST_SHEETS, Entry, NoSheet, read_payload, sheets_in, told
from bathotype.core.sheets.sheet import PayloadFile

SHEET = """\
sheet: {name}
base: gauge
parameters:
  station: {{type: text, allowed: [harbour, outer], default: harbour}}
  depth: {{type: number, default: 3}}
payload: {payload}
steps:
  - {{id: first, do: run-script, script: "echo {{station}}"}}
{steps}result: {{line: logger, bump: minor}}
"""
PUT = "  - {id: conf, do: put-file, payload: conf, to: /etc/logger.conf}\n"
UNPACK = "  - {id: conf, do: unpack, payload: conf, to: /etc/logger.d}\n"
CONF = b"interval = 30\n"


@dataclass(frozen=True)
class Known:
    mode: str
    size: int


class Commit:
    """A commit in memory."""

    def __init__(self, files: Mapping[str, str | bytes], executable: frozenset[str] = frozenset()) -> None:
        self._data = {path: data.encode() if isinstance(data, str) else data for path, data in files.items()}
        self._executable = executable

    @property
    def files(self) -> Mapping[str, Entry]:
        return {
            path: Known("100755" if path in self._executable else "100644", len(data))
            for path, data in self._data.items()
        }

    def read(self, path: str, most: int) -> bytes:
        if len(self._data[path]) > most:
            raise Refused(f"{path} is too large.")
        return self._data[path]


def sheet(name: str = "logging", payload: str = "{}", steps: str = "") -> str:
    return SHEET.format(name=name, payload=payload, steps=steps)


WITH_FILE = sheet(payload="{conf: {file: files/logger.conf}}", steps=PUT)


def lock(**payload: bytes) -> str:
    locked = {name: {"bytes": len(d), "sha256": hashlib.sha256(d).hexdigest()} for name, d in payload.items()}
    return json.dumps({"sheet": "logging", "payload": locked})


def wrong(files: Mapping[str, str | bytes]) -> list[str]:
    return [f"{one.path}: {one.why}" for one in sheets_in(Commit(files), {})[1]]


def test_files_that_are_meant_to_be_sheets_are_read() -> None:
    found, bad = sheets_in(
        Commit(
            {
                "logging.yaml": sheet(), "more/other.yml": sheet("other"), "values.yaml": "station: outer\n",
                "README.md": "sheet: no\n", "noise.yaml": b"\xff\xfesheet: x\n", "inner.yaml": "a:\n  sheet: x\n",
            }
        ),
        {},
    )  # fmt: skip
    assert [(one.path, one.checked.need().sheet) for one in found] == [
        ("logging.yaml", "logging"), ("more/other.yml", "other"),
    ]  # fmt: skip
    assert bad == []


def test_a_sheet_is_given_the_values_that_it_has_parameters_for() -> None:
    values = {"station": "outer", "depth": "7", "colour": "red"}
    [found], _ = sheets_in(Commit({"logging.yaml": sheet()}), values)
    assert dict(found.values) == {"station": "outer", "depth": 7}
    _, [bad] = sheets_in(Commit({"logging.yaml": sheet()}), {"depth": "deep"})
    assert bad.path == "logging.yaml" and "depth" in bad.why


def test_one_bad_sheet_costs_the_others_nothing() -> None:
    found, bad = sheets_in(
        Commit({"a.yaml": sheet(), "b.yaml": "sheet: b\nsteps: [\n", "c.yaml": sheet(), "d.yaml": sheet("other")}), {}
    )
    assert [one.path for one in found] == ["a.yaml", "d.yaml"] and [one.path for one in bad] == ["b.yaml", "c.yaml"]
    assert bad[1].why == "a.yaml is the sheet logging already."


def test_there_is_a_bound_to_sheets_and_to_what_is_looked_at() -> None:
    many = {f"{n:03}.yaml": sheet(f"logging-{n}") for n in range(MOST_SHEETS + 2)}
    found, bad = sheets_in(Commit(many), {})
    assert len(found) == MOST_SHEETS and [one.why for one in bad] == [f"There are more than {MOST_SHEETS} sheets."] * 2
    with pytest.raises(Refused, match="501 files of YAML") as refused:
        sheets_in(Commit({f"{n}.yaml": "" for n in range(501)}), {})
    assert refused.value.advice == "Name the folder that holds the sheets."


def test_a_payload_lies_beside_its_sheet_and_is_as_its_lock_says() -> None:
    files = {"sheets/l.yaml": WITH_FILE, "sheets/l.yaml.lock": lock(conf=CONF), "sheets/files/logger.conf": CONF}
    [found], bad = sheets_in(Commit(files), {})
    assert bad == [] and dict(found.files) == {"conf": "sheets/files/logger.conf"}
    assert found.payload["conf"].sha256 == hashlib.sha256(CONF).hexdigest()


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"files/logger.conf": None}, "Of the payload conf (files/logger.conf) is not there."),
        ({"files/logger.conf": b""}, "conf of the payload is empty."),
        ({"files/logger.conf": b"interval = 31\n"}, "The lock does not fit the payload: conf has changed."),
        ({"l.yaml.lock": None}, "The sheet has a payload and no lock."),
        ({"l.yaml.lock": "{}"}, "The lock file is not valid."),
        ({"l.yaml.lock": lock()}, "The lock does not fit the payload: conf is new."),
        (
            {"files/logger.conf": b"version https://git-lfs.github.com/spec/v1\n"},
            "files/logger.conf is a pointer to a file that is not in the repository.",
        ),
        ({"l.yaml": sheet(payload="{conf: {file: ../../etc/passwd}}", steps=PUT)}, "payload.conf.file"),
        ({"l.yaml": sheet(payload="{conf: {file: /etc/passwd}}", steps=PUT)}, "payload.conf.file"),
    ],
)
def test_what_is_missing_or_changed_is_told(change: dict[str, str | bytes | None], why: str) -> None:
    files: dict[str, str | bytes | None] = {
        "l.yaml": WITH_FILE, "l.yaml.lock": lock(conf=CONF), "files/logger.conf": CONF, **change,
    }  # fmt: skip
    [said] = wrong({path: data for path, data in files.items() if data is not None})
    assert said.startswith("l.yaml: ") and why in said


def test_a_folder_of_a_payload_is_one_archive_whatever_the_order() -> None:
    files = {
        "conf.d/b.conf": b"two",
        "conf.d/a.conf": b"one",
        "conf.d/bin/run": b"#!/bin/sh\n",
        "conf.data": b"not in it",
    }
    about = PayloadFile(folder="conf.d")
    data = read_payload(Commit(files, frozenset({"conf.d/bin/run"})), "conf", about, "conf.d")
    again = read_payload(Commit(dict(reversed(files.items())), frozenset({"conf.d/bin/run"})), "conf", about, "conf.d")
    assert data == again
    with tarfile.open(fileobj=io.BytesIO(data)) as archive:
        members = {m.name: m for m in archive.getmembers() if m.isfile()}
        assert set(members) == {"a.conf", "b.conf", "bin/run"}
        assert members["bin/run"].mode & 0o111 and not members["a.conf"].mode & 0o111
        assert all((m.uid, m.gid, m.mtime) == (0, 0, members["a.conf"].mtime) for m in members.values())
    with pytest.raises(Refused, match="more than 500 files"):
        read_payload(Commit({f"conf.d/{n}": b"x" for n in range(501)}), "conf", about, "conf.d")
    files = {"l.yaml": sheet(payload="{conf: {folder: conf.d}}", steps=UNPACK), "l.yaml.lock": lock(conf=data), **files}
    found, bad = sheets_in(Commit(files, frozenset({"conf.d/bin/run"})), {})
    assert bad == [] and [one.checked.need().sheet for one in found] == ["logging"]


def test_a_part_is_looked_for_beside_the_sheet() -> None:
    text = sheet().replace(
        "steps:\n", "parts: {agent: {file: parts/agent.yaml}}\nsteps:\n  - {id: agent, do: include, part: agent}\n"
    )
    part = "part: agent\nsteps:\n  - {id: tick, do: run-script, script: date}\n"
    [found], _ = sheets_in(Commit({"sheets/l.yaml": text, "sheets/parts/agent.yaml": part}), {})
    assert [step.id for step in found.checked.need().steps] == ["agent-tick", "first"]
    _, [bad] = sheets_in(Commit({"sheets/l.yaml": text, "parts/agent.yaml": part}), {})
    assert "sheets/parts/agent.yaml" in bad.why and "not there" in bad.why


def test_many_faults_are_told_in_one_sentence() -> None:
    faults = [NoSheet(f"{n}.yaml", f"first line\nfault {n}") for n in range(5)]
    assert told(faults) == "0.yaml: fault 0; 1.yaml: fault 1; 2.yaml: fault 2, and 2 more"
    assert told(faults[:1]) == "0.yaml: fault 0"


@given(
    st.dictionaries(st.sampled_from(["a.yaml", "a.yaml.lock", "b.yml", "files/logger.conf"]), st.binary(max_size=60))
)
def test_whatever_a_commit_holds_is_read_or_told(files: dict[str, bytes]) -> None:
    """Nothing but documented errors, and those in the place of the file that they are of."""
    files = {path: b"sheet: " + data if path.startswith("b") else data for path, data in files.items()}
    found, bad = sheets_in(Commit({"l.yaml": WITH_FILE, **files}), {})
    assert {one.path for one in [*found, *bad]} <= {"l.yaml", "a.yaml", "b.yml"}
    assert all(one.why for one in bad)


def test_a_file_that_is_not_there_is_an_error_by_name() -> None:
    with pytest.raises((NotFound, KeyError)):
        read_payload(Commit({}), "conf", PayloadFile(file="logger.conf"), "logger.conf")
