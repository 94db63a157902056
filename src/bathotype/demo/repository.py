"""The demo's git repository, from which one of its sheets comes."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from pathlib import Path

_FILES = Path(__file__).with_name("office")
_AUTHOR = {"NAME": "orla", "EMAIL": "orla@tide.example"}


def make_repository(folder: Path) -> Path:
    """Make it below a folder, with one commit, unless it is there; returns where it is."""
    made = folder / "office.git"
    if (made / "refs/heads/main").exists():
        return made
    with tempfile.TemporaryDirectory() as name:
        work = Path(name) / "office"
        shutil.copytree(_FILES, work, ignore=shutil.ignore_patterns("__pycache__"))
        _git(work, "init", "--quiet", "--initial-branch=main")
        _git(work, "add", "--all")
        _git(work, "commit", "--quiet", "-m", "The panel of the north quay")
        shutil.rmtree(made, ignore_errors=True)
        _git(folder, "clone", "--quiet", "--bare", str(work), str(made))
    return made


def _git(folder: Path, *argv: str) -> None:
    """Without anything that the user's own settings say."""
    told = {f"GIT_{role}_{part}": value for role in ("AUTHOR", "COMMITTER") for part, value in _AUTHOR.items()}
    environment = {**os.environ, **told, "GIT_CONFIG_GLOBAL": "/dev/null", "GIT_CONFIG_NOSYSTEM": "1"}
    subprocess.run(["git", "-C", str(folder), *argv], env=environment, check=True, capture_output=True)
