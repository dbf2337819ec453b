"""A worker process: ``python -m sondar.worker --listen PATH``; the key comes in ``SONDAR_WORKER_KEY``.

What it may be asked to do is any function of this program; the socket is given only to those who have the key.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import resource
import signal
import threading
from multiprocessing.connection import Listener
from types import FrameType

from sondar.app.computed import Computed
from sondar.computing.schedule import Schedule
from sondar.computing.worker import Worker

MEMORY_MB = 4096
"""Work that needs more is refused rather than the machine brought to its knees; ``SONDAR_WORKER_MB`` says another bound."""
NICE = 5
"""The web process and the database come first: a reading is stored while circuits are worked out."""


def main() -> None:
    """Parse arguments and work until told to stop."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--listen", required=True, help="path of a Unix socket, or host:port")
    parser.add_argument("--while-open", type=int, default=-1, help="a pipe; when its other end is closed the worker stops")
    arguments = parser.parse_args()
    bound = int(os.environ.get("SONDAR_WORKER_MB", str(MEMORY_MB))) * 1024 * 1024
    resource.setrlimit(resource.RLIMIT_DATA, (bound, bound))
    os.nice(NICE)
    for received in (signal.SIGTERM, signal.SIGINT):
        signal.signal(received, _end)
    if arguments.while_open >= 0:
        threading.Thread(target=_end_when_closed, args=(arguments.while_open,), daemon=True).start()
    schedule = Schedule()
    computed = Computed(schedule.later)
    schedule.after_each = computed.shrink
    if "/" in arguments.listen:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(arguments.listen)  # of a worker that was killed
        listener = Listener(arguments.listen, "AF_UNIX", backlog=256)
        os.chmod(arguments.listen, 0o600)
    else:
        host, _, port = arguments.listen.rpartition(":")
        listener = Listener((host, int(port)), "AF_INET", backlog=256)
    Worker(computed, schedule, os.environ["SONDAR_WORKER_KEY"].encode()).serve(listener)


def _end(_signal: int, _frame: FrameType | None) -> None:
    os._exit(0)  # nothing is kept here that cannot be computed again


def _end_when_closed(pipe: int) -> None:
    os.read(pipe, 1)  # nothing is ever written: this returns when whoever started it has ended
    os._exit(0)


if __name__ == "__main__":
    main()
