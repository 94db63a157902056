"""The confined process: it takes one request after another from its socket, reads what it may, and answers.

It is started by `reader` behind the walls of `sandbox`, and has nothing but the socket and the files that come with a request.
"""

from __future__ import annotations

import json
import os
import socket
import sys
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from typing import Any

from pydantic_core import PydanticSerializationError

from bathotype.core.confined.frames import (
    ALLOCATED,
    ANSWER,
    BYTES,
    FAILED,
    MOST_READ,
    PIECE,
    PROGRESS,
    READ,
    REFUSED,
    TOOL,
    Wire,
    error_in,
    error_out,
    progress_report,
    ranges_in,
    read_request,
)
from bathotype.core.confined.task import Task
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, FileSource, check_read
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import BathotypeError, Damaged

#: Where tasks are; a module is loaded when it is asked for first.
MODULES = ("looking", "changing", "judging", "imagefile")


class _Asked:
    """A source whose bytes the asker reads for us."""

    def __init__(self, wire: Wire, number: int, size: int, disks: tuple[int, ...]) -> None:
        self._wire, self._number, self.size, self.disks = wire, number, size, disks
        self._allocated: Ranges | None = None

    def read(self, offset: int, length: int) -> bytes:
        check_read(self.size, offset, length)
        if length <= MOST_READ:
            return self._read(offset, length)
        ends = range(offset, offset + length, MOST_READ)
        return b"".join(self._read(at, min(MOST_READ, offset + length - at)) for at in ends)

    def _read(self, offset: int, length: int) -> bytes:
        self._wire.send(READ, read_request(self._number, offset, length))
        return _reply(self._wire)

    def allocated(self) -> Ranges:
        if self._allocated is None:
            self._wire.send(ALLOCATED, bytes([self._number]))
            self._allocated = ranges_in(_reply(self._wire))
        return self._allocated


class _Bench:
    """See `task.Bench`."""

    def __init__(self, wire: Wire, sources: list[BlockSource]) -> None:
        self._wire, self._sources = wire, sources

    @property
    def sources(self) -> list[BlockSource]:
        return self._sources

    def progress(self, done: int, total: int) -> None:
        self._wire.send(PROGRESS, progress_report(done, total))

    def piece(self, at: int, data: bytes) -> None:
        self._wire.send(PIECE, at.to_bytes(8, "little") + data)

    def judge(self, image: FileSource, stretch: Stretch) -> None:
        self._tool("judge", image, stretch)

    def replay(self, image: FileSource, stretch: Stretch) -> None:
        self._tool("replay", image, stretch)

    def _tool(self, name: str, image: FileSource, stretch: Stretch) -> None:
        number = self._sources.index(image)
        self._wire.send_json(TOOL, {"tool": name, "source": number, "pieces": stretch.pieces})
        _reply(self._wire)


def _reply(wire: Wire) -> bytes:
    frame = wire.take()
    if frame.kind == BYTES:
        return frame.body
    raise error_in(frame.json()) if frame.kind == REFUSED else EOFError


def _task(name: str) -> Task[Any, Any]:
    module, _, function = name.partition(".")
    if module not in MODULES:
        raise Damaged(f"There is no task {name!r}.")
    task: Task[Any, Any] = import_module(f"bathotype.core.confined.{module}").TASKS[function]
    return task


def _serve(wire: Wire) -> None:
    asked = wire.take().json()
    files = wire.take_files(sum(1 for source in asked["sources"] if source["file"]))
    left = list(files)
    sources: list[BlockSource] = [
        FileSource.opened(left.pop(0), tuple(source["disks"]))
        if source["file"]
        else _Asked(wire, number, source["size"], tuple(source["disks"]))
        for number, source in enumerate(asked["sources"])
    ]
    try:
        task = _task(asked["task"])
        answer = task.run(_Bench(wire, sources), task.questions.validate_python(asked["question"]))
        wire.send(ANSWER, _written(task, answer))
    except BathotypeError as error:
        wire.send_json(FAILED, _legible(error_out(error)))
    except MemoryError:
        wire.send_json(FAILED, error_out(Damaged("It needs more memory to be read than it may take.")))
    except (EOFError, OSError):
        raise
    except Exception as error:
        wire.send_json(FAILED, error_out(Damaged(f"It cannot be read ({_place(error)}).", code="reader-failed")))
    finally:
        for descriptor in files:
            os.close(descriptor)


def _written(task: Task[Any, Any], answer: Any) -> bytes:
    """An answer as JSON that any record can hold: a NUL or half of a character, as a guest's files and their names may
    have them, becomes the replacement character.  What must stay as it is is sent as hexadecimal text."""
    with suppress(PydanticSerializationError):
        body = task.answers.dump_json(answer)
        if b"\\u0000" not in body:
            return body
    return json.dumps(_legible(task.answers.dump_python(answer))).encode()


def _legible(data: Any) -> Any:
    if isinstance(data, str):
        return "".join("\N{REPLACEMENT CHARACTER}" if c == "\0" or "\ud800" <= c <= "\udfff" else c for c in data)
    if isinstance(data, dict):
        return {_legible(key): _legible(value) for key, value in data.items()}
    return [_legible(item) for item in data] if isinstance(data, list | tuple) else data


def _place(error: BaseException) -> str:
    """What went wrong inside, for a report: the kind of error, and where."""
    trace = error.__traceback__
    while trace is not None and trace.tb_next is not None:
        trace = trace.tb_next
    where = f"{Path(trace.tb_frame.f_code.co_filename).name}:{trace.tb_lineno}" if trace else "?"
    return f"{type(error).__name__} at {where}"


def main() -> None:
    """Serve until the other end closes."""
    wire = Wire(socket.socket(fileno=int(sys.argv[1])))
    with suppress(EOFError, OSError):
        while True:
            _serve(wire)


if __name__ == "__main__":
    main()
