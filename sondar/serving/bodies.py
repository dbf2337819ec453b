"""A request's body, read to its end before anybody works on it: bounded in bytes, in memory and in time."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field
from tempfile import SpooledTemporaryFile

from sondar.serving.asgi import Message, Receive, Scope

KEPT_IN_MEMORY = 256 * 1024
PAUSE_S, LONGEST_S = 15.0, 240.0
"""Longest pause between two pieces of a body, and longest time for all of it: 12 MB over a bad mobile line take three minutes."""
CHUNK = 64 * 1024


class BodyError(Exception):
    """A body that is not taken: HTTP status, title and detail."""

    def __init__(self, status: int, title: str, detail: str) -> None:
        super().__init__(detail)
        self.status, self.title, self.detail = status, title, detail


class ClientGoneError(Exception):
    """Nobody is left to answer."""


@dataclass
class Body:
    """A body that is here, to be received again in pieces; after it ``receive`` waits for ever, as a silent client does."""

    _file: SpooledTemporaryFile[bytes] = field(default_factory=lambda: SpooledTemporaryFile(max_size=KEPT_IN_MEMORY))  # noqa: SIM115
    size: int = 0
    _ended: bool = False

    def add(self, piece: bytes) -> None:
        """Append what has come."""
        self._file.write(piece)
        self.size += len(piece)

    def rewind(self) -> None:
        """Begin to receive."""
        self._file.seek(0)

    async def receive(self) -> Message:
        """The next piece."""
        if self._ended:
            await asyncio.Event().wait()
        piece = self._file.read(CHUNK)
        self._ended = self._file.tell() >= self.size
        return {"type": "http.request", "body": piece, "more_body": not self._ended}

    def close(self) -> None:
        """Let go of the memory or the temporary file."""
        self._file.close()


async def read_body(
    scope: Scope, receive: Receive, most_bytes: int, pause_s: float = PAUSE_S, longest_s: float = LONGEST_S
) -> Body:
    """Read a body to its end.

    Raises:
        BodyError: larger than ``most_bytes``, or it does not come. ClientGoneError: the connection was closed.
    """
    too_large = BodyError(413, "Too large", f"A request has at most {most_bytes // 1024} KiB. Send less, or a smaller picture.")
    announced = next((value for name, value in scope["headers"] if name == b"content-length"), b"0")
    if announced.isdigit() and int(announced) > most_bytes:
        raise too_large
    body, clock = Body(), asyncio.get_running_loop().time
    end = clock() + longest_s
    try:
        while True:
            try:
                message = await asyncio.wait_for(receive(), min(pause_s, max(0.01, end - clock())))
            except TimeoutError as error:
                raise BodyError(408, "Request not complete", "The rest of the request did not come in time. Try again.") from error
            if message["type"] == "http.disconnect":
                raise ClientGoneError
            body.add(message.get("body", b""))
            if body.size > most_bytes:
                raise too_large
            if not message.get("more_body", False):
                body.rewind()
                return body
    except BaseException:
        body.close()
        raise
