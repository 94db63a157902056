"""A letterbox for webhooks: it takes whatever is posted to it, and shows the last of it to the operator."""

from __future__ import annotations

import json
from collections import OrderedDict, deque
from typing import Any

from fastapi import APIRouter, Depends, HTTPException, Request

from standin.routes.common import operator

router = APIRouter(prefix="/letterbox")
_BOXES, _LETTERS, _BYTES = 50, 100, 256 * 1024
_KEPT = ("content-type", "webhook-id", "webhook-timestamp", "webhook-signature")


@router.post("/{name}", status_code=204)
async def take(name: str, request: Request) -> None:
    """Take one."""
    body = b""
    async for part in request.stream():
        body += part
        if len(body) > _BYTES:
            raise HTTPException(413, "That is too long.")
    boxes: OrderedDict[str, deque[dict[str, Any]]] = request.app.state.letterboxes
    box = boxes.setdefault(name, deque(maxlen=_LETTERS))
    while len(boxes) > _BOXES:
        boxes.popitem(last=False)
    headers = {key: request.headers[key] for key in _KEPT if key in request.headers}
    try:
        box.append({"headers": headers, "body": json.loads(body)})
    except ValueError:
        box.append({"headers": headers, "body": body.decode("utf-8", "replace")})


@router.get("/{name}", dependencies=[Depends(operator)])
def show(name: str, request: Request) -> list[dict[str, Any]]:
    """What came, the oldest first."""
    return list(request.app.state.letterboxes.get(name, ()))
