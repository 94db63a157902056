"""A worker's life for one operation, in a process that is forked ready loaded: for the kill points."""

from __future__ import annotations

import os
import pwd


def run_operation(environment: dict[str, str], operation_id: str, user: str | None) -> None:
    """Run an operation to its end, or to where the kill file says, as the service's user."""
    if user is not None:
        os.initgroups(user, pwd.getpwnam(user).pw_gid)
        os.setgid(pwd.getpwnam(user).pw_gid)
        os.setuid(pwd.getpwnam(user).pw_uid)
    from bathotype.service.database import Database
    from bathotype.service.everykind import KINDS
    from bathotype.service.operations.runner import Runner
    from bathotype.service.reach import Reach
    from bathotype.service.settings import Settings

    os.environ.update(environment)
    settings = Settings.from_environment()
    database = Database(settings.database_url)
    Runner(database, settings, Reach(database, settings.places, patience=20.0), KINDS).run(operation_id)
    os._exit(0)
