"""The NBD client before a server that is an enemy's: what it returns was sent, and what is wrong is an error with words.

The right bytes are judged in `test_disk` with QEMU's own server.
"""

from __future__ import annotations

import contextlib
import socket
import struct
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bathotype.core.disk import nbd
from bathotype.core.disk.nbd import NbdAddress, NbdDisk
from bathotype.core.errors import BathotypeError, Damaged, Invalid, Unavailable

SIZE = 1 << 20
AT, LENGTH = 4096, 1000
DATA, HOLE, STATUS, ERROR, LAST = 1, 2, 5, 1 << 15 | 1, 1


def part(kind: int, body: bytes, *, last: bool = True, cookie: int = 1, size: int | None = None) -> bytes:
    """A part of a structured reply, as the protocol document lays it out."""
    return struct.pack(">IHHQI", 0x668E33EF, int(last), kind, cookie, len(body) if size is None else size) + body


def data(at: int, content: bytes, *, last: bool = True) -> bytes:
    return part(DATA, struct.pack(">Q", at) + content, last=last)


def hole(at: int, length: int, *, last: bool = True) -> bytes:
    return part(HOLE, struct.pack(">QI", at, length), last=last)


def simple(error: int, content: bytes = b"", cookie: int = 1) -> bytes:
    return struct.pack(">IIQ", 0x67446698, error, cookie) + content


@contextlib.contextmanager
def server(folder: Path, answer: bytes, *, option: Callable[[int], bytes] | None = None) -> Iterator[str]:
    """A server that negotiates well, sends ``answer`` to a request and hangs up; or answers by ``option`` and hangs up."""

    def reply(number: int, kind: int, body: bytes = b"") -> bytes:
        return struct.pack(">QIII", 0x3E889045565A9, number, kind, len(body)) + body

    def serve() -> None:
        connection, _ = listener.accept()
        with connection, contextlib.suppress(OSError), connection.makefile("rb") as lines:
            connection.sendall(struct.pack(">QQH", 0x4E42444D41474943, 0x49484156454F5054, 1))
            lines.read(4)
            while head := lines.read(16):
                _, number, length = struct.unpack(">QII", head)
                lines.read(length)
                given_back = {
                    7: reply(7, 3, struct.pack(">HQH", 0, SIZE, 1 | 2)) + reply(7, 1),
                    8: reply(8, 1),
                    10: reply(10, 4, struct.pack(">I", 5) + b"base:allocation") + reply(10, 1),
                }[number]
                connection.sendall(option(number) if option else given_back)
                if option or number == 7:
                    break
            if not option:
                lines.read(28)  # the one request
            connection.sendall(answer)

    path = folder / "socket"
    path.unlink(missing_ok=True)
    with socket.socket(socket.AF_UNIX) as listener:
        listener.bind(str(path))
        listener.listen()
        thread = threading.Thread(target=serve)
        thread.start()
        try:
            yield f"nbd+unix:///disk?socket={path}"
        finally:
            thread.join(10)
            assert not thread.is_alive()


def read(folder: Path, answer: bytes) -> bytes:
    """What a read of `LENGTH` bytes at `AT` brings before that answer."""
    with server(folder, answer) as uri, NbdDisk(uri, timeout=5) as disk:
        return disk.read(AT, LENGTH)


BYTES = bytes(range(250)) * 4


@pytest.mark.parametrize(
    "answer",
    [
        simple(0, BYTES),
        data(AT, BYTES),
        data(AT + 600, BYTES[600:], last=False) + data(AT, BYTES[:600]),
        data(AT, BYTES, last=False) + part(0, b""),
    ],
    ids=["simple", "whole", "parts in the other order", "an empty last part"],
)
def test_every_form_of_an_answer_is_read(tmp_path: Path, answer: bytes) -> None:
    assert read(tmp_path, answer) == BYTES


def test_a_hole_reads_as_zeros(tmp_path: Path) -> None:
    answer = data(AT, BYTES[:100], last=False) + hole(AT + 100, LENGTH - 100)
    assert read(tmp_path, answer) == BYTES[:100] + bytes(LENGTH - 100)


@pytest.mark.parametrize(
    ("answer", "words"),
    [
        (data(AT, BYTES[:999]), "other data than it was asked for"),
        (data(AT, BYTES[:500], last=False) + data(AT, BYTES[:500]), "other data than it was asked for"),
        (data(AT, BYTES[:600], last=False) + hole(AT + 500, 400), "other data than it was asked for"),
        (part(0, b""), "other data than it was asked for"),
        (data(AT, BYTES, last=False) + data(AT + 200, BYTES[:100]), "other data than it was asked for"),
        (data(AT, BYTES, last=False) + part(0, b"", last=False) * (1 << 16), "without end"),
        (data(AT - 1, BYTES), "data that was not asked for"),
        (data(AT + 1, BYTES), "data that was not asked for"),
        (hole(AT, 1 << 31), "data that was not asked for"),
        (part(ERROR, struct.pack(">IH", 28, 0)), "no space left on the server"),
        (part(ERROR, b"\0\0"), "no reply"),
        (data(AT, BYTES, last=False) + part(ERROR, struct.pack(">IH", 5, 0)), "input/output error"),
        (simple(108), "server is shutting down"),
        (simple(0, BYTES, cookie=2), "another request"),
        (part(DATA, b"", size=1 << 30), "too long"),
        (b"HTTP/1.1 400 Bad Request\r\n\r\n", "no reply"),
    ],
)
def test_an_answer_that_is_wrong_is_said_to_be(tmp_path: Path, answer: bytes, words: str) -> None:
    with pytest.raises(Damaged, match=words):
        read(tmp_path, answer)


