"""Reading a repository with git itself, behind walls: what it holds, and who holds it, may be an enemy's.

Git runs with no configuration but ours, runs no hook, follows no redirection and no submodule, and sees no file but its
own folder.  What it prints is cut where it becomes too much, and so is what it may write and how long it may take.
"""

from __future__ import annotations

import base64
import os
import re
import signal
import subprocess
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from selectors import EVENT_READ, DefaultSelector
from time import monotonic

from bathotype.core.confined.sandbox import tool, walled
from bathotype.core.errors import NotFound, Refused, Unavailable
from bathotype.core.repositories.address import Address
from bathotype.core.units import iec

#: What a commit may take on disk, and how many files its folder may hold.
MOST_BYTES, MOST_FILES = 1024**3, 20_000
_SECONDS, _PROCESSOR = 120, 60
_LISTING, _TOLD = 16 * 1024**2, 65536
_COMMIT = re.compile(r"[0-9a-f]{40}|[0-9a-f]{64}")
_GOOD = re.compile(r'^Good "git" signature for (\S+) with ', re.MULTILINE)
_CONFIGURATION = """\
[safe]
	directory = *
[core]
	hooksPath = /dev/null
	askPass =
[credential]
	helper =
[protocol]
	allow = never
[protocol "https"]
	allow = always
[protocol "http"]
	allow = always
[protocol "ssh"]
	allow = always
[protocol "file"]
	allow = always
[http]
	followRedirects = false
	lowSpeedLimit = 1000
	lowSpeedTime = 30
[transfer]
	fsckObjects = true
[gc]
	auto = 0
[gpg]
	program = /nonexistent
	minTrustLevel = fully
[gpg "x509"]
	program = /nonexistent
[gpg "ssh"]
	allowedSignersFile = /given/signers
"""


@dataclass(frozen=True)
class Access:
    """What a repository wants to see of its reader.

    ``secret`` is ``USER:PASSWORD`` or a token for https, a private key for ssh.  ``known_hosts`` are lines of the format
    that sshd(8) gives: a host that is in none of them is not spoken with.  ``authorities`` is a file with certificates, in
    the place of the system's.
    """

    secret: str = field(default="", repr=False)
    known_hosts: Sequence[str] = ()
    authorities: Path | None = None


@dataclass(frozen=True)
class Blob:
    """A file of a commit; ``mode`` as git has it: 100644, 100755, or 120000 for a link."""

    id: str
    mode: str
    size: int


@dataclass(frozen=True)
class Commit:
    """A commit, and the files of its folder by their paths from the repository's top.

    ``signer`` is who signed it, of those that were asked for; empty where nobody was asked for.
    """

    id: str
    author: str
    at: datetime
    subject: str
    signer: str
    files: Mapping[str, Blob]
    _git: _Git = field(repr=False, compare=False)

    def read(self, path: str, most: int) -> bytes:
        """A file's bytes.  Raises `NotFound`, and `Refused` for a link or what is too large."""
        blob = self.files.get(path)
        if blob is None:
            raise NotFound(f"{path} is not in the repository.", code="payload-missing")
        if not blob.mode.startswith("100"):
            raise Refused(f"{path} is a link.", advice="Put the file itself there.", code="payload-elsewhere")
        if blob.size > most:
            raise Refused(f"{path} is larger than {iec(most)}.", code="too-large")
        return self._git.run("cat-file", "blob", blob.id, most=blob.size)


def tip(address: Address, branch: str, access: Access) -> str:
    """The commit that a branch is at.  Raises `NotFound` for no such branch, `Unavailable`."""
    with _git(address, access) as git:
        told = git.run("ls-remote", "--refs", address.url, f"refs/heads/{branch}", most=_TOLD, away=True)
    commit = told.decode("ascii", "replace").partition("\t")[0].strip()
    if not commit:
        raise NotFound(f"The repository has no branch {branch}.", advice="Name one that it has.", code="no-branch")
    return _checked(commit)


