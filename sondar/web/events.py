"""Tells every tablet on a job that something was added: PostgreSQL's NOTIFY in, server-sent events out.

One thread listens for the whole process, so any number of application processes may run. An event says only *that* and *where*
something changed; the page asks for the rest, so nothing is lost if an event is.
"""

from __future__ import annotations

import json
import queue
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from uuid import UUID

import psycopg
import structlog

log = structlog.get_logger()

KEEP_ALIVE_S = 15.0
LONGEST_S = 600.0
"""After this a stream ends and the browser begins a new one: no connection is held for ever."""


@dataclass(frozen=True)
class Event:
    """Entry ``seq`` of a kind was added to a job; ``resync`` when some may have been missed."""

    seq: int
    kind: str


@dataclass
class Events:
    """Listens while anyone looks on."""

    dsn: str
    _queues: dict[UUID, set[queue.Queue[Event]]] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _stop: threading.Event = field(default_factory=threading.Event)
    _thread: threading.Thread | None = None

    def subscribe(self, job_id: UUID) -> queue.Queue[Event]:
        """A queue that gets the job's events from now on."""
        made: queue.Queue[Event] = queue.Queue(maxsize=1000)
        with self._lock:
            self._queues.setdefault(job_id, set()).add(made)
            if self._thread is None:
                self._thread = threading.Thread(target=self._listen, name="events", daemon=True)
                self._thread.start()
        return made

    def unsubscribe(self, job_id: UUID, held: queue.Queue[Event]) -> None:
        """Forget a queue."""
        with self._lock:
            self._queues.get(job_id, set()).discard(held)
            if not self._queues.get(job_id):
                self._queues.pop(job_id, None)

    def stream(self, job_id: UUID) -> Iterator[str]:
        """Server-sent events of a job, as text."""
        held = self.subscribe(job_id)
        try:
            yield "retry: 1000\nevent: ready\ndata: {}\n\n"
            waited = 0.0
            while waited < LONGEST_S and not self._stop.is_set():
                try:
                    event = held.get(timeout=KEEP_ALIVE_S)
                except queue.Empty:
                    waited += KEEP_ALIVE_S
                    yield ": still here\n\n"
                    continue
                name = "resync" if event.kind == "resync" else "entry"
                yield f"id: {event.seq}\nevent: {name}\ndata: {json.dumps(event.__dict__)}\n\n"
        finally:
            self.unsubscribe(job_id, held)

    def close(self) -> None:
        """Stop listening."""
        self._stop.set()

    def _listen(self) -> None:
        while not self._stop.is_set():
            try:
                with psycopg.connect(self.dsn, autocommit=True, connect_timeout=5) as db:
                    db.execute("LISTEN sondar_job")
                    self._tell_all(Event(0, "resync"))
                    while not self._stop.is_set():
                        for notice in db.notifies(timeout=2.0):
                            job, seq, kind = notice.payload.split(" ")
                            self._tell(UUID(job), Event(int(seq), kind))
            except psycopg.Error as error:
                log.warning("events_interrupted", error=str(error))
                self._stop.wait(1.0)

    def _tell(self, job_id: UUID, event: Event) -> None:
        with self._lock:
            held = list(self._queues.get(job_id, ()))
        for one in held:
            if not one.full():
                one.put(event)

    def _tell_all(self, event: Event) -> None:
        with self._lock:
            jobs = list(self._queues)
        for job_id in jobs:
            self._tell(job_id, event)
