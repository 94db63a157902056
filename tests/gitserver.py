"""A git repository, and git's own server for it over https; and files that are served."""

from __future__ import annotations

import base64
import os
import ssl
import subprocess
import threading
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from functools import partial
from http.server import BaseHTTPRequestHandler, SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

_BACKEND = "/usr/lib/git-core/git-http-backend"
_HEADERS = {
    "content-type": "CONTENT_TYPE",
    "git-protocol": "HTTP_GIT_PROTOCOL",
    "content-encoding": "HTTP_CONTENT_ENCODING",
}


class GitRepository:
    """A repository with a work tree, whose author is keeper orla."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True)
        self.git("init", "--quiet", "--initial-branch=main")

    def git(self, *argv: str) -> str:
        """Run git in it."""
        names = ["-c", "user.name=orla", "-c", "user.email=orla@tide.example"]
        done = subprocess.run(
            ["git", "-C", str(self.folder), *names, *argv], check=True, capture_output=True, text=True
        )
        return done.stdout.strip()

    def commit(self, message: str, files: Mapping[str, str | bytes | None], *, key: Path | None = None) -> str:
        """Write files (None removes one), and commit them, signed with a key of SSH if one is given; the commit's name."""
        for name, content in files.items():
            path = self.folder / name
            if content is None:
                path.unlink()
                continue
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content.encode() if isinstance(content, str) else content)
        self.git("add", "--all")
        signing = ["-c", "gpg.format=ssh", "-c", f"user.signingkey={key}"] if key else []
        self.git(*signing, "commit", "--quiet", "--allow-empty", "-m", message, *(["-S"] if key else []))
        return self.git("rev-parse", "HEAD")


def signing_key(path: Path, who: str) -> str:
    """Make a key of SSH; returns its line of an allowed-signers file."""
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", who, "-f", str(path)], check=True)
    kind, key, _ = path.with_suffix(".pub").read_text().split()
    return f"{who} {kind} {key}"


@contextmanager
def served(repository: GitRepository, certificate: Path, password: str) -> Iterator[str]:
    """Serve it by `git http-backend` over https, to user orla with a password; yields its address.  ``certificate`` is
    where the server's own certificate is written."""
    key = certificate.with_suffix(".key")
    subject = ["-subj", "/CN=git", "-addext", "subjectAltName=IP:127.0.0.1"]
    command = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-keyout", str(key), *subject]
    subprocess.run([*command, "-out", str(certificate)], check=True, capture_output=True)
    wanted = "Basic " + base64.b64encode(f"orla:{password}".encode()).decode()

    class Backend(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            if self.headers.get("Authorization") != wanted:
                self.send_response(401)
                self.send_header("WWW-Authenticate", "Basic")
                self.send_header("Content-Length", "0")
                self.end_headers()
                return
            path, _, query = self.path.partition("?")
            length = int(self.headers.get("Content-Length") or 0)
            told = {variable: self.headers[name] for name, variable in _HEADERS.items() if name in self.headers}
            environment = {
                **os.environ, **told, "GIT_PROJECT_ROOT": str(repository.folder.parent), "GIT_HTTP_EXPORT_ALL": "1",
                "REQUEST_METHOD": self.command, "PATH_INFO": path, "QUERY_STRING": query, "CONTENT_LENGTH": str(length),
                "REMOTE_USER": "orla",
            }  # fmt: skip
            done = subprocess.run(
                [_BACKEND], input=self.rfile.read(length), env=environment, capture_output=True, check=True
            )
            head, _, body = done.stdout.partition(b"\r\n\r\n")
            headers = dict(line.split(": ", 1) for line in head.decode().split("\r\n"))
            self.send_response(int(headers.pop("Status", "200 OK").split()[0]))
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        do_POST = do_GET

        def log_message(self, format: str, *args: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Backend)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    server.socket = context.wrap_socket(server.socket, server_side=True)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"https://127.0.0.1:{server.server_port}/{repository.folder.name}"
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


@contextmanager
def files_served(folder: Path) -> Iterator[str]:
    """Serve a folder by http on loopback; yields its address."""
    handler = partial(_Quiet, directory=str(folder))
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


class _Quiet(SimpleHTTPRequestHandler):
    def log_message(self, format: str, *args: object) -> None:
        pass
