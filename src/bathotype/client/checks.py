"""Runs of checks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from bathotype.client.calls import Calls
from bathotype.core.checks.check import Check
from bathotype.wire import checks as wire
from bathotype.wire import operations as work


class CheckCalls(Calls):
    """Judging versions and instances."""

    def prove(
        self,
        reference: str,
        *,
        checks: Sequence[Check] | None = None,
        region: str | None = None,
        machine_size: str | None = None,
        ready_seconds: int = 900,
        tags: Mapping[str, str] | None = None,
        key: str | None = None,
    ) -> work.Operation:
        """Judge a version on a throwaway instance of it; without checks by those of its last run."""
        body = wire.CheckRequest(
            reference=reference, checks=None if checks is None else list(checks), region=region,
            machine_size=machine_size, ready_seconds=ready_seconds, tags=dict(tags or {}),
        )  # fmt: skip
        return self._check(body, key)

    def check_instance(
        self, instance: str, *, checks: Sequence[Check] | None = None, key: str | None = None
    ) -> work.Operation:
        """Judge an instance that runs; without checks by those of its version's last run."""
        return self._check(wire.CheckRequest(instance=instance, checks=None if checks is None else list(checks)), key)

    def _check(self, body: wire.CheckRequest, key: str | None) -> work.Operation:
        return self._create(work.Operation, "/checks", body.model_dump(mode="json", by_alias=True), key)

    def check_run(self, operation: str) -> wire.CheckRun:
        """A run of checks, with what was seen of each."""
        return self._transport.one(wire.CheckRun, "GET", f"/checks/{operation}")

    def check_runs(self, reference: str) -> Iterator[wire.CheckRun]:
        """Runs of checks on a version and its instances, the newest first."""
        return self._transport.pages(wire.CheckRun, f"/versions/{reference}/checks")
