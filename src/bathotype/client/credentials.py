"""Where the command line keeps what it signs in with: one file, readable by its owner alone."""

from __future__ import annotations

import json
import os
import stat
from dataclasses import asdict, dataclass
from pathlib import Path

from bathotype.core.errors import Invalid


@dataclass(frozen=True)
class Credentials:
    """A service, a token for it, and the account to act for (empty: the only one)."""

    url: str
    token: str
    account: str = ""
    token_id: str = ""


def default_path() -> Path:
    """``BATHOTYPE_CREDENTIALS``, else ``bathotype/credentials.json`` in the user's configuration folder."""
    given = os.environ.get("BATHOTYPE_CREDENTIALS")
    home = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(given) if given else Path(home) / "bathotype" / "credentials.json"


def load(path: Path) -> Credentials | None:
    """What is kept there, None where nothing is.  Raises `Invalid` for a file that others may read."""
    try:
        mode = path.stat().st_mode
        if stat.S_IMODE(mode) & 0o077:
            raise Invalid(f"{path} can be read by others.", advice=f"Run `chmod 600 {path}`, and sign in again.")
        kept = Credentials(**json.loads(path.read_text()))
        if not all(isinstance(value, str) for value in asdict(kept).values()):
            raise TypeError("texts alone")
        return kept
    except FileNotFoundError:
        return None
    except (ValueError, TypeError) as error:
        raise Invalid(
            f"{path} does not contain credentials of Bathotype.", advice="Remove it and sign in again."
        ) from error


def save(path: Path, credentials: Credentials) -> None:
    """Keep them: mode 0600, whole or not at all."""
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    fresh = path.with_name(f".{path.name}.{os.getpid()}")
    handle = os.open(fresh, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump(asdict(credentials), file)
    fresh.rename(path)


def forget(path: Path) -> None:
    """Remove them."""
    path.unlink(missing_ok=True)
