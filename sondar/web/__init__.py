"""The Flask application: views parse, call the core and the store, and serialise. No formulas, no SQL."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from flask import Response, send_from_directory
from flask_openapi3 import Info, OpenAPI, Tag

from sondar import __version__
from sondar.store.database import open_pool
from sondar.web import bench, circuits, jobs
from sondar.web.models import Health
from sondar.web.problems import ProblemError, invalid_fields, register
from sondar.web.services import Services, services

FRONTEND = Path(__file__).parent.parent.parent / "frontend" / "dist"

POLICY = "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; object-src 'none'; base-uri 'none'; frame-ancestors 'none'"
"""Everything ships with the application; inline styles are positions computed for the drawing."""


def create_app(dsn: str | None = None, meter_address: str | None = None, prepare: bool = True) -> OpenAPI:
    """Build the application.

    Args:
        dsn: connection string; ``SONDAR_DSN`` if left out.
        prepare: work out the first step of every stored circuit in the background.
        meter_address: VISA address of the bench meter; ``SONDAR_METER`` if left out, none if empty.
    """
    app = OpenAPI(
        __name__, info=Info(title="Sondar", version=__version__), doc_ui=False, validation_error_callback=invalid_fields,
        static_folder=None,
    )  # fmt: skip
    app.config["MAX_CONTENT_LENGTH"] = 4 * 1024 * 1024
    app.json.sort_keys = False  # type: ignore[attr-defined]
    app.extensions["sondar"] = Services(
        open_pool(os.environ["SONDAR_DSN"] if dsn is None else dsn),
        os.environ.get("SONDAR_METER", "") if meter_address is None else meter_address,
    )
    if prepare:
        app.extensions["sondar"].prepare_library()
    register(app)
    for blueprint in (jobs.api, circuits.api, bench.api):
        app.register_api(blueprint)

    @app.get("/api/v1/health", tags=[Tag(name="service")], responses={"200": Health})
    def health() -> Any:
        """Answers when the service and its database do."""
        with services().transaction() as db:
            db.execute("SELECT 1")
        return Health(status="ok", version=__version__).model_dump()

    def page(name: str = "") -> Response:
        if name.startswith("api/"):
            raise ProblemError(404, "Not found", f"no such address: /{name}")
        if name and (FRONTEND / name).is_file():
            answer = send_from_directory(FRONTEND, name)
            if name.startswith("assets/"):
                answer.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return answer
        return send_from_directory(FRONTEND, "index.html", max_age=0)

    app.add_url_rule("/", view_func=page)
    app.add_url_rule("/<path:name>", view_func=page)

    @app.after_request
    def harden(response: Response) -> Response:
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers.setdefault("X-Content-Type-Options", "nosniff")
        response.headers.setdefault("Referrer-Policy", "no-referrer")
        return response

    return app
