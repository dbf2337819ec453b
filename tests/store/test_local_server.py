"""A database server that was killed comes up again, also where nobody clears away dead processes."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from tests.conftest import ROOT

SCRIPT = """
import ctypes, os, signal, sys, time
from pathlib import Path
import psycopg
from sondar.store.local_server import LocalServer

ctypes.CDLL(None).prctl(36, 1, 0, 0, 0)  # orphans become this process's children, and it asks for nobody's result
server = LocalServer(Path(sys.argv[1]))
with psycopg.connect(server.start(), autocommit=True) as db:
    db.execute("CREATE TABLE kept (x integer)")
    db.execute("INSERT INTO kept VALUES (7)")
dead = server.process()
os.kill(dead, signal.SIGKILL)
while server.is_running():
    time.sleep(0.05)
assert Path(f"/proc/{dead}").exists(), "it is still in the list of processes"
with psycopg.connect(server.start()) as db:
    print(dead != server.process(), db.execute("SELECT x FROM kept").fetchone())
server.stop("immediate")
"""


def test_a_dead_process_that_nobody_clears_away_is_in_nobodys_way() -> None:
    folder = Path(tempfile.mkdtemp(prefix="sondar-dead-"))
    folder.chmod(0o755)
    try:
        done = subprocess.run(
            [sys.executable, "-c", SCRIPT, str(folder / "postgres")],
            cwd=ROOT,
            capture_output=True,
            text=True,
            check=False,
            timeout=120,
        )
        assert done.stdout.strip() == "True (7,)", done.stderr[-800:]
    finally:
        shutil.rmtree(folder, ignore_errors=True)
