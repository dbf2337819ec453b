"""One line of JSON for every request: what was asked, what came of it, how long it took, and the id that the answer carries.

No query strings, no bodies, no names: what stands in a job is nobody's business here.
"""

from __future__ import annotations

import json
import logging
from datetime import UTC, datetime
from logging.handlers import RotatingFileHandler
from pathlib import Path

SLOW_S = 2.0
FILE_BYTES, FILES = 5 * 1024 * 1024, 5


class RequestLog:
    """Lines into a file that is rotated; slow requests also into one of their own. Nothing is written where there is no folder."""

    def __init__(self, folder: Path | None, name: str) -> None:
        self._all = _file(folder, f"{name}-requests")
        self._slow = _file(folder, f"{name}-slow")

    def write(self, request_id: str, method: str, path: str, status: int, seconds: float) -> None:
        """One request."""
        line = json.dumps({
            "at": datetime.now(UTC).isoformat(timespec="milliseconds"), "id": request_id, "method": method, "path": path[:300],
            "status": status, "ms": round(1000 * seconds, 1),
        })  # fmt: skip
        self._all.info(line)
        if seconds > SLOW_S:
            self._slow.info(line)


def _file(folder: Path | None, name: str) -> logging.Logger:
    found = logging.getLogger(f"sondar.log.{folder}.{name}")
    found.propagate = False
    found.setLevel(logging.INFO)
    if not found.handlers:
        if folder is None:
            found.addHandler(logging.NullHandler())
        else:
            folder.mkdir(parents=True, exist_ok=True)
            handler = RotatingFileHandler(folder / f"{name}.log", maxBytes=FILE_BYTES, backupCount=FILES, delay=True)
            handler.setFormatter(logging.Formatter("%(message)s"))
            found.addHandler(handler)
    return found
