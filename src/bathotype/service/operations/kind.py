"""What a kind of operation is: its parameters, its memo, its steps, and what is special about it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any, ClassVar, Generic, TypeVar

from pydantic import BaseModel, ConfigDict
from sqlalchemy import update
from sqlalchemy.orm import Session

from bathotype.service.operations.context import WorkContext
from bathotype.service.reach import Reach
from bathotype.service.records import Operation
from bathotype.sites.protocol import Site


class Params(BaseModel):
    """What an operation was asked to do.  It never changes; fields of an earlier release are ignored."""

    model_config = ConfigDict(frozen=True, extra="ignore")


class Memo(BaseModel):
    """What the steps of an operation keep for later steps, and for the worker that continues after a crash."""

    model_config = ConfigDict(extra="ignore")


P = TypeVar("P", bound=Params)
M = TypeVar("M", bound=Memo)


@dataclass(frozen=True)
class Step:
    """One step: its name is the method that does it; ``weight`` is its share of the whole.

    A step that needs what an earlier one left in this worker's scratch space names that one in ``restart_from``: after
    a crash the work continues from there.
    """

    name: str
    title: str
    weight: int = 1
    restart_from: str | None = None


_by_name: dict[str, type[Kind[Any, Any]]] = {}


def why_never_cancelled(name: str) -> str:
    """Why operations of a kind cannot be cancelled; empty where they can, or where no such kind is loaded."""
    return _by_name[name].never_cancelled if name in _by_name else ""


class Kind(Generic[P, M]):
    """Base of all kinds.  Steps are methods that run in order; each can safely run again after a crash inside it.

    A step returns False if there was nothing to do.  It saves what it found with `save`.
    """

    name: ClassVar[str]
    steps: ClassVar[tuple[Step, ...]]
    #: Why an operation of this kind cannot be cancelled; empty where it can.
    never_cancelled: ClassVar[str] = ""
    #: Whether disks or machines with the operation's tag can remain at the site of ``params.region`` if clean-up fails there.
    may_leave: ClassVar[bool] = False

    params_type: type[P]
    memo_type: type[M]

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        if "name" in vars(cls):
            _by_name[cls.name] = cls

    def __init__(self, context: WorkContext) -> None:
        self.context = context
        self.params: P = self.params_type.model_validate(context.operation.params)
        self.memo: M = self.memo_type.model_validate(context.operation.memo)

    def save(self) -> None:
        """Record the memo."""
        self.context.save_memo(self.memo.model_dump(mode="json"))

    def save_in(self, session: Session) -> None:
        """Record the memo together with what else changes in a transaction."""
        memo = self.memo.model_dump(mode="json")
        session.execute(update(Operation).where(Operation.id == self.context.id).values(memo=memo))

    def clean_up(self, outcome: str) -> None:
        """Remove what is temporary.  Runs after the last step, a failure or a cancellation; may run twice."""

    @classmethod
    def stays_until(cls, memo: M) -> datetime | None:
        """Until when what an ended operation left at the site stays there on purpose; None where nothing does."""
        return None

    @classmethod
    def mend_later(cls, site: Site, params: P, memo: M, outcome: str) -> None:
        """Set right at the site what `clean_up` could not, once the site answers again (duty ``leftovers``).

        What carries the operation's tag is removed without this.
        """

    def on_end(self, session: Session, outcome: str) -> None:
        """Change records in the transaction that ends the operation."""

    def result(self) -> dict[str, Any]:
        """What the operation answers when it succeeded.  An error raised here makes it fail."""
        return {}

    @classmethod
    def resumes_at(cls, session: Session, operation_id: str, params: P) -> str | None:
        """The step from which a retry goes on, with what the steps before it have done; None where it begins anew."""
        return None

    @classmethod
    def before_retry(cls, session: Session, reach: Reach, account_id: str, operation_id: str, params: P) -> None:
        """Take again what an operation gave back when it failed.  Raises `Refused` where that is impossible now."""


AnyKind = Kind[Any, Any]
