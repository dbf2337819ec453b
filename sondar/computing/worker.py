"""One worker process: takes requests over a socket that asks for a key, and answers with what came of them.

The socket is ``multiprocessing.connection`` of the standard library: both ends prove by HMAC that they know the key before anything
is unpickled. A connection carries one request:

    asker    (key of the work, deadline in seconds, the pickled function, its arguments and named arguments)
    asker    later, if its patience ends: COME_BACK; answered by WORKING and how far it is, or by the outcome if that was quicker
    worker   the outcome (``schedule.outcome_of``)

A connection that ends without COME_BACK says that nobody waits any more. A deadline of AHEAD asks for work that nobody waits for.
"""

from __future__ import annotations

import os
import pickle
import threading
import time
from multiprocessing.connection import Connection, Listener, answer_challenge, deliver_challenge
from typing import Any

import structlog

from sondar.computing.schedule import Schedule, failed
from sondar.core.errors import BusyError

log = structlog.get_logger()

COME_BACK, WORKING, AHEAD = "come back", b"?", 0.0
STUCK_S = 60.0
"""Work so long past its end does not come to a checkpoint: only the end of the process ends it."""
MOST_CONNECTIONS = 400


class Worker:
    """Answers requests with ``function(context, *arguments)``."""

    def __init__(self, context: Any, schedule: Schedule, authkey: bytes) -> None:
        self.context, self.schedule, self._authkey = context, schedule, authkey
        self._room = threading.Semaphore(MOST_CONNECTIONS)

    def serve(self, listener: Listener) -> None:
        """Take connections until the listener is closed."""
        threading.Thread(target=self._watch, daemon=True).start()
        while True:
            try:
                connection = listener.accept()
            except OSError:
                return
            if self._room.acquire(blocking=False):
                threading.Thread(target=self._converse, args=(connection,), daemon=True).start()
            else:
                connection.close()

    def _converse(self, connection: Connection) -> None:
        try:
            # In this thread, not in accept: a stranger who says nothing keeps nobody else waiting.
            deliver_challenge(connection, self._authkey)
            answer_challenge(connection, self._authkey)
            self._answer(connection)
        except Exception as error:
            if not isinstance(error, EOFError | OSError):
                log.warning("connection_refused", error=str(error))
        finally:
            connection.close()
            self._room.release()

    def _answer(self, connection: Connection) -> None:
        key, deadline_s, payload = connection.recv()
        if deadline_s == AHEAD:
            self.schedule.later(key, lambda: self._do(payload))
            return
        sending, answered = threading.Lock(), threading.Event()

        def send(answer: bytes) -> None:
            with sending:
                connection.send_bytes(answer)

        def done(outcome: bytes) -> None:
            answered.set()
            try:
                send(outcome)
            except OSError:
                log.info("nobody_to_answer")

        try:
            piece = self.schedule.ask(key, lambda: self._do(payload), done, deadline_s)
        except BusyError as error:
            send(failed(error))
            return
        if piece is None:
            connection.recv()  # until the asker has the answer and ends the connection
            return
        come_back = False
        try:
            while True:
                come_back = connection.recv() == COME_BACK
                if not answered.is_set():
                    send(WORKING + piece.progress.encode())
        finally:
            self.schedule.leave(piece, done, come_back=come_back)

    def _do(self, payload: bytes) -> Any:
        function, arguments, named = pickle.loads(payload)
        return function(self.context, *arguments, **named)

    def _watch(self) -> None:
        while True:
            time.sleep(1.0)
            if self.schedule.oldest_overdue_s() > STUCK_S:
                log.error("worker_stuck")
                os._exit(1)