def test_a_server_that_hangs_up_can_be_tried_again(tmp_path: Path) -> None:
    with pytest.raises(Unavailable, match="closed the connection"):
        read(tmp_path, data(AT, BYTES)[:-1])


PARTS = st.one_of(
    st.builds(data, st.integers(AT - 9, AT + LENGTH), st.binary(max_size=LENGTH), last=st.booleans()),
    st.builds(hole, st.integers(AT - 9, AT + LENGTH), st.integers(0, LENGTH + 9), last=st.booleans()),
    st.builds(part, st.integers(0, 1 << 16 - 1), st.binary(max_size=40), last=st.booleans()),
    st.builds(simple, st.integers(0, 200), st.binary(max_size=LENGTH)),
    st.binary(max_size=40),
)


@settings(max_examples=120, deadline=None)
@given(st.lists(PARTS, max_size=6))
def test_whatever_is_sent_brings_data_or_an_error(tmp_path_factory: pytest.TempPathFactory, parts: list[bytes]) -> None:
    folder = tmp_path_factory.getbasetemp()
    with contextlib.suppress(BathotypeError):
        assert len(read(folder, b"".join(parts))) == LENGTH
    with contextlib.suppress(BathotypeError), server(folder, b"".join(parts)) as uri, NbdDisk(uri, timeout=5) as disk:
        assert disk.allocated().total <= SIZE


@settings(max_examples=60, deadline=None)
@given(st.binary(max_size=60), st.sampled_from([1, 3, 4, 1 << 31 | 1]), st.booleans())
def test_whatever_negotiates_is_a_disk_or_an_error(
    tmp_path_factory: pytest.TempPathFactory, body: bytes, kind: int, cut: bool
) -> None:
    def option(number: int) -> bytes:
        head = struct.pack(">QIII", 0x3E889045565A9, number, kind, len(body) + 5 * cut)
        return head + body + struct.pack(">QIII", 0x3E889045565A9, number, 1, 0)

    with (
        server(tmp_path_factory.getbasetemp(), b"", option=option) as uri,
        contextlib.suppress(BathotypeError),
        NbdDisk(uri, timeout=5) as disk,
    ):
        assert disk.size >= 0


@pytest.mark.parametrize(
    "uri", ["nbd://", "nbd:///x", "nbd://h:99999/x", "nbd://h:x/x", "nbd://[::1/x", "http://h/x", "", "nbd+unix:///x"]
)
def test_what_is_no_address(uri: str) -> None:
    with pytest.raises(Invalid, match="is not an NBD address"):
        NbdAddress.parse(uri)


def test_an_address_has_a_host_or_a_socket() -> None:
    assert NbdAddress.parse("nbd://site.example/one%20disk") == NbdAddress("one disk", "site.example", 10809)
    assert NbdAddress.parse("nbd://[2001:db8::1]:99/x") == NbdAddress("x", "2001:db8::1", 99)
    assert NbdAddress.parse("nbd+unix:///x?socket=/run/a%20b") == NbdAddress("x", socket_path="/run/a b")


def test_extents_end_with_the_disk(tmp_path: Path) -> None:
    extents = [(65536, 0), (65536, 2), (1 << 31, 0), (4096, 0)]
    body = struct.pack(">I", 5) + b"".join(struct.pack(">II", *extent) for extent in extents)
    with server(tmp_path, part(STATUS, body)) as uri, NbdDisk(uri, timeout=5) as disk:
        assert list(disk.allocated()) == [(0, 65536), (131072, SIZE)]


def test_extents_that_lead_nowhere_are_an_error(tmp_path: Path) -> None:
    for body in (struct.pack(">I", 5), struct.pack(">III", 5, 0, 0), struct.pack(">III", 6, 65536, 0), b"\0\0\0\5\1"):
        with (
            server(tmp_path, part(STATUS, body)) as uri,
            NbdDisk(uri, timeout=5) as disk,
            pytest.raises(Damaged, match="no block status"),
        ):
            disk.allocated()


def test_no_answer_goes_on_for_ever(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    reply = struct.pack(">QIII", 0x3E889045565A9, 8, 3, 0)
    with (
        server(tmp_path, b"", option=lambda number: reply * 1001) as uri,
        pytest.raises(Damaged, match="without end"),
    ):
        NbdDisk(uri, timeout=5)
    monkeypatch.setattr(nbd, "_MOST_EXTENTS", 2)
    body = struct.pack(">I", 5) + struct.pack(">II", 512, 0) * 3
    with server(tmp_path, part(STATUS, body)) as uri, NbdDisk(uri, timeout=5) as disk:
        with pytest.raises(Damaged, match="without end"):
            disk.allocated()
    monkeypatch.setattr(nbd, "_MOST_REPLY", 100)
    answer = part(9, bytes(60), last=False) + part(9, bytes(60))
    with pytest.raises(Damaged, match="without end"):
        read(tmp_path, answer)
