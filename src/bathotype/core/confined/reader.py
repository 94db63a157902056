"""Asking a confined child: one process for as long as the reader is open, started with the first question.

A child that dies, is silent for too long, or answers with something else than was asked for is ended, and its question
fails with a reason; the next question starts another.
"""

from __future__ import annotations

import contextlib
import json
import socket
import subprocess
import time
from collections.abc import Callable
from types import TracebackType
from typing import Any, TypeVar

from pydantic import ValidationError

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
    REQUEST,
    TOOL,
    Frame,
    Wire,
    error_in,
    error_out,
    ranges_out,
)
from bathotype.core.confined.sandbox import python
from bathotype.core.confined.task import Task
from bathotype.core.disk.several import disks_of
from bathotype.core.disk.source import BlockSource, FileSource, check_read
from bathotype.core.disk.stretch import Stretch
from bathotype.core.errors import BathotypeError, Damaged
from bathotype.core.guest.offline import check, replay

Q = TypeVar("Q")
A = TypeVar("A")
Progress = Callable[[int, int], None]
Pieces = Callable[[int, bytes], None]

#: Processor time that one child may take, in seconds: hours of reading, for disks of many terabytes.
_PROCESSOR = 6 * 3600
#: How often a waiting asker looks whether it should stop, in seconds.
_TURN = 0.5
#: Uses of tools for one question: two for each volume that is changed.
_MOST_TOOLS = 256
_TOOLS = {"judge": check, "replay": replay}


def _child(socket_number: int) -> list[str]:
    return python("-m", "bathotype.core.confined.child", str(socket_number), seconds=_PROCESSOR)


class ConfinedReader:
    """A confined child, and what it is asked.  ``check`` is called while an answer is awaited, and may raise to stop it."""

    def __init__(
        self, check: Callable[[], None] = lambda: None, *, command: Callable[[int], list[str]] = _child
    ) -> None:
        """``command`` starts another program that talks as the child does over the socket with that number."""
        self._check, self._command = check, command
        self._process: subprocess.Popen[bytes] | None = None
        self._wire: Wire | None = None

    def __enter__(self) -> ConfinedReader:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    @property
    def running(self) -> bool:
        """Whether there is a child."""
        return self._process is not None

    @property
    def lives(self) -> bool:
        """Whether there is one that has not ended by itself."""
        return self._process is not None and self._process.poll() is None

    def start(self) -> ConfinedReader:
        """Start the child before there is a question: it takes a while until it is ready."""
        self._started()
        return self

    def close(self) -> None:
        """End the child."""
        if self._wire is not None:
            self._wire.close()
        if self._process is not None:
            self._process.kill()
            self._process.wait()
        self._process = self._wire = None

    def ask(
        self,
        task: Task[Q, A],
        question: Q,
        *sources: BlockSource,
        progress: Progress = lambda done, total: None,
        pieces: Pieces | None = None,
    ) -> A:
        """Have a task done on sources.  A `FileSource` is given as the open file that it is, writable if it is that.

        Raises what the task raises, and `Damaged` where the child fails.
        """
        wire = self._started()
        wire.deadline = time.monotonic() + task.seconds
        try:
            wire.send_json(
                REQUEST,
                {
                    "task": task.name,
                    "question": task.questions.dump_python(question, mode="json"),
                    "sources": [
                        {"size": s.size, "file": isinstance(s, FileSource), "disks": disks_of(s)} for s in sources
                    ],
                },
            )
            wire.send_files([s.descriptor for s in sources if isinstance(s, FileSource)])
            frame = self._answered(wire, task.seconds, sources, progress, pieces)
            if frame.kind == ANSWER:
                return task.answers.validate_json(frame.body)
        except ValidationError as error:
            self.close()
            raise _failed("answers with something else than was asked for") from error
        except TimeoutError as error:
            self.close()
            raise _failed(f"was silent for {task.seconds:.0f} s") from error
        except (EOFError, OSError) as error:
            raise _failed(self._ending()) from error
        except BaseException:  # its answer would be taken for that to the next question
            self.close()
            raise
        raise error_in(frame.json())

    def _started(self) -> Wire:
        if self._process is not None and self._process.poll() is not None:
            self.close()
        if self._wire is None:
            ours, its = socket.socketpair()
            with its:
                self._process = subprocess.Popen(
                    self._command(its.fileno()),
                    pass_fds=(its.fileno(),),
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                )
            self._wire = Wire(ours)
        return self._wire

    def _answered(
        self, wire: Wire, seconds: float, sources: tuple[BlockSource, ...], progress: Progress, pieces: Pieces | None
    ) -> Frame:
        """Serve the child until it has answered.  Raises `TimeoutError`."""
        tools = 0
        while True:
            if not wire.waits(_TURN):
                self._check()
                if time.monotonic() > wire.deadline:
                    raise TimeoutError
                continue
            frame = wire.take()
            if frame.kind in (ANSWER, FAILED):
                return frame
            if frame.kind in (PROGRESS, PIECE):
                wire.deadline = time.monotonic() + seconds
            tools += frame.kind == TOOL
            began = time.monotonic()
            outcome = _outcome(frame, sources, progress, pieces) if tools <= _MOST_TOOLS else (REFUSED, b"{}")
            wire.deadline += time.monotonic() - began  # what it waits for does not count against it
            if outcome is not None:
                wire.send(*outcome)

    def _ending(self) -> str:
        """How the child ended."""
        process = self._process
        with contextlib.suppress(subprocess.TimeoutExpired):
            if process is not None:
                process.wait(2)
        code = process.returncode if process is not None else None
        self.close()
        if code is None:
            return "broke off"
        return (
            f"was ended by signal {-code if code < 0 else code - 128}"
            if code < 0 or code > 128
            else f"ended with {code}"
        )


