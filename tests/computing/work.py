"""Work for the workers of the tests: functions of a module, as everything that is given to a worker."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import Any

from sondar.core.errors import QuantityError
from sondar.core.interruption import checkpoint


def twice(_context: Any, number: int) -> int:
    return 2 * number


def process(_context: Any) -> int:
    return os.getpid()


def counted(_context: Any, file: str, seconds: float) -> str:
    """Leaves a line when it begins and another when it ends; asks at checkpoints whether it is wanted."""
    with Path(file).open("a") as log:
        log.write("begun\n")
        log.flush()
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            checkpoint(f"{end - time.monotonic():.0f} s to go")
            time.sleep(0.01)
        log.write("ended\n")
    return "done"


def refused(_context: Any, text: str) -> None:
    raise QuantityError(text, "a number")


def broken(_context: Any) -> None:
    raise ZeroDivisionError("a mistake of the program")


def ends_the_worker(_context: Any, file: str) -> None:
    with Path(file).open("a") as log:
        log.write("killed\n")
    os._exit(1)


def too_large(_context: Any) -> bytes:
    return bytes(64 * 1024 * 1024 * 1024)
