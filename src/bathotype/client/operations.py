"""Calls about operations: watching them, waiting for their end."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import httpx
from httpx_sse import connect_sse

from bathotype.client.calls import Calls
from bathotype.client.transport import OperationFailed, error_of
from bathotype.wire import operations as work

Watcher = Callable[[work.Operation], None]


class OperationCalls(Calls):
    """What the service is doing, and has done."""

    def operations(
        self,
        *,
        state: work.OperationState | None = None,
        kind: str | None = None,
        subject: str | None = None,
        by: str | None = None,
        sort: work.OperationSort | None = None,
        limit: int = 50,
    ) -> Iterator[work.Operation]:
        """Operations, newest first unless sorted."""
        asked = {"state": state, "kind": kind, "subject": subject, "by": by, "sort": sort, "limit": limit}
        return self._transport.pages(work.Operation, "/operations", **asked)

    def operation(self, operation_id: str) -> work.Operation:
        """One operation."""
        return self._transport.one(work.Operation, "GET", f"/operations/{operation_id}")

    def operation_log(self, operation_id: str) -> list[work.LogLine]:
        """An operation's log."""
        return self._transport.many(work.LogLine, f"/operations/{operation_id}/log")

    def cancel(self, operation_id: str) -> work.Operation:
        """Ask an operation to stop."""
        return self._transport.one(work.Operation, "POST", f"/operations/{operation_id}/cancel")

    def retry(self, operation_id: str) -> work.Operation:
        """Run a failed operation again."""
        return self._transport.one(work.Operation, "POST", f"/operations/{operation_id}/retry")

    def watch(self, operation_id: str) -> Iterator[work.Operation]:
        """An operation at each change until it has ended; a broken connection is taken up again."""
        while True:
            try:
                with connect_sse(
                    self._transport.http,
                    "GET",
                    f"/operations/{operation_id}/events",
                    timeout=httpx.Timeout(30, read=60),
                ) as source:
                    if source.response.status_code >= 400:
                        raise error_of(source.response)
                    for event in source.iter_sse():
                        if event.event == "operation":
                            seen = work.Operation.model_validate_json(event.data)
                            yield seen
                            if seen.state in work.ENDED:
                                return
            except httpx.TransportError:
                pass
            seen = self.operation(operation_id)  # waits while the service is away, and raises when it stays away
            yield seen
            if seen.state in work.ENDED:
                return

    def wait(self, operation_id: str, *, on_progress: Watcher | None = None) -> work.Operation:
        """Wait until an operation has ended.  Raises `OperationFailed` unless it succeeded."""
        last: work.Operation | None = None
        for last in self.watch(operation_id):
            if on_progress is not None:
                on_progress(last)
        assert last is not None
        if last.state == "cancelled":
            raise OperationFailed(f"The {last.kind} of {last.subject} was cancelled.", code="cancelled")
        if last.state == "failed":
            failure = last.error
            raise OperationFailed(
                failure.message if failure else "It failed.",
                advice=failure.advice if failure else "",
                code=failure.code if failure else "failed",
            )
        return last
