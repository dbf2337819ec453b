"""Long work asks now and then whether it is still wanted, and says how far it is; whoever runs it decides what that means.

Without a watcher a checkpoint does nothing, so the core computes the same alone, in a test and in a worker process.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from sondar.core.errors import SondarError

Watcher = Callable[[str], None]

_watcher: ContextVar[Watcher | None] = ContextVar("watcher", default=None)


class StoppedError(SondarError):
    """Work that was told to end before its end: its time is over, or nobody waits for it any more. What it kept so far stays."""


def checkpoint(doing: str = "") -> None:
    """A place where long work may end; ``doing`` says in words how far it is.

    Raises:
        StoppedError: as the watcher decides.
    """
    watcher = _watcher.get()
    if watcher is not None:
        watcher(doing)


@contextmanager
def watched_by(watcher: Watcher) -> Iterator[None]:
    """Within this block ``watcher`` is asked at every checkpoint of this thread."""
    token = _watcher.set(watcher)
    try:
        yield
    finally:
        _watcher.reset(token)
