"""The identity of a guest, as far as its files show it."""

from __future__ import annotations

from typing import Any

from bathotype.core.guest.tree import FileTree


def identity_of(tree: FileTree, known: dict[str, Any]) -> dict[str, Any]:
    """What is known already, completed from the guest's files."""
    identity = dict(known)
    identity.setdefault("host_name", tree.text("/etc/hostname").strip())
    identity.setdefault("machine_id", tree.text("/etc/machine-id").strip())
    return identity