@contextmanager
def fetched(
    address: Address,
    branch: str,
    folder: str,
    access: Access,
    *,
    signers: Sequence[str] = (),
    scratch: Path | None = None,
) -> Iterator[Commit]:
    """The commit that a branch is at, with the files of a folder; its copy goes when the context ends.

    With ``signers`` (lines of an allowed-signers file) it must be signed by one of them with a key of SSH.  Raises
    `Refused` where it is not, or is too large; `NotFound`, `Unavailable`.
    """
    with _git(address, access, scratch=scratch, signers=signers) as git:
        git.run("init", "--quiet", "--bare", "/repo/git", most=_TOLD)
        git.run(
            "fetch", "--quiet", "--depth=1", "--no-tags", "--no-recurse-submodules", "--no-write-fetch-head",
            address.url, f"refs/heads/{branch}:refs/heads/read", most=_TOLD, away=True,
        )  # fmt: skip
        shown = git.run("log", "-1", "--format=%H%x00%an%x00%cI%x00%s", "refs/heads/read", most=_TOLD)
        commit, author, at, subject = shown.decode("utf-8", "replace").rstrip("\n").split("\0", 3)
        signer = git.signer(_checked(commit)) if signers else ""
        yield Commit(
            commit, _plain(author), datetime.fromisoformat(at), _plain(subject), signer, git.files(commit, folder), git
        )


def _checked(commit: str) -> str:
    if not _COMMIT.fullmatch(commit):
        raise Unavailable("The repository names no commit.", code="repository-not-read")
    return commit


def _plain(text: str) -> str:
    return "".join(c if c.isprintable() else " " for c in text)[:200].strip()


@contextmanager
def _git(
    address: Address, access: Access, *, scratch: Path | None = None, signers: Sequence[str] = ()
) -> Iterator[_Git]:
    with tempfile.TemporaryDirectory(prefix="git-", dir=scratch) as folder:
        yield _Git(Path(folder), address, access, signers)


class _Git:
    """Git behind the walls, with a folder of its own."""

    def __init__(self, folder: Path, address: Address, access: Access, signers: Sequence[str]) -> None:
        self._folder, self._address, self._access, self._signers = folder, address, access, signers

    def files(self, commit: str, folder: str) -> dict[str, Blob]:
        """The files of a folder, links too; what other repositories hold (submodules) is left out."""
        where = [f":(literal){folder}/"] if folder else []
        told = self.run("ls-tree", "-r", "-l", "-z", "--full-tree", commit, "--", *where, most=_LISTING)
        lines = told.split(b"\0")[:-1]
        if len(lines) > MOST_FILES:
            raise Refused(f"The folder holds more than {MOST_FILES} files.", code="too-large")
        found = {}
        for line in lines:
            about, _, path = line.partition(b"\t")
            mode, kind, name, size = about.decode().split()
            if kind == "blob":
                found[path.decode("utf-8", "backslashreplace")] = Blob(name, mode, int(size))
        return found

    def signer(self, commit: str) -> str:
        """Who signed a commit.  Raises `Refused` where that is none of the signers."""
        done = self._ended(["verify-commit", "--raw", commit], most=_TOLD)
        good = _GOOD.search(done.err)
        if done.code or good is None:
            raise Refused(
                f"The commit {commit[:12]} is not signed by anybody who may.",
                advice="Sign it with an SSH key that is among the signers of the repository.",
                code="commit-not-signed",
            )
        return good[1]

    def run(self, *argv: str, most: int, away: bool = False) -> bytes:
        """What git prints.  ``away`` says that it asks the repository, and may fail because of that."""
        done = self._ended(list(argv), most=most, away=away)
        if done.too_much:
            raise Refused("The repository holds too much.", advice="Name a smaller folder of it.", code="too-large")
        if done.code:
            told = _plain(" ".join(done.err.split())) or f"git ended with {done.code}"
            if away and "couldn't find remote ref" in told:
                raise NotFound("The repository has no such branch.", code="no-branch")
            raise Unavailable(f"The repository cannot be read: {told}", code="repository-not-read")
        return done.out

    def _ended(self, argv: list[str], *, most: int, away: bool = False) -> _Ended:
        git = [tool("git"), *(["-C", "/repo/git"] if argv[0] not in ("init", "ls-remote") else []), *argv]
        with ExitStack() as files:
            binds, given = self._binds(away), []
            for place, text in self._given(away).items():
                given.append(_in_memory(files, text))
                binds += ["--perms", "0600", "--file", str(given[-1]), place]
            command = walled(git, seconds=_PROCESSOR, binds=binds, environment=self._environment(away))
            return _run([tool("prlimit"), f"--fsize={MOST_BYTES}", *command], given, most)

    def _binds(self, away: bool) -> list[str]:
        binds = ["--bind", str(self._folder), "/repo", "--tmpfs", "/given", "--tmpfs", "/tmp"]
        binds += ["--symlink", "usr/bin", "/bin", "--proc", "/proc"]
        if away and self._address.scheme == "file":
            binds += ["--ro-bind", self._address.path, self._address.path]
        elif away:
            binds.append("--share-net")
            for path in ("/etc/ssl", "/etc/resolv.conf", "/etc/hosts", "/etc/nsswitch.conf"):
                binds += ["--ro-bind-try", path, path]
            if self._access.authorities is not None:
                binds += ["--ro-bind", str(self._access.authorities), "/etc/authorities"]
        return binds

    def _given(self, away: bool) -> dict[str, str]:
        """Files that git finds, which lie in memory alone: secrets are in no argument, no environment and on no disk."""
        given = {
            "/given/configuration": _CONFIGURATION,
            "/given/signers": "".join(f"{line}\n" for line in self._signers),
            "/etc/passwd": "reader:x:65534:65534::/repo:/usr/sbin/nologin\n",
        }
        secret = self._access.secret
        if away and self._address.scheme == "ssh":
            given["/given/known_hosts"] = "".join(f"{line}\n" for line in self._access.known_hosts)
            given["/given/key"] = secret.rstrip("\n") + "\n"
        elif away and secret and self._address.scheme in ("https", "http"):
            shown = base64.b64encode((secret if ":" in secret else f"git:{secret}").encode()).decode()
            given["/given/configuration"] += f"[http]\n\textraHeader = Authorization: Basic {shown}\n"
        return given

    def _environment(self, away: bool) -> list[str]:
        values = {
            "HOME": "/repo", "PATH": "/usr/bin", "LANG": "C.UTF-8", "GIT_CONFIG_NOSYSTEM": "1",
            "GIT_CONFIG_GLOBAL": "/given/configuration", "GIT_TERMINAL_PROMPT": "0",
        }  # fmt: skip
        if away and self._access.authorities is not None:
            values["GIT_SSL_CAINFO"] = "/etc/authorities"
        if away and self._address.scheme == "ssh":
            values["GIT_SSH_COMMAND"] = (
                "ssh -F /dev/null -i /given/key -o IdentitiesOnly=yes -o BatchMode=yes -o StrictHostKeyChecking=yes"
                " -o UserKnownHostsFile=/given/known_hosts -o GlobalKnownHostsFile=/dev/null -o ConnectTimeout=20"
            )
        return [word for name, value in values.items() for word in ("--setenv", name, value)]


