"""The three words of ASGI that are used here, and a short answer."""

from __future__ import annotations

import json
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

HeaderList = list[tuple[bytes, bytes]]


async def refuse(send: Send, status: int, title: str, detail: str, *, retry_after_s: int = 0) -> None:
    """A problem in the form that the application uses (RFC 9457); the connection is closed after it."""
    body = json.dumps({"type": "about:blank", "title": title, "status": status, "detail": detail}).encode()
    headers: HeaderList = [
        (b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode()), (b"connection", b"close"),
        (b"cache-control", b"no-store"),
    ]  # fmt: skip
    if retry_after_s:
        headers.append((b"retry-after", str(retry_after_s).encode()))
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