def _outcome(
    frame: Frame, sources: tuple[BlockSource, ...], progress: Progress, pieces: Pieces | None
) -> tuple[bytes, bytes] | None:
    """The frame that answers one of the child's; None where it waits for nothing.

    What goes wrong with a piece or a report is not the child's to know: it is raised.
    """
    if frame.kind == PROGRESS:
        done, total = frame.numbers()
        progress(done, total)
        return None
    if frame.kind == PIECE and pieces is not None and len(frame.body) >= 8:
        pieces(int.from_bytes(frame.body[:8], "little"), frame.body[8:])
        return None
    try:
        return BYTES, _reply(frame, sources)
    except BathotypeError as error:
        return REFUSED, json.dumps(error_out(error)).encode()


def _reply(frame: Frame, sources: tuple[BlockSource, ...]) -> bytes:
    """What the child is given for a frame.  Raises what is refused to it."""
    if frame.kind == READ:
        number, offset, length = frame.numbers()
        source = _source(sources, number)
        check_read(source.size, offset, min(length, MOST_READ + 1))
        if length > MOST_READ:
            raise Damaged("That is too much at once.")
        return source.read(offset, length)
    if frame.kind == ALLOCATED:
        return ranges_out(_source(sources, frame.numbers()[0]).allocated())
    if frame.kind == TOOL:
        _use_tool(frame.json(), sources)
        return b""
    raise OSError("a frame that nobody expects")


def _source(sources: tuple[BlockSource, ...], number: int) -> BlockSource:
    if number >= len(sources):
        raise Damaged("There is no such source.")
    return sources[number]


def _use_tool(asked: Any, sources: tuple[BlockSource, ...]) -> None:
    try:
        use, image = _TOOLS[asked["tool"]], _source(sources, int(asked["source"]))
        pieces = tuple((int(start), int(length)) for start, length in asked["pieces"])
    except (KeyError, TypeError, ValueError) as error:
        raise Damaged("There is no such tool.") from error
    inside = pieces and all(start >= 0 and length > 0 and start + length <= image.size for start, length in pieces)
    if not isinstance(image, FileSource) or not inside or sum(length for _, length in pieces) > image.size:
        raise Damaged("There is no such file system.")
    use(image, Stretch(pieces))


def _failed(how: str) -> Damaged:
    return Damaged(
        f"The process that reads it {how}.",
        advice="What it reads is damaged, or made to do harm: look at it on a machine that may be lost.",
        code="reader-failed",
    )
