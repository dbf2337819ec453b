"""Start everything on this machine: database, migrations, library, and the application; with ``--demo`` also the demo data and the
simulator bench meter. Stops what it started when it is told to stop.
"""

from __future__ import annotations

import argparse
import json
import os
import secrets
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from pathlib import Path
from types import FrameType

from sondar import demo
from sondar.simulators.bench_meter import MeterServer, vehicles_from
from sondar.store import people
from sondar.store.database import migrate, open_pool
from sondar.store.local_server import LocalServer, ServerError

ROOT = Path(__file__).parent.parent


def data_folder() -> Path:
    """Where the database lives: ``SONDAR_DATA``, else ``.sondar`` in the project, else (root's home is closed) ``/var/lib/sondar``."""
    chosen = os.environ.get("SONDAR_DATA")
    if chosen:
        return Path(chosen).resolve()
    if os.geteuid() == 0 and not all(parent.stat().st_mode & 0o001 for parent in (ROOT, *ROOT.parents)):
        return Path("/var/lib/sondar")
    return ROOT / ".sondar"


def main() -> int:
    """Parse arguments, start, wait."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--demo", action="store_true")
    parser.add_argument("--port", type=int, default=int(os.environ.get("SONDAR_PORT", "8000")))
    parser.add_argument("--database-port", type=int, default=int(os.environ.get("SONDAR_DATABASE_PORT", "0")))
    arguments = parser.parse_args()
    with socket.socket() as probe:
        if probe.connect_ex(("127.0.0.1", arguments.port)) == 0:
            print(
                f"Port {arguments.port} is taken: stop what runs there or choose another, e.g. SONDAR_PORT=8010 ./run demo",
                file=sys.stderr,
            )
            return 1
    folder = data_folder()
    server = LocalServer(folder / "postgres", arguments.database_port)
    folder.mkdir(parents=True, exist_ok=True)
    folder.chmod(0o755)
    try:
        dsn = server.start()
    except ServerError as error:
        print(error, file=sys.stderr)
        return 1
    migrate(dsn)
    meter, vehicles, setup_code = "", "", ""
    with open_pool(dsn, 2) as pool:
        if arguments.demo:
            demo.seed(pool)
            vehicles = json.dumps(demo.serve_vehicles())
            demo.write_vehicles(folder / "demo-vehicles.json")
            simulated_vehicle = MeterServer(vehicles_from(folder / "demo-vehicles.json"))
            threading.Thread(target=simulated_vehicle.serve_forever, daemon=True).start()
            meter = simulated_vehicle.address
        else:
            with pool.connection() as db:
                demo.load_library(db)
        with pool.connection() as db:
            if not people.any_workshop(db):
                setup_code = secrets.token_hex(4)
    environment = {
        # Plain loopback: a browser would not send a cookie marked for HTTPS. Behind a TLS proxy set SONDAR_SECURE_COOKIES=1.
        "SONDAR_SECURE_COOKIES": "0", "SONDAR_METER": meter, "SONDAR_VEHICLES": vehicles, "SONDAR_POOL": "16",
        **os.environ, "SONDAR_DSN": server.application_dsn(dsn), "SONDAR_SETUP_CODE": setup_code,
    }  # fmt: skip
    application = subprocess.Popen(
        [sys.executable, "-m", "sondar.serving", "--port", str(arguments.port)],
        env=environment, cwd=ROOT,
    )  # fmt: skip

    def stop(_signal: int, _frame: FrameType | None) -> None:
        application.terminate()

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    if _answers(arguments.port, application):
        print(f"\n  Sondar is ready: http://127.0.0.1:{arguments.port}/", flush=True)
        if arguments.demo:
            names = ", ".join(f"{sign_in} ({role})" for sign_in, _, role in demo.PEOPLE)
            print(f"  Sign in as {names}; password {demo.PASSWORD}", flush=True)
        if setup_code:
            print(f"  First set-up: open the address and give the code {setup_code}", flush=True)
        print("  Only this machine can reach it. Stop with Ctrl-C.\n", flush=True)
    code = application.wait()
    server.stop()
    return 0 if code in (0, -signal.SIGTERM) else code


def _answers(port: int, application: subprocess.Popen[bytes], patience_s: float = 60.0) -> bool:
    deadline = time.monotonic() + patience_s
    while time.monotonic() < deadline and application.poll() is None:
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/api/v1/health", timeout=5) as answer:
                return bool(answer.status == 200)
        except OSError:
            time.sleep(0.2)
    return False


if __name__ == "__main__":
    sys.exit(main())
