"""What becomes of a version that a run has made: it is released, marks move to it, it is brought to regions, and files
of it go to buckets."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy.orm import Session

from bathotype.core.errors import Refused
from bathotype.core.lifecycle.states import VersionState
from bathotype.core.sheets.result import Result
from bathotype.service import lifecycle
from bathotype.service.buckets import bucket_object
from bathotype.service.kinds.bucketexport import Sent, address_of, record_export, refuse_taken, send_version
from bathotype.service.operations.context import WorkContext
from bathotype.service.operations.kind import Memo
from bathotype.service.operations.start import unattended_principal
from bathotype.service.placements import start_replicate
from bathotype.service.records import Line, Operation, Version
from bathotype.service.records.base import CHANGE
from bathotype.wire.regions import RegionPlace


class DeliveryMemo(Memo):
    """What was done with the version; ``held_back`` is why what was to be released stays staged.

    ``placed`` are the operations that bring it to the regions of the sheet's placement, by these.
    ``exports`` are files that were sent to buckets, ``claimed`` the places in the sheet's list of those that began to be,
    and ``exports_told`` how many of them are in the audit trail.
    """

    delivered: list[str] = []
    held_back: str = ""
    placed: dict[str, str] = {}
    exports: list[dict[str, Any]] = []
    claimed: list[int] = []
    exports_told: int = 0


@dataclass(frozen=True)
class Delivery:
    """That of one version.  What is done is noted in ``memo`` and kept by ``save``: it is not done twice.

    ``save_in`` keeps it together with what a transaction records.
    """

    context: WorkContext
    wanted: Result
    line: str
    version_id: str
    reference: str
    region: str
    memo: DeliveryMemo
    save: Callable[[], None]
    save_in: Callable[[Session], None]

    def release(self) -> bool | None:
        """Release the version, move marks and bring it to its regions, where that is wanted.

        A finding in the way leaves it staged.
        """
        wanted, context = self.wanted, self.context
        if not wanted.release:
            return False
        with context.session() as session:
            caller = unattended_principal(session, context.account_id, context.created_by)
            line_id = session.get_one(Version, self.version_id).line_id
            session.get_one(Line, line_id, with_for_update=CHANGE)
            version = session.get_one(Version, self.version_id, with_for_update=CHANGE)
            if version.state == VersionState.STAGED:
                try:
                    lifecycle.release(session, caller, version)
                except Refused as error:
                    context.log(f"It stays staged: {error}", "warning")
                    self.memo.held_back = error.message
                    self.save()
                    return None
            for mark in wanted.marks:
                lifecycle.move_mark(session, caller, version, mark)
            for place in wanted.placement:
                if place.region not in self.memo.placed:
                    where = RegionPlace.model_validate(place.model_dump())
                    self.memo.placed[place.region] = start_replicate(session, caller, version, where).id
            self.save_in(session)
        self.memo.delivered = ["released", *(f"{self.line}@{mark}" for mark in wanted.marks)]
        self.save()
        context.log(f"{self.reference} is released.")
        for region, operation in self.memo.placed.items():
            context.log(f"Operation {operation} brings it to {region}.")
        return None

    def export(self) -> bool | None:
        """The files that are wanted; those of a version that stays staged are not made."""
        memo, context = self.memo, self.context
        if not self.wanted.exports or "released" not in memo.delivered:
            return False
        for number, one in enumerate(self.wanted.exports[len(memo.exports) :], len(memo.exports)):
            with context.session() as session:
                address = address_of(session.get_one(Version, self.version_id), one)
            if number not in memo.claimed:
                refuse_taken(bucket_object(context.reach, context.account_name, address, to="write"))
                memo.claimed.append(number)
                self.save()
            sent = send_version(context, self.version_id, self.region, one.format, one.disk, address)
            memo.exports.append(asdict(sent) | {"format": one.format})
            self.save()
        places = [str(one["to"]) for one in memo.exports]
        memo.delivered = [one for one in memo.delivered if one not in places] + places  # once, though it is done again
        self.save()
        return None

    def record(self, session: Session) -> None:
        """Record the files in the audit trail, each once, however the run ended."""
        for one in self.memo.exports[self.memo.exports_told :]:
            sent = Sent(one["to"], one["bytes"], one["sha256"])
            record_export(session, self.context, self.reference, sent, one["format"])
        operation = session.get_one(Operation, self.context.id)
        operation.memo = {**operation.memo, "exports_told": len(self.memo.exports)}
