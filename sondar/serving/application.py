"""Between the event loop and the Flask application: streams stay here, everything else goes to a thread once it is complete."""

from __future__ import annotations

import asyncio
import contextlib
import re
import threading
import time
from uuid import UUID, uuid4

from a2wsgi import WSGIMiddleware
from flask import Flask

from sondar.computing.asking import gone
from sondar.serving.asgi import HeaderList, Message, Receive, Scope, Send, refuse
from sondar.serving.bodies import Body, BodyError, ClientGoneError, read_body
from sondar.serving.request_log import RequestLog
from sondar.serving.streams import Streams
from sondar.web.jobs.routes import STREAM_ABOUT, STREAM_FOR
from sondar.web.services import Services

STREAM = re.compile(r"/api/v1/(?:jobs/[0-9a-f-]{36}/)?events")
HEALTH = "/api/v1/health"
REQUEST_ID = b"x-request-id"
THREADS, WAITING = 32, 1_000
"""Requests worked on at once, and requests that may wait for a thread."""


class Application:
    """The ASGI application."""

    def __init__(self, flask: Flask, dsn: str, threads: int = THREADS, log: RequestLog | None = None) -> None:
        self._log = log or RequestLog(None, "web")
        self.flask, self.streams = flask, Streams(dsn)
        self.most_bytes = int(flask.config["MAX_CONTENT_LENGTH"])
        self._threads, self._turn = WSGIMiddleware(flask.wsgi_app, workers=threads), asyncio.Semaphore(threads)  # type: ignore[arg-type]
        # Whether it is alive must be answered while all threads work.
        self._beside = WSGIMiddleware(flask.wsgi_app, workers=2)  # type: ignore[arg-type]
        self._waiting = 0

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """One connection's request, or the life of the process."""
        if scope["type"] == "lifespan":
            await self._live(receive, send)
        elif scope["type"] == "http":
            await self._answer(scope, receive, send)

    async def _live(self, receive: Receive, send: Send) -> None:
        await receive()
        listening = asyncio.create_task(self.streams.listen())
        await send({"type": "lifespan.startup.complete"})
        await receive()
        listening.cancel()
        held: Services = self.flask.extensions["sondar"]
        await asyncio.to_thread(held.close)
        await send({"type": "lifespan.shutdown.complete"})

    async def _answer(self, scope: Scope, receive: Receive, send: Send) -> None:
        request_id, begun, status = uuid4().hex[:12], time.monotonic(), 0
        # The application says it in its own log and in what it tells of an error; nobody outside chooses it.
        scope["headers"] = [h for h in scope["headers"] if h[0] != REQUEST_ID] + [(REQUEST_ID, request_id.encode())]

        async def numbered(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                message["headers"] = [*message["headers"], (REQUEST_ID, request_id.encode())]
            await send(message)

        try:
            await self._answered(scope, receive, numbered)
        finally:
            self._log.write(request_id, scope["method"], scope["path"], status, time.monotonic() - begun)

    async def _answered(self, scope: Scope, receive: Receive, send: Send) -> None:
        try:
            body = await read_body(scope, receive, self.most_bytes)
        except BodyError as error:
            await refuse(send, error.status, error.title, error.detail)
            return
        except ClientGoneError:
            return
        stream = STREAM.fullmatch(scope["path"]) if scope["method"] == "GET" else None
        answer = await self._work(scope, body, receive)
        if answer is None:
            return
        if answer.status == 503 and not answer.parts:
            await refuse(
                send, 503, "Busy", "So much is asked for at once that this could not be begun. Try again.", retry_after_s=2
            )
        elif stream is not None and answer.status == 204:
            topic, account = UUID(answer.header(STREAM_ABOUT.lower().encode())), answer.header(STREAM_FOR.lower().encode())
            await self.streams.serve(topic, account, lambda: self._may_still(scope), receive, send)
        else:
            await answer.flush(send)

    async def _may_still(self, scope: Scope) -> bool:
        body = Body()
        body.rewind()
        answer = _Answer()
        await self._beside(scope, body.receive, answer.take)  # type: ignore[arg-type]
        body.close()
        return answer.status == 204

    async def _work(self, scope: Scope, body: Body, receive: Receive) -> _Answer | None:
        """The Flask application's answer, complete; None if the client has gone before its turn came, an empty 503 if too many wait."""
        answer = _Answer()
        if scope["path"] == HEALTH:
            await self._beside(scope, body.receive, answer.take)  # type: ignore[arg-type]
            return answer
        if self._waiting >= WAITING:
            body.close()
            answer.status = 503
            return answer
        if not await self._has_turn(receive):
            body.close()
            return None
        has_gone = threading.Event()
        token, watching = gone.set(has_gone), asyncio.create_task(_say_when_gone(receive, has_gone))
        try:
            await self._threads(scope, body.receive, answer.take)  # type: ignore[arg-type]
        finally:
            watching.cancel()
            gone.reset(token)
            self._turn.release()
            body.close()
        return answer

    async def _has_turn(self, receive: Receive) -> bool:
        """True once there is a thread; False if the client went while it waited."""
        if not self._turn.locked():
            return await self._turn.acquire()
        self._waiting += 1
        turn, gone = asyncio.create_task(self._turn.acquire()), asyncio.create_task(_gone(receive))
        try:
            await asyncio.wait({turn, gone}, return_when=asyncio.FIRST_COMPLETED)
            if turn.done():
                return True
            turn.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                if await turn:
                    self._turn.release()
            return False
        finally:
            self._waiting -= 1
            gone.cancel()


async def _gone(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


async def _say_when_gone(receive: Receive, has_gone: threading.Event) -> None:
    await _gone(receive)
    has_gone.set()


class _Answer:
    """Everything that a thread says, kept until the line takes it."""

    def __init__(self) -> None:
        self.status, self.headers, self.parts = 0, HeaderList(), list[bytes]()

    async def take(self, message: Message) -> None:
        """From the thread."""
        if message["type"] == "http.response.start":
            self.status, self.headers = message["status"], list(message["headers"])
        else:
            self.parts.append(message.get("body", b""))

    def header(self, name: bytes) -> str:
        """A header's value, empty if it is not there."""
        return next((value.decode("latin-1") for key, value in self.headers if key.lower() == name), "")

    async def flush(self, send: Send) -> None:
        """To the line."""
        await send({"type": "http.response.start", "status": self.status or 500, "headers": self.headers})
        await send({"type": "http.response.body", "body": b"".join(self.parts)})
