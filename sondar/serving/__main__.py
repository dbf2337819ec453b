"""Serve the application: ``python -m sondar.serving --port 8000``, configured by the ``SONDAR_…`` variables that ``sondar.start`` sets."""

from __future__ import annotations

import argparse
import os
import resource
import signal
import socket
import sys
import threading
from pathlib import Path
from types import FrameType

import uvicorn

from sondar.serving.application import Application
from sondar.serving.protocol import LimitedProtocol
from sondar.serving.request_log import RequestLog
from sondar.web.application import create_app

KEEP_ALIVE_S, STOP_S = 75, 3
MOST_CONNECTIONS = 4_000


class Server(uvicorn.Server):
    """Ends the open streams as soon as it is told to stop, so that stopping takes seconds."""

    def __init__(self, config: uvicorn.Config, application: Application) -> None:
        super().__init__(config)
        self._application = application

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        """A signal to stop."""
        self._application.streams.end()
        super().handle_exit(sig, frame)


def _stop_when_closed(pipe: int) -> None:
    os.read(pipe, 1)  # nothing is ever written: this returns when whoever started it has ended
    os.kill(os.getpid(), signal.SIGTERM)


def main() -> None:
    """Parse arguments and serve until told to stop."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, default=8000)
    parser.add_argument(
        "--socket", type=int, default=-1, help="a listening socket to take instead; several processes may share one"
    )
    parser.add_argument("--name", default="web", help="of this process, for its log files in SONDAR_LOG")
    parser.add_argument("--no-prepare", action="store_true", help="do not work out the library's triage in the background")
    parser.add_argument("--while-open", type=int, default=-1, help="a pipe; when its other end is closed the application stops")
    arguments = parser.parse_args()
    if arguments.while_open >= 0:
        threading.Thread(target=_stop_when_closed, args=(arguments.while_open,), daemon=True).start()
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(most, 4 * MOST_CONNECTIONS), most))  # every open page is a file
    dsn = os.environ["SONDAR_DSN"]
    folder = os.environ.get("SONDAR_LOG", "")
    log = RequestLog(Path(folder) if folder else None, arguments.name)
    application = Application(create_app(dsn, prepare=not arguments.no_prepare), dsn, log=log)
    # A proxy in front says who asks; nobody else is believed.
    proxy = os.environ.get("SONDAR_PROXY", "")
    config = uvicorn.Config(
        application, host=arguments.host, port=arguments.port, http=LimitedProtocol, ws="none", log_level="warning", access_log=False,
        server_header=False, proxy_headers=bool(proxy), forwarded_allow_ips=proxy or None, timeout_keep_alive=KEEP_ALIVE_S,
        timeout_graceful_shutdown=STOP_S, limit_concurrency=MOST_CONNECTIONS, backlog=512,
    )  # fmt: skip
    server = Server(config, application)
    server.run([socket.socket(fileno=arguments.socket)] if arguments.socket >= 0 else None)
    sys.stdout.flush()
    # Everything that was acknowledged is in the database; work done ahead in a thread would keep the process for half a minute.
    os._exit(0 if server.started else 3)


if __name__ == "__main__":
    main()
