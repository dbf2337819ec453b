"""The Flask application: one folder per feature. Routes parse, call ``sondar.app`` and serialise. No formulas, no SQL."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from flask import Response, send_from_directory
from flask_openapi3 import Info, OpenAPI, Tag
from pydantic import BaseModel

from sondar import __version__
from sondar.app.computed import Computed
from sondar.app.photos import MAX_BYTES
from sondar.app.workspace import Devices
from sondar.core.errors import NotFoundError
from sondar.store.database import open_pool
from sondar.web import auth
from sondar.web.calculators.routes import api as calculators
from sondar.web.circuits.routes import api as circuits
from sondar.web.codes.routes import api as codes
from sondar.web.context import services
from sondar.web.jobs.routes import api as jobs
from sondar.web.lists.routes import api as lists
from sondar.web.measure.routes import api as measure
from sondar.web.people.routes import api as people
from sondar.web.problems import invalid_fields, register
from sondar.web.procedures.routes import api as procedures
from sondar.web.services import Services
from sondar.web.sharing.routes import api as sharing
from sondar.web.vehicles.routes import api as vehicle_models

FEATURES = (people, lists, jobs, vehicle_models, codes, circuits, measure, procedures, calculators, sharing)
"""Every feature's routes; a new one is a folder beside these and a name here."""


class Health(BaseModel):
    """The service and its database answer."""

    status: str
    version: str


FRONTEND = Path(__file__).parent.parent.parent / "frontend" / "dist"

POLICY = (
    "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; form-action 'self'; object-src 'none'; "
    "base-uri 'none'; frame-ancestors 'none'"
)
"""Everything ships with the application; inline styles are positions computed for the drawing."""


SECURITY: dict[str, Any] = {
    "session": {
        "type": "apiKey",
        "in": "cookie",
        "name": "__Host-sondar",
        "description": "Set by signing in; 'sondar' on plain loopback.",
    },
    "csrf": {
        "type": "apiKey",
        "in": "header",
        "name": "X-CSRF-Token",
        "description": "From GET /session; needed by every writing request.",
    },
}
"""How requests are authorised, for the API's description."""


def create_app(
    dsn: str | None = None, meter_address: str | None = None, prepare: bool = True, vehicles: Mapping[str, str] | None = None
) -> OpenAPI:
    """Build the application.

    Args:
        dsn: connection string; ``SONDAR_DSN`` if left out.
        prepare: work out the triage of the library's vehicles in the background.
        meter_address: VISA address of the bench meter; ``SONDAR_METER`` if left out, none if empty.
        vehicles: vehicle interfaces, see ``Devices.vehicles``; ``SONDAR_VEHICLES`` (JSON, or one ``host:port``) if left out.
    """
    app = OpenAPI(
        __name__, info=Info(title="Sondar", version=__version__), doc_ui=False, validation_error_callback=invalid_fields,
        static_folder=None, security_schemes=SECURITY,
    )  # fmt: skip
    app.config["MAX_CONTENT_LENGTH"] = MAX_BYTES + 64 * 1024
    app.json.sort_keys = False  # type: ignore[attr-defined]
    address = os.environ["SONDAR_DSN"] if dsn is None else dsn
    meter = os.environ.get("SONDAR_METER", "") if meter_address is None else meter_address
    found = _vehicles(os.environ.get("SONDAR_VEHICLES", "")) if vehicles is None else vehicles
    pool = open_pool(address, int(os.environ.get("SONDAR_POOL", "8")))
    held = app.extensions["sondar"] = Services(pool, Computed(), Devices(meter, found))
    if prepare:
        held.prepare_triage()
    register(app)
    auth.register(app, pool)
    for blueprint in FEATURES:
        app.register_api(blueprint)

    @app.get("/api/v1/health", tags=[Tag(name="service")], responses={"200": Health})
    def health() -> Any:
        """Answers when the service and its database do."""
        with services().pool.connection() as db:
            db.execute("SELECT 1")
        return Health(status="ok", version=__version__).model_dump()

    def page(name: str = "") -> Response:
        if name.startswith("api/"):
            raise NotFoundError("Not found", f"no such address: /{name}")
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
        response.headers.setdefault("Permissions-Policy", "geolocation=(), microphone=(self), camera=(self)")
        if auth.secure_cookies():
            response.headers.setdefault("Strict-Transport-Security", "max-age=31536000")
        if response.mimetype == "application/json":
            response.headers.setdefault("Cache-Control", "no-store")
        return response

    return app


def _vehicles(text: str) -> Mapping[str, str]:
    if not text.strip().startswith("{"):
        return {"": text.strip()} if text.strip() else {}
    found: dict[str, str] = json.loads(text)
    return found
