"""A worker for one operation: `python -m multiprocessing`'s fork server starts it, ready loaded, for the kill points."""

from __future__ import annotations

import os


def run_operation(environment: dict[str, str], operation_id: str) -> None:
    """Run an operation to its end, or to where the kill file says."""
    from bathotype.service.kinds import KINDS
    from bathotype.service.operations.runner import Runner
    from bathotype.service.state import Service

    os.environ.update(environment)
    service = Service.from_environment(patience=20.0)
    Runner(service.database, service.settings, service.reach, KINDS).run(operation_id)
    os._exit(0)
