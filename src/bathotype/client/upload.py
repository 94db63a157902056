"""Bringing a file to a region's store in parts: holes are not sent, and what has arrived is not sent again."""

from __future__ import annotations

import base64
import hashlib
import json
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from bathotype.client.transport import Transport
from bathotype.core.errors import Invalid, NotFound
from bathotype.wire.images import Upload

_AT_ONCE = 4


def upload(transport: Transport, file: Path, region: str, progress: Callable[[int, int], None]) -> Upload:
    """Bring a file in.  Its upload is remembered beside it until it is whole, so that a second run goes on."""
    if not file.is_file():
        raise Invalid(f"{file} is no file.", advice="Name an image file, or s3://BUCKET/KEY.")
    facts = file.stat()
    if not facts.st_size:
        raise Invalid(f"{file} is empty.")
    memory = _memory(transport, file, region)
    known = _begun(transport, memory) or transport.one(
        Upload, "POST", "/uploads", json={"name": file.name, "size": facts.st_size, "region": region}
    )
    memory.parent.mkdir(parents=True, exist_ok=True)
    memory.write_text(json.dumps({"id": known.id}))
    count = -(-known.size // known.part_bytes)
    missing = [n for n in range(count) if n not in set(known.parts)]
    done = (count - len(missing)) * known.part_bytes
    handle = os.open(file, os.O_RDONLY)
    try:
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            for length in pool.map(lambda n: _send(transport, handle, known, n), missing):
                done += length
                progress(min(done, known.size), known.size)
    finally:
        os.close(handle)
    memory.unlink(missing_ok=True)
    return known


def _memory(transport: Transport, file: Path, region: str) -> Path:
    facts = file.stat()
    identity = f"{transport.url}\n{region}\n{file.resolve()}\n{facts.st_size}\n{facts.st_mtime_ns}"
    base = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state")
    return base / "bathotype" / "uploads" / hashlib.sha256(identity.encode()).hexdigest()[:32]


def _begun(transport: Transport, memory: Path) -> Upload | None:
    try:
        return transport.one(Upload, "GET", f"/uploads/{json.loads(memory.read_text())['id']}")
    except (OSError, ValueError, KeyError, NotFound):
        return None


def _send(transport: Transport, handle: int, upload: Upload, number: int) -> int:
    start = number * upload.part_bytes
    data = os.pread(handle, min(upload.part_bytes, upload.size - start), start)
    body = data if data.count(0) != len(data) else b""
    digest = base64.b64encode(hashlib.sha256(body).digest()).decode()
    transport.call(
        "PUT",
        f"/uploads/{upload.id}/parts/{number}",
        content=body,
        params={"zeros": "true"} if not body else {},
        headers={"Content-Digest": f"sha-256=:{digest}:"},
    )
    return len(data)
