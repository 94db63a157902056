"""The process that reads what strangers wrote can do nothing else, and nothing that it does stops who asks it."""

from __future__ import annotations

import gzip
import os
import socket
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from bathotype.core.confined.asking import look
from bathotype.core.confined.changing import CHANGE, PLAN, ProfileQuestion
from bathotype.core.confined.imagefile import UNPACK, PackedQuestion
from bathotype.core.confined.judging import JUDGE, JudgeQuestion
from bathotype.core.confined.looking import LOOK, LookQuestion, ReplayData
from bathotype.core.confined.reader import ConfinedReader
from bathotype.core.confined.sandbox import python
from bathotype.core.confined.spare import SpareReaders
from bathotype.core.confined.task import Task
from bathotype.core.disk.layout import settled
from bathotype.core.disk.source import FileSource, Window, open_file
from bathotype.core.errors import Damaged, OutOfSpace, Refused
from bathotype.core.generalize.profile import builtin_profile
from bathotype.core.generalize.residue import SourceIdentity
from tests.core.test_offline import let_a_journal_wait, small_disk
from tests.support import until

START = """
import json, os, socket, struct, sys, time
from pathlib import Path
from bathotype.core.confined.frames import *
wire = Wire(socket.socket(fileno=int(sys.argv[1])))
asked = wire.take().json()
wire.take_files(sum(source["file"] for source in asked["sources"]))
def answer(data): wire.send_json(ANSWER, data)
def tried(what):
    try:
        return str(what())
    except Exception as error:
        return type(error).__name__
"""
ANYTHING = Task("t.t", type(None), dict[str, str], lambda bench, question: {}, seconds=2)


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[FileSource]:
    with open_file(small_disk(tmp_path, {"etc/motd": b"hello"}), writable=True) as source:
        yield source


def enemy(program: str) -> ConfinedReader:
    """A reader whose child does what somebody might make it do who took it over."""
    return ConfinedReader(command=lambda number: python("-c", START + program, str(number), seconds=5))


