"""Tells every page on a job that something was added: PostgreSQL's NOTIFY in, server-sent events out, a queue for each page.

One connection listens for the whole process, so any number of processes may run. An event says only *that* and *where* something
changed; the page asks for the rest, so nothing is lost if an event is.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections import Counter
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from uuid import UUID

import psycopg
import structlog

from sondar.serving.asgi import Receive, Send, refuse

log = structlog.get_logger()

KEEP_ALIVE_S = 15.0
ASKED_AGAIN_S = 60.0
"""After this it is asked again whether the page may still listen: accounts are switched off, sessions end."""
LONGEST_S = 600.0
"""After this a stream ends and the browser begins a new one: no connection is held for ever."""
STALLED_S = 30.0
"""A page that takes nothing for so long is gone."""
QUEUE = 100
PER_ACCOUNT, IN_ALL = 60, 2_000
"""Most streams of one account, and of all, in one process."""


@dataclass(frozen=True)
class Event:
    """Entry ``seq`` of a kind was added to a job; ``resync`` when some may have been missed, ``end`` when the stream ends."""

    seq: int
    kind: str
    job: str = ""

    def as_text(self) -> bytes:
        """As a server-sent event."""
        name = "resync" if self.kind == "resync" else "entry"
        return (
            f"id: {self.seq}\nevent: {name}\ndata: {json.dumps({'seq': self.seq, 'kind': self.kind, 'job': self.job})}\n\n".encode()
        )


END = Event(0, "end")


@dataclass
class Streams:
    """Every open stream of this process."""

    dsn: str
    _queues: dict[UUID, set[asyncio.Queue[Event]]] = field(default_factory=dict)
    _open: Counter[str] = field(default_factory=Counter)
    _ending: bool = False

    async def listen(self) -> None:
        """Pass on what PostgreSQL tells, until cancelled; a lost connection is made again."""
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(self.dsn, autocommit=True, connect_timeout=5) as db:
                    await db.execute("LISTEN sondar_job")
                    self._tell_all(Event(0, "resync"))
                    async for notice in db.notifies():
                        job, seq, kind, workshop = notice.payload.split(" ")
                        for topic in (job, workshop):
                            self._tell(UUID(topic), Event(int(seq), kind, job))
            except psycopg.Error as error:
                log.warning("events_interrupted", error=str(error))
            await asyncio.sleep(1.0)

    def end(self) -> None:
        """End every stream: the application stops, and browsers begin again when it is back."""
        self._ending = True
        self._tell_all(END)

    def refusal(self, account: str) -> str:
        """Why an account gets no further stream; empty if it gets one."""
        if self._open[account] >= PER_ACCOUNT:
            return f"{PER_ACCOUNT} pages of this account are open already. Close some."
        if sum(self._open.values()) >= IN_ALL:
            return "So many pages are open that no further one can follow along. Close some."
        return ""

    async def serve(
        self, topic: UUID, account: str, still_allowed: Callable[[], Awaitable[bool]], receive: Receive, send: Send
    ) -> None:
        """One browser's stream about a job or a workshop, until it or its permission goes."""
        refusal = self.refusal(account)
        if refusal:
            await refuse(send, 429, "Too many open pages", refusal, retry_after_s=30)
            return
        held: asyncio.Queue[Event] = asyncio.Queue(QUEUE)
        self._open[account] += 1
        self._queues.setdefault(topic, set()).add(held)
        watching = asyncio.create_task(_until_gone(receive, held))
        try:
            headers = [
                (b"content-type", b"text/event-stream"), (b"cache-control", b"no-store"), (b"x-accel-buffering", b"no"),
                (b"x-content-type-options", b"nosniff"),
            ]  # fmt: skip
            await send({"type": "http.response.start", "status": 200, "headers": headers})
            await _say(send, b"retry: 1000\nevent: ready\ndata: {}\n\n")
            await self._pass_on(held, still_allowed, send)
            await send({"type": "http.response.body", "body": b""})
        except TimeoutError:
            log.info("stream_stalled", topic=str(topic))
        finally:
            watching.cancel()
            self._forget(topic, account, held)

    async def _pass_on(self, held: asyncio.Queue[Event], still_allowed: Callable[[], Awaitable[bool]], send: Send) -> None:
        clock = asyncio.get_running_loop().time
        begun = asked = clock()
        while not self._ending and clock() - begun < LONGEST_S:
            event = None
            with contextlib.suppress(TimeoutError):
                event = await asyncio.wait_for(held.get(), KEEP_ALIVE_S)
            if event is END:
                return
            if clock() - asked > ASKED_AGAIN_S:
                asked = clock()
                if not await still_allowed():
                    return
            await _say(send, event.as_text() if event is not None else b": still here\n\n")

    def _forget(self, job_id: UUID, account: str, held: asyncio.Queue[Event]) -> None:
        self._open[account] -= 1
        if self._open[account] <= 0:
            del self._open[account]
        self._queues.get(job_id, set()).discard(held)
        if not self._queues.get(job_id):
            self._queues.pop(job_id, None)

    def _tell(self, job_id: UUID, event: Event) -> None:
        for held in self._queues.get(job_id, ()):
            if held.full():  # a page that takes nothing: it will ask for everything
                with contextlib.suppress(asyncio.QueueEmpty):
                    held.get_nowait()
                event = END if event is END else Event(event.seq, "resync")
            held.put_nowait(event)

    def _tell_all(self, event: Event) -> None:
        for job_id in list(self._queues):
            self._tell(job_id, event)


async def _say(send: Send, text: bytes) -> None:
    await asyncio.wait_for(send({"type": "http.response.body", "body": text, "more_body": True}), STALLED_S)


async def _until_gone(receive: Receive, held: asyncio.Queue[Event]) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass
    if held.full():
        held.get_nowait()
    held.put_nowait(END)
