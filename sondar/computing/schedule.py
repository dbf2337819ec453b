"""What one worker process works on: a bounded queue, a few threads, each identical piece of work done once.

Work that somebody waits for goes before work done ahead. A long piece shares the processor with the pieces beside it, and asks at its
checkpoints (``core.interruption``) whether it is still wanted.
"""

from __future__ import annotations

import itertools
import pickle
import threading
import time
import traceback
from collections import OrderedDict, deque
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import Any

import structlog

from sondar.core.errors import BusyError, InvalidError
from sondar.core.interruption import StoppedError, watched_by

log = structlog.get_logger()

THREADS, MOST_EXTRA, MOST_WAITING, MOST_AHEAD = 3, 6, 200, 24
LONG_S, LONGEST_WAY_S = 1.0, 2.0
"""A piece is long after so many seconds; so long it waits for shorter ones before it goes on to its next checkpoint."""
KEPT_BYTES, LARGEST_KEPT = 24 * 1024 * 1024, 1024 * 1024
"""Answers are kept for whoever asks the same again: a workshop reloads after a restart, a tablet goes back a page."""

DONE, FAILED, UNWANTED = b"+", b"-", b""
"""First byte of an outcome; what follows is pickled. Nothing, where it was let go because nobody waited."""

Done = Callable[[bytes], None]


@dataclass(eq=False)
class Piece:
    """One piece of work, and everyone who waits for it.

    Attributes:
        key: identical work has the same key. ends_at: monotonic time at which it is given up.
        kept: True if it is to be finished though nobody waits at the moment (the page will ask again).
    """

    key: bytes
    do: Callable[[], Any]
    ends_at: float
    waiting: set[Done] = field(default_factory=set)
    kept: bool = False
    progress: str = ""
    begun: float = 0.0

    @property
    def wanted(self) -> bool:
        """True if an answer would reach anybody."""
        return bool(self.waiting) or self.kept