def test_nothing_of_the_host_is_in_sight(disk: FileSource, tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("secret")
    with socket.create_server(("127.0.0.1", 0)) as listening:
        port = listening.getsockname()[1]
        program = f"""
answer({{
  "secret": tried(lambda: Path({str(tmp_path / "secret")!r}).read_text()),
  "passwords": tried(lambda: Path("/etc/shadow").read_text()),
  "network": tried(lambda: socket.create_connection(("127.0.0.1", {port}), 1)),
  "processes": tried(lambda: os.listdir("/proc")),
  "parent": tried(lambda: os.kill({os.getpid()}, 0)),
  "python": tried(lambda: Path({os.__file__!r}).write_text("")),
  "user": tried(os.geteuid),
  "files": tried(lambda: [open("/dev/null") for _ in range(70)]),
  "memory": tried(lambda: len(bytearray(5 << 30))),
  "environment": tried(lambda: sorted(os.environ)),
}})
"""
        with enemy(program) as reader:
            found = reader.ask(ANYTHING, None, disk)
    refused = {name: value for name, value in found.items() if name not in ("user", "environment")}
    assert set(refused.values()) <= {"FileNotFoundError", "ConnectionRefusedError", "ProcessLookupError", "OSError",
                                     "PermissionError", "MemoryError"}, refused  # fmt: skip
    assert found["user"] == "65534" and found["environment"] == "['LANG', 'OPENBLAS_NUM_THREADS', 'PWD']"


@pytest.mark.parametrize(
    ("program", "reason"),
    [
        ("time.sleep(60)", "was silent for 2 s"),
        ("while True: pass", "was silent for 2 s"),
        ("os.kill(os.getpid(), 11)", "was ended by signal 11"),
        ("sys.exit(3)", "ended with 3"),
        ("answer(['another', 'type'])", "something else than was asked"),
        ("wire.send(ANSWER, b'{')", "something else than was asked"),
        ("wire.send(ANSWER, b'[' * 1000000)", "something else than was asked"),
        ("wire.send(b'x', b'y'); wire.take()", "The process that reads it"),
        ("wire.send(b'', b''); wire.take()", "The process that reads it"),
        ("wire.send(PIECE, b'123456789'); wire.take()", "The process that reads it"),
        ("wire.send(READ, b'12')", "The process that reads it"),
        ("os.write(int(sys.argv[1]), struct.pack('<I', (1 << 32) - 1) + READ)", "The process that reads it"),
        ("os.write(int(sys.argv[1]), struct.pack('<I', 9) + READ + b'123'); time.sleep(60)", "was silent for 2 s"),
        (
            "\nwhile True: os.write(int(sys.argv[1]), b'\\0'); time.sleep(0.3)",
            "was silent for 2 s|nobody expects|The process",
        ),
        ("\nwhile True: wire.send(READ, read_request(0, 0, 1 << 20))", "was silent for 2 s"),
        ("wire.send(FAILED, b'[]'); sys.exit()", "is no error"),
        ("wire.send_json(FAILED, {'class': 'SystemExit', 'message': 'm'}); sys.exit()", "^m"),
    ],
)
def test_whatever_it_does_is_an_ordinary_failure(program: str, reason: str, disk: FileSource) -> None:
    with enemy(program) as reader:
        began = time.monotonic()
        with pytest.raises(Damaged, match=reason):
            reader.ask(ANYTHING, None, disk)
        assert time.monotonic() - began < 30
        time.sleep(0.5)
        with pytest.raises(Damaged, match=reason):  # the next question starts another
            reader.ask(ANYTHING, None, disk)


@pytest.mark.parametrize(
    "asked",
    [
        "wire.send(READ, read_request(0, 1 << 40, 512))",
        "wire.send(READ, read_request(0, 0, 1 << 30))",
        "wire.send(READ, read_request(7, 0, 512))",
        "wire.send(ALLOCATED, bytes([9]))",
        "wire.send_json(TOOL, {'tool': 'judge', 'source': 0, 'pieces': [[0, 1 << 50]]})",
        "wire.send_json(TOOL, {'tool': 'judge', 'source': 0, 'pieces': [[-4096, 8192]]})",
        "wire.send_json(TOOL, {'tool': 'judge', 'source': 0, 'pieces': []})",
        "wire.send_json(TOOL, {'tool': 'judge', 'source': 0, 'pieces': [[0, 4096]] * 100000})",
        "wire.send_json(TOOL, {'tool': '../bin/sh', 'source': 0, 'pieces': [[0, 4096]]})",
        "wire.send_json(TOOL, {'tool': 'replay', 'source': 1, 'pieces': [[0, 4096]]})",
        "wire.send_json(TOOL, 7)",
    ],
)
def test_what_it_may_not_have_is_refused_to_it(asked: str, disk: FileSource) -> None:
    only_read = Window(disk, 0, disk.size)
    with enemy(f"{asked}; answer({{'kind': wire.take().kind.decode()}})") as reader:
        assert reader.ask(ANYTHING, None, disk, only_read) == {"kind": "-"}


def test_its_use_of_tools_is_bounded(disk: FileSource) -> None:
    use = "wire.send_json(TOOL, {'tool': 'judge', 'source': 0, 'pieces': [[0, 4096]]})"
    with enemy(
        f"kinds = []\nfor _ in range(270): {use}; kinds.append(wire.take())\nanswer({{'last': kinds[-1].body.decode()}})"
    ) as reader:
        assert reader.ask(
            Task("t.t", type(None), dict[str, str], lambda b, q: {}, seconds=60), None, Window(disk, 0, disk.size)
        ) == {"last": "{}"}


def test_a_profile_is_made_by_the_child_and_judged_by_e2fsck(disk: FileSource) -> None:
    with ConfinedReader() as reader:
        with pytest.raises(Damaged, match="Only a copy"):
            reader.ask(CHANGE, ProfileQuestion(builtin_profile("linux"), {}), Window(disk, 0, disk.size))
        done = reader.ask(CHANGE, ProfileQuestion(builtin_profile("linux"), {"host_name": "here"}), disk)
        assert done.identity == {"host_name": "here", "machine_id": ""} and done.ranges.total < disk.size
        assert any(change.path == "/etc/hostname" for change in done.planned.changes)


def test_a_journal_that_waits_is_seen_through_the_child(tmp_path: Path) -> None:
    image = small_disk(tmp_path, {"a": b"1"})
    let_a_journal_wait(image)
    with open_file(image) as source, ConfinedReader() as reader:
        found = look(reader, Window(source, 0, source.size))
        view = found.settled(source)
        assert found.replays and view is not source
        assert view.read(0, source.size) == settled(source).read(0, source.size) != source.read(0, source.size)


@pytest.mark.parametrize(
    "change",
    [
        {"pieces": ((0, 1 << 40),)},
        {"pieces": ()},
        {"block": 3},
        {"targets": "00"},
        {"targets": (1 << 40).to_bytes(8, "little").hex()},
        {"targets": (8).to_bytes(8, "little").hex() * 2, "places": bytes(16).hex()},
        {"places": (-1).to_bytes(8, "little", signed=True).hex()},
        {"given": ((-1, "00"),)},
        {"given": ((0, "xx"),)},
    ],
)
def test_a_replay_that_does_not_fit_is_refused(change: dict[str, object], disk: FileSource) -> None:
    fits = {"pieces": ((0, disk.size),), "block": 1024, "targets": (8).to_bytes(8, "little").hex(),
            "places": (9).to_bytes(8, "little").hex(), "escaped": (), "magic": "", "given": ((5, "00"),)}  # fmt: skip
    assert ReplayData(**fits).on(disk).view.read(8192, 1024) == disk.read(9216, 1024)  # type: ignore[arg-type]
    with pytest.raises(Damaged):
        ReplayData(**{**fits, **change}).on(disk)  # type: ignore[arg-type]


def test_a_reason_to_stop_ends_the_child(disk: FileSource) -> None:
    class Stop(Exception):
        pass

    def stop() -> None:
        raise Stop

    with ConfinedReader(stop, command=lambda n: python("-c", START + "time.sleep(60)", str(n), seconds=5)) as reader:
        with pytest.raises(Stop):
            reader.ask(ANYTHING, None, disk)
        assert not reader.running


def test_a_piece_that_cannot_be_kept_is_not_passed_over(disk: FileSource, tmp_path: Path) -> None:
    packed = tmp_path / "small.gz"
    packed.write_bytes(gzip.compress(b"one piece, which is the last"))

    def full(at: int, data: bytes) -> None:
        raise OutOfSpace(f"{len(data)} bytes at {at}")

    with ConfinedReader() as reader, open_file(packed) as file:
        with pytest.raises(OutOfSpace, match="28 bytes at 0"):
            reader.ask(UNPACK, PackedQuestion("gzip", 1 << 30), file, pieces=full)
        assert reader.ask(LOOK, LookQuestion(), disk).has_root, "and the next question is answered"


def test_the_own_errors_of_a_task_come_through(disk: FileSource, tmp_path: Path) -> None:
    packed = tmp_path / "bomb.xz"
    packed.write_bytes(b"\xfd7zXZ\0" + b"no more")
    with ConfinedReader() as reader, open_file(packed) as file:
        with pytest.raises(Damaged, match="cannot be unpacked to its end"):
            reader.ask(UNPACK, PackedQuestion("xz", 1 << 30), file, pieces=lambda at, data: None)
        assert reader.ask(LOOK, LookQuestion(), disk).has_root
        with pytest.raises(Refused):
            reader.ask(CHANGE, ProfileQuestion(builtin_profile("linux"), {}), file)


def test_what_no_record_can_hold_is_replaced_in_answers(tmp_path: Path) -> None:
    (tmp_path / "tree/var/log").mkdir(parents=True)
    (tmp_path / "tree/var/log").joinpath(os.fsdecode(b"st\xf8rm.log")).write_bytes(b"x")
    files = {
        "etc/os-release": b'ID=halvane\nPRETTY_NAME="\0Halvane"\n',
        "etc/passwd": b"n\0a:x:1000:1000::/home/na:/bin/sh\n",
        "var/lib/dpkg/status": b"Package: a\0b\nStatus: install ok installed\nVersion: 1\xff\n\n",
    }
    with ConfinedReader() as reader, open_file(small_disk(tmp_path, files)) as disk:
        planned = reader.ask(PLAN, ProfileQuestion(builtin_profile("linux"), {}), disk).planned
        contents = reader.ask(JUDGE, JudgeQuestion(SourceIdentity()), disk).contents
    assert "/var/log/st\ufffdrm.log" in {change.path for change in planned.changes}
    assert contents.os["pretty_name"] == "\ufffdHalvane" and contents.users == ("n\ufffda",)
    assert [(package.name, package.version) for package in contents.packages] == [("a\ufffdb", "1\ufffd")]


def test_each_asker_has_a_child_of_its_own_and_one_is_kept_ready(disk: FileSource) -> None:
    readers, seen = SpareReaders(kept=60), []

    def ask() -> None:
        with readers.one() as reader:
            look(reader, disk)
            seen.append(reader)

    for _ in range(3):
        asker = threading.Thread(target=ask)  # each ends, and takes no child with it
        asker.start()
        asker.join()
        until(lambda: readers.ready)
    assert len({id(reader) for reader in seen}) == 3 and not any(reader.lives for reader in seen), "one for each"
    time.sleep(0.3)
    kept = readers._spare
    assert kept is not None and kept.lives
    kept.close()
    ask()
    readers.close()
    assert not readers.ready
    brief = SpareReaders(kept=0.05)
    with brief.one() as reader:
        look(reader, disk)
    until(lambda: not brief.ready, seconds=10)
    brief.close()
