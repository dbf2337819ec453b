"""Worker processes for tests and benchmarks that run the application as a process."""

from __future__ import annotations

import os
import secrets
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def workers(count: int = 2) -> Iterator[dict[str, str]]:
    """Worker processes as the start command has them, and the environment of an application that asks them."""
    with tempfile.TemporaryDirectory(prefix="sondar-") as folder:
        addresses = [f"{folder}/worker-{number}" for number in range(count)]
        ours = {
            "SONDAR_WORKERS": " ".join(addresses), "SONDAR_WORKER_KEY": secrets.token_hex(16), "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1",
        }  # fmt: skip
        environment = {**os.environ, **ours}
        processes = [
            subprocess.Popen([sys.executable, "-m", "sondar.worker", "--listen", address], env=environment) for address in addresses
        ]
        try:
            yield ours
        finally:
            for process in processes:
                process.kill()
                process.wait()
