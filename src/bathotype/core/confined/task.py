"""What a confined child can be asked: a task by its name, with typed questions and answers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, Any, Generic, Protocol, TypeVar

from pydantic import PlainSerializer, PlainValidator, TypeAdapter

from bathotype.core.confined.frames import ranges_in, ranges_out
from bathotype.core.disk.ranges import Ranges
from bathotype.core.disk.source import BlockSource, FileSource
from bathotype.core.disk.stretch import Stretch


def _packed(ranges: Ranges) -> str:
    return ranges_out(ranges).hex()


def _unpacked(value: Any) -> Ranges:
    return value if isinstance(value, Ranges) else ranges_in(bytes.fromhex(str(value)))


#: Ranges in questions and answers.
PackedRanges = Annotated[Ranges, PlainValidator(_unpacked), PlainSerializer(_packed, return_type=str)]


class Bench(Protocol):
    """What a task has at hand while it runs."""

    @property
    def sources(self) -> list[BlockSource]:
        """What it may read; those that the asker has as open files are a `FileSource`."""
        ...

    def progress(self, done: int, total: int) -> None:
        """Report how far it is."""
        ...

    def piece(self, at: int, data: bytes) -> None:
        """Give bytes that belong at an offset of what is made."""
        ...

    def judge(self, image: FileSource, stretch: Stretch) -> None:
        """Have ``e2fsck`` judge a file system.  Raises `Damaged`."""
        ...

    def replay(self, image: FileSource, stretch: Stretch) -> None:
        """Have ``e2fsck`` replay a journal.  Raises `Damaged`."""
        ...


Q = TypeVar("Q")
A = TypeVar("A")


@dataclass(frozen=True)
class Task(Generic[Q, A]):
    """``name`` is ``module.function`` of this package; ``seconds`` is how long it may be silent or at work."""

    name: str
    question: type[Q]
    answer: Any
    run: Callable[[Bench, Q], A]
    seconds: float = 900.0

    @cached_property
    def questions(self) -> TypeAdapter[Q]:
        """Reads and writes questions."""
        return TypeAdapter(self.question)

    @cached_property
    def answers(self) -> TypeAdapter[A]:
        """Reads and writes answers."""
        return TypeAdapter(self.answer)