def _in_memory(files: ExitStack, text: str) -> int:
    """A descriptor of a file that holds a text, and is in memory."""
    descriptor = os.memfd_create("given")
    files.callback(os.close, descriptor)
    os.write(descriptor, text.encode())
    os.lseek(descriptor, 0, os.SEEK_SET)
    return descriptor


@dataclass(frozen=True)
class _Ended:
    code: int
    out: bytes
    err: str
    too_much: bool


def _run(command: list[str], given: Sequence[int], most: int) -> _Ended:
    """Run a command that prints so many bytes at most; one that prints more, or takes too long, is ended."""
    ends, out, err, too_much = monotonic() + _SECONDS, bytearray(), bytearray(), False
    with subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, pass_fds=given
    ) as process, DefaultSelector() as ready:  # fmt: skip
        assert process.stdout is not None and process.stderr is not None
        ready.register(process.stdout, EVENT_READ, (out, most))
        ready.register(process.stderr, EVENT_READ, (err, _TOLD))
        while ready.get_map() and not too_much:
            found = ready.select(max(0.0, ends - monotonic()))
            if not found:
                process.kill()
                raise Unavailable(f"The repository was not read within {_SECONDS} s.", code="repository-not-read")
            for key, _ in found:
                piece, (kept, limit) = os.read(key.fd, 65536), key.data
                kept += piece
                too_much |= len(kept) > limit and kept is out
                del kept[limit:]
                if not piece:
                    ready.unregister(key.fileobj)
        if too_much:
            process.kill()
        code = process.wait()
    # A file that would be larger than it may be ends git by this signal.
    stopped = code in (-signal.SIGXFSZ, 128 + signal.SIGXFSZ) or "File too large" in err.decode(errors="replace")
    return _Ended(code, bytes(out), err.decode("utf-8", "replace"), too_much or stopped)
