"""The command line in this process, over the application in this process."""

from __future__ import annotations

import subprocess
from collections.abc import Callable

import pytest

from tests.office import OWNER, Office
from tests.support import command_line

Cli = Callable[..., "subprocess.CompletedProcess[str]"]


@pytest.fixture
def cli(office: Office, monkeypatch: pytest.MonkeyPatch) -> Cli:
    """Run a command for an account; operations that it starts are worked on at once."""

    def run(*argv: str, account: str = OWNER) -> subprocess.CompletedProcess[str]:
        monkeypatch.setattr("bathotype.cli.main.connect", lambda given: office.client(account))
        return command_line(*argv)

    return run
