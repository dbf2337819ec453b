"""Asking for work: of worker processes, or (tests, command line) of nobody but oneself.

Which worker gets a piece of work follows from what it is about (a circuit, a vehicle), by rendezvous hashing (Thaler and Ravishankar,
1998): each worker keeps what belongs to its own circuits, and one that is gone changes nothing for the others.
"""

from __future__ import annotations

import contextlib
import hashlib
import pickle
import socket
import threading
import time
from collections import Counter
from collections.abc import Callable, Sequence
from contextvars import ContextVar
from dataclasses import dataclass, field
from multiprocessing.connection import Connection, answer_challenge, deliver_challenge
from typing import Any, Concatenate, ParamSpec, Protocol, TypeVar

import structlog

from sondar.computing.schedule import outcome_of
from sondar.computing.worker import AHEAD, COME_BACK, WORKING
from sondar.core.errors import BusyError, SondarError

log = structlog.get_logger()
P = ParamSpec("P")
T = TypeVar("T")

PATIENCE_S, DEADLINE_S = 8.0, 180.0
"""How long an answer is waited for before "still working" is said, and the time after which work is given up."""
LOOKED_AFTER_S, CONNECTED_S = 0.25, 2.0
WORKERS_BACK_S = 6.0
"""A worker that has ended is started again; so long nobody is told that it has."""
MUCH_MORE = 3
"""Pieces that one worker may have to do more than another before its own subjects go elsewhere."""
TRIES = 2
"""Workers that one piece of work may end before it is refused: it may be the reason."""

gone: ContextVar[threading.Event | None] = ContextVar("gone", default=None)
"""Set by the outer door when the client of this request has gone."""


class StillWorkingError(SondarError):
    """Not done yet; the same request again in a moment gets the answer, or hears how far it is."""

    def __init__(self, progress: str) -> None:
        self.progress = progress
        super().__init__(progress)


class NobodyWaitsError(SondarError):
    """The client has gone; there is nobody to answer."""


class Computing(Protocol):
    """Somebody who does work; ``about`` is the circuit version or vehicle model that it is about: who keeps it is asked first."""

    def run(self, about: object, function: Callable[Concatenate[Any, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """``function(context, *args, **kwargs)``; what it raises is raised here.

        Raises:
            StillWorkingError: it goes on. BusyError: it could not be begun. NobodyWaitsError: the client has gone.
        """
        ...

    def later(self, about: object, function: Callable[Concatenate[Any, P], None], *args: P.args, **kwargs: P.kwargs) -> None:
        """Have it done ahead; nobody waits for it, and nobody is told what came of it."""
        ...


@dataclass(frozen=True)
class Alone:
    """Work done in this process at once; what could be done ahead is not."""

    context: Any

    def run(self, about: object, function: Callable[Concatenate[Any, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """At once."""
        return function(self.context, *args, **kwargs)

    def later(self, about: object, function: Callable[Concatenate[Any, P], None], *args: P.args, **kwargs: P.kwargs) -> None:
        """Not at all."""


@dataclass(frozen=True)
class Workers:
    """Worker processes at these addresses (a path of a Unix socket, or ``host:port``), asked by anyone who has the key."""

    addresses: Sequence[str]
    authkey: bytes = field(repr=False)
    _asked: Counter[str] = field(default_factory=Counter)
    _counting: threading.Lock = field(default_factory=threading.Lock)

    def order(self, about: object) -> list[str]:
        """Addresses in the order in which they are asked about a subject: its own first, unless that has much more to do."""
        own = sorted(self.addresses, key=lambda address: hashlib.sha256(f"{about} {address}".encode()).digest())
        return sorted(own, key=lambda address: self._asked[address] // MUCH_MORE)

    def run(self, about: object, function: Callable[Concatenate[Any, P], T], *args: P.args, **kwargs: P.kwargs) -> T:
        """By the first worker that can be reached; a worker that ends over it is followed by the next."""
        request, ended, begun = _request((function, args, kwargs), DEADLINE_S), 0, time.monotonic()
        while True:
            for address in self.order(about):
                self._count(address, 1)
                try:
                    with _connected(address, self.authkey) as connection:
                        connection.send(request)
                        found: T = outcome_of(_wait(connection, begun + PATIENCE_S))
                        return found
                except (ConnectionRefusedError, FileNotFoundError, TimeoutError):
                    continue
                except (OSError, EOFError) as error:
                    ended += 1
                    log.warning("worker_ended", address=address, error=str(error))
                    if ended >= TRIES:
                        raise BusyError(
                            "Not worked out", "What should have worked this out ended over it twice. Try again."
                        ) from None
                finally:
                    self._count(address, -1)
            if time.monotonic() - begun > WORKERS_BACK_S:
                raise BusyError("Not worked out", "The part that computes is being started again. Try again in a moment.")
            time.sleep(LOOKED_AFTER_S)

    def _count(self, address: str, more: int) -> None:
        with self._counting:
            self._asked[address] += more

    def later(self, about: object, function: Callable[Concatenate[Any, P], None], *args: P.args, **kwargs: P.kwargs) -> None:
        """By the first worker that can be reached, when it has nothing else to do."""
        for address in self.order(about):
            with contextlib.suppress(OSError, EOFError), _connected(address, self.authkey) as connection:
                connection.send(_request((function, args, kwargs), AHEAD))
                return


def _request(work: tuple[Any, ...], deadline_s: float) -> tuple[bytes, float, bytes]:
    payload = pickle.dumps(work, protocol=pickle.HIGHEST_PROTOCOL)
    return hashlib.sha256(payload).digest(), deadline_s, payload


def _connected(address: str, authkey: bytes) -> Connection:
    host, _, port = address.rpartition(":")
    family, where = (socket.AF_UNIX, address) if "/" in address else (socket.AF_INET, (host, int(port)))
    with socket.socket(family) as line:
        line.settimeout(CONNECTED_S)
        line.connect(where)
        line.settimeout(None)
        connection = Connection(line.detach())
    try:
        answer_challenge(connection, authkey)
        deliver_challenge(connection, authkey)
    except BaseException:
        connection.close()
        raise
    return connection


def _wait(connection: Connection, end: float) -> bytes:
    """The outcome.

    Raises:
        StillWorkingError: not before ``end``. NobodyWaitsError: the client has gone. EOFError, OSError: the worker has ended.
    """
    client = gone.get()
    while not connection.poll(min(LOOKED_AFTER_S, max(0.0, end - time.monotonic()))):
        if client is not None and client.is_set():
            raise NobodyWaitsError("the client has gone")
        if time.monotonic() >= end:
            connection.send(COME_BACK)
            break
    answer = connection.recv_bytes()
    if answer.startswith(WORKING):
        raise StillWorkingError(answer[1:].decode())
    return answer
