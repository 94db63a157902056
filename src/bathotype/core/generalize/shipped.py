"""Files that are exactly as their package shipped them: their text is public, whatever it looks like.

Documentation and tests of packages hold example keys, tokens and passwords.  dpkg keeps the MD5 sums of a package's
files (``/var/lib/dpkg/info/*.md5sums``) and of its configuration files (the status file), and RPM's database has sums of
all files; a compiled Python module counts as shipped where its source is.
"""

from __future__ import annotations

import hashlib
import re
from functools import cached_property

from bathotype.core.contents import rpmdb
from bathotype.core.guest.tree import FileTree

_MOST_FILE = 64 * 1024 * 1024
_LINE = re.compile(r"(?m)^([0-9a-f]{32})  (.+)$")
_CONFFILE = re.compile(r"(?m)^ (/\S+) ([0-9a-f]{32})(?: obsolete)?$")
_COMPILED = re.compile(r"(.*)/__pycache__/([^/]+)\.[a-z]+-\d+\.pyc")


class Shipped:
    """Knows the sums of one guest's packages; they are read when they are first asked for."""

    def __init__(self, tree: FileTree) -> None:
        self._tree = tree

    @cached_property
    def _sums(self) -> dict[str, tuple[str, str]]:
        """The hash function and the sum of each file."""
        found: dict[str, str] = {}
        for path in self._tree.entries:
            if path.startswith("/var/lib/dpkg/info/") and path.endswith(".md5sums"):
                text = (self._tree.read(path, most=_MOST_FILE) or b"").decode("utf-8", "surrogateescape")
                found.update((f"/{name}", digest) for digest, name in _LINE.findall(text))
        status = self._tree.read("/var/lib/dpkg/status", most=_MOST_FILE) or b""
        found.update(_CONFFILE.findall(status.decode("utf-8", "surrogateescape")))
        ours = {path: ("md5", digest) for path, digest in found.items()}
        for package in rpmdb.installed(self._tree):
            ours.update((path, (kind, digest)) for path, kind, digest in package.files)
        return ours

    def __contains__(self, path: str) -> bool:
        """Whether a file has the very bytes that its package shipped."""
        compiled = _COMPILED.fullmatch(path)
        if compiled:
            path = f"{compiled[1]}/{compiled[2]}.py"
        wanted = self._sums.get(path) or self._sums.get(path.removeprefix("/usr")) or self._sums.get(f"/usr{path}")
        node = self._tree.entries.get(path)
        if wanted is None or node is None or not node.is_file or node.size > _MOST_FILE:
            return False
        kind, digest = wanted
        return hashlib.new(kind, self._tree.content(path), usedforsecurity=False).hexdigest() == digest
