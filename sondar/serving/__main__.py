"""Serve the application: ``python -m sondar.serving --port 8000``, configured by the ``SONDAR_…`` variables that ``sondar.start`` sets."""

from __future__ import annotations

import argparse
import os
import resource
from types import FrameType

import uvicorn

from sondar.serving.application import Application
from sondar.serving.protocol import LimitedProtocol
from sondar.web import create_app

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


def main() -> None:
    """Parse arguments and serve until told to stop."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, default=8000)
    parser.add_argument("--no-prepare", action="store_true", help="do not work out the library's triage in the background")
    arguments = parser.parse_args()
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(most, 4 * MOST_CONNECTIONS), most))  # every open page is a file
    dsn = os.environ["SONDAR_DSN"]
    application = Application(create_app(dsn, prepare=not arguments.no_prepare), dsn)
    # A proxy in front says who asks; nobody else is believed.
    proxy = os.environ.get("SONDAR_PROXY", "")
    config = uvicorn.Config(
        application, host=arguments.host, port=arguments.port, http=LimitedProtocol, ws="none", log_level="warning", access_log=False,
        server_header=False, proxy_headers=bool(proxy), forwarded_allow_ips=proxy or None, timeout_keep_alive=KEEP_ALIVE_S,
        timeout_graceful_shutdown=STOP_S, limit_concurrency=MOST_CONNECTIONS, backlog=512,
    )  # fmt: skip
    Server(config, application).run()


if __name__ == "__main__":
    main()
