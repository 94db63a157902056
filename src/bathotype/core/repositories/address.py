"""Where a repository may be, and what a branch and a folder of it are called."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote, urlsplit

from bathotype.core.errors import Invalid
from bathotype.core.hosts import is_named, is_secure, named

_SCP = re.compile(r"(?:[^@/:]+@)?[^/:]+:(?!//)")
#: What `git check-ref-format` allows, and less: no name that a shell or git itself would read otherwise.
_BRANCH = re.compile(r"[A-Za-z0-9_][A-Za-z0-9._-]*(/[A-Za-z0-9_][A-Za-z0-9._-]*)*")
_KEY_TYPES = re.compile(r"(ssh-(ed25519|rsa)|ecdsa-sha2-nistp(256|384|521)|sk-[a-z0-9-]+@openssh\.com)")


@dataclass(frozen=True)
class Address:
    """Where a repository is: ``scheme`` is https, http (this host alone), ssh or file."""

    url: str
    scheme: str
    host: str
    path: str


def read_address(url: str, hosts: Sequence[str], folders: Sequence[Path]) -> Address:
    """The address of a repository.  Raises `Invalid` unless the operator allows its host, or its folder on this host."""
    if _SCP.match(url) and "://" not in url:
        raise Invalid(f"{url[:200]!r} is no address with a scheme.", advice="Write ssh://git@host/path.")
    try:
        parts = urlsplit(url)
        host, port, password = parts.hostname or "", parts.port, parts.password
    except ValueError:
        raise Invalid(f"{url[:200]!r} is no address of a repository.", advice="Write https://host/path.") from None
    bad = not url.isascii() or not url.isprintable() or " " in url or parts.query or parts.fragment or port == 0
    if bad or parts.scheme not in ("https", "http", "ssh", "file") or host.startswith("-"):
        raise Invalid(
            f"{url[:200]!r} is no address of a repository.",
            advice="Write https://host/path, ssh://git@host/path or file:///path.",
        )
    if password is not None or (parts.scheme in ("https", "http") and parts.username):
        raise Invalid("The address holds a user or password.", advice="Keep it as a secret, and name the secret.")
    if (parts.username or "").startswith("-") or not parts.path.strip("/"):
        raise Invalid(f"{url[:200]!r} names no repository.", advice="Write https://host/path.")
    if parts.scheme == "file":
        return _file(url, unquote(parts.path), host, folders)
    if not is_named(host, hosts):
        raise Invalid(f"Repositories of {host} may not be read.", advice=named(hosts))
    if parts.scheme != "ssh" and not is_secure(parts.scheme, host):
        raise Invalid(f"A repository of {host} needs https or ssh.", advice="Write https://host/path.")
    return Address(url, parts.scheme, host, parts.path)


def _file(url: str, path: str, host: str, folders: Sequence[Path]) -> Address:
    """What is meant is the folder itself, whatever links lead there."""
    if host or not path.startswith("/") or not path.isprintable():
        raise Invalid(f"{url[:200]!r} is no folder of this host.", advice="Write file:///path.")
    real = Path(path).resolve()
    if not any(real.is_relative_to(folder.resolve()) for folder in folders):
        raise Invalid(
            f"Repositories in {path} may not be read.", advice="The operator names folders in the regions file."
        )
    return Address(f"file://{real}", "file", "", str(real))


def check_branch(name: str) -> None:
    """Raises `Invalid` unless a branch may be called so."""
    if not _BRANCH.fullmatch(name) or ".." in name or name.endswith((".lock", ".")) or "/." in name or len(name) > 200:
        raise Invalid(f"{name[:200]!r} is no name of a branch.", advice="Write main, or release/2026.")


def check_folder(path: str) -> None:
    """Raises `Invalid` unless it is a folder of a repository, written from its top; empty is the top itself."""
    parts = path.split("/") if path else []
    if any(part in ("", ".", "..") for part in parts) or not path.isprintable() or len(path) > 500:
        raise Invalid(f"{path[:200]!r} is no folder of a repository.", advice="Write images/sheets, from its top.")


def check_signers(lines: Sequence[str]) -> None:
    """Raises `Invalid` unless each is a line of an allowed-signers file, as ssh-keygen(1) has it, that names one key."""
    for line in lines:
        words = line.split(" ")
        kind = next((n for n, word in enumerate(words) if _KEY_TYPES.fullmatch(word)), 0)
        if not line.isprintable() or kind not in (1, 2) or len(words) <= kind + 1 or "*" in words[0]:
            raise Invalid(
                f"{line[:100]!r} names no signer.",
                advice="Write WHO KEYTYPE KEY, such as: orla@tide.example ssh-ed25519 AAAA...",
            )
        try:
            base64.b64decode(words[kind + 1], validate=True)
        except (ValueError, binascii.Error):
            raise Invalid(f"The key of {words[0]} is not whole.", advice="Copy it from the .pub file.") from None