class Schedule:
    """The queue, the threads and the answers kept."""

    def __init__(self, threads: int = THREADS, most_waiting: int = MOST_WAITING, kept_bytes: int = KEPT_BYTES) -> None:
        self._lock = threading.Condition()
        self._most_waiting, self._kept_bytes = most_waiting, kept_bytes
        self._queue: deque[Piece] = deque()
        self._pieces: dict[bytes, Piece] = {}
        self._running: set[Piece] = set()
        self._ahead: OrderedDict[Hashable, Callable[[], None]] = OrderedDict()
        self._answers: OrderedDict[bytes, bytes] = OrderedDict()
        self._bytes, self._closed, self._extra = 0, False, 0
        self.after_each: Callable[[], None] = lambda: None
        """Called in the worker's thread after each piece: caches are brought back to their size there."""
        self.done_count = itertools.count()
        for index in range(threads):
            threading.Thread(target=self._work, args=(index == 0,), name=f"compute-{index}", daemon=True).start()

    # -- asking -------------------------------------------------------------------------------------

    def ask(self, key: bytes, do: Callable[[], Any], done: Done, deadline_s: float) -> Piece | None:
        """Queue a piece of work, or wait for the same piece that is there already; ``done`` gets the pickled outcome, from a thread.

        Returns:
            The piece, for ``leave``; None if the answer was kept and ``done`` has been called.

        Raises:
            BusyError: too much waits already.
        """
        with self._lock:
            answer = self._answers.get(key)
            if answer is not None:
                self._answers.move_to_end(key)
            else:
                piece = self._pieces.get(key)
                if piece is None:
                    if len(self._queue) >= self._most_waiting:
                        raise BusyError("Busy", "So much is being worked out at once that this could not be begun. Try again.")
                    piece = self._pieces[key] = Piece(key, do, time.monotonic() + deadline_s)
                    self._queue.append(piece)
                    self._lock.notify()
                piece.waiting.add(done)
                return piece
        done(answer)
        return None

    def leave(self, piece: Piece, done: Done, *, come_back: bool) -> None:
        """Stop waiting; the work goes on if others wait or if whoever leaves will come back for it."""
        with self._lock:
            piece.waiting.discard(done)
            piece.kept = piece.kept or come_back

    def later(self, name: Hashable, work: Callable[[], None]) -> None:
        """Do something when nobody waits for anything; a newer piece under a name takes the place of the older one."""
        with self._lock:
            self._ahead.pop(name, None)
            self._ahead[name] = work
            while len(self._ahead) > MOST_AHEAD:
                self._ahead.popitem(last=False)
            self._lock.notify_all()

    def waiting(self) -> int:
        """Pieces that wait for a thread."""
        with self._lock:
            return len(self._queue)

    def oldest_overdue_s(self) -> float:
        """Seconds by which the work that is most overdue has missed its end: it does not come to a checkpoint."""
        with self._lock:
            return max((time.monotonic() - piece.ends_at for piece in self._running), default=0.0)

    def close(self) -> None:
        """Let the threads end after what they are at."""
        with self._lock:
            self._closed = True
            self._lock.notify_all()

    # -- working ------------------------------------------------------------------------------------

    def _work(self, does_ahead: bool, extra: bool = False) -> None:
        while True:
            with self._lock:
                if extra and not self._queue:
                    self._extra -= 1
                    return
                while not self._closed and not self._queue and not (does_ahead and self._ahead and not self._running):
                    self._lock.wait()
                if self._closed:
                    return
                piece = self._queue.popleft() if self._queue else None
                if piece is not None and not piece.wanted:
                    self._pieces.pop(piece.key, None)
                    continue
                if piece is not None:
                    piece.begun = time.monotonic()
                    self._running.add(piece)
                    ahead = None
                else:
                    ahead = self._ahead.popitem(last=False)
            if piece is not None:
                self._finish(piece, self._outcome(piece))
            elif ahead is not None:
                self._do_ahead(*ahead)
            try:
                self.after_each()
            except Exception as error:  # a thread that ends here would be missing for ever
                log.warning("work_after_failed", error=str(error))

    def _outcome(self, piece: Piece) -> bytes:
        unwanted = False

        def watch(doing: str) -> None:
            if doing:
                piece.progress = doing
            self._give_way(piece)
            if time.monotonic() > piece.ends_at:
                raise StoppedError("its time is over")
            if not piece.wanted:
                nonlocal unwanted
                unwanted = True
                raise StoppedError("nobody waits for it any more")

        try:
            with watched_by(watch):
                return DONE + pickle.dumps(piece.do(), protocol=pickle.HIGHEST_PROTOCOL)
        except StoppedError:
            if unwanted:
                return UNWANTED
            took = f"{time.monotonic() - piece.begun:.0f} s"
            log.warning("work_given_up", after=took, doing=piece.progress)
            return failed(BusyError("Takes too long", f"This was not worked out within {took}. What was found is kept: try again."))
        except MemoryError:
            log.error("work_too_large", doing=piece.progress)
            return failed(
                InvalidError("Too large to work out", "this circuit needs more memory than there is: divide it into parts")
            )
        except Exception as error:
            return failed(error)

    def _give_way(self, piece: Piece) -> None:
        """A long piece waits at its checkpoints while shorter ones that came after it are worked on: two threads share one interpreter."""
        with self._lock:
            until = time.monotonic() + LONGEST_WAY_S
            if (
                self._queue
                and self._extra < MOST_EXTRA
                and all(until - LONGEST_WAY_S - other.begun > LONG_S for other in self._running)
            ):
                self._extra += 1  # long pieces have all threads: what waits gets one of its own until nothing does
                threading.Thread(target=self._work, args=(False, True), name=f"compute-extra-{self._extra}", daemon=True).start()
            while (now := time.monotonic()) < until and now - piece.begun > LONG_S:
                if not any(other.begun > piece.begun and now - other.begun < LONG_S for other in self._running):
                    return
                self._lock.wait(0.05)

    def _finish(self, piece: Piece, outcome: bytes) -> None:
        with self._lock:
            self._running.discard(piece)
            if outcome == UNWANTED and piece.waiting:  # somebody came in the moment in which it was let go
                self._queue.append(piece)
                self._lock.notify_all()
                return
            self._pieces.pop(piece.key, None)
            if outcome.startswith(DONE) and len(outcome) <= LARGEST_KEPT:
                self._answers[piece.key] = outcome
                self._bytes += len(outcome)
                while self._bytes > self._kept_bytes:
                    self._bytes -= len(self._answers.popitem(last=False)[1])
            waiting = list(piece.waiting)
            next(self.done_count)
            self._lock.notify_all()
        for done in waiting:
            done(outcome)

    def _do_ahead(self, name: Hashable, work: Callable[[], None]) -> None:
        def watch(_doing: str) -> None:
            if self._queue or self._running or self._closed:
                raise StoppedError("somebody waits")

        try:
            with watched_by(watch):
                work()
        except StoppedError:
            with self._lock:
                if name not in self._ahead:  # begun again later: what it found so far is kept
                    self._ahead[name] = work
        except Exception as error:  # never anybody's answer
            log.warning("work_ahead_failed", error=str(error))


def failed(error: BaseException) -> bytes:
    """What was raised, as an outcome."""
    try:
        found = pickle.dumps(error, protocol=pickle.HIGHEST_PROTOCOL)
        pickle.loads(found)
    except Exception:
        found = pickle.dumps(RuntimeError(str(error)), protocol=pickle.HIGHEST_PROTOCOL)
    if not getattr(error, "title", ""):
        log.error("work_failed", error=str(error), trace="".join(traceback.format_exception(error)))
    return FAILED + found


def outcome_of(answer: bytes) -> Any:
    """The result in an answer; what was raised is raised here."""
    found = pickle.loads(answer[1:])
    if answer.startswith(DONE):
        return found
    raise found
