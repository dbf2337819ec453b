"""The Flask application, put together from its features."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from typing import Any

import psycopg
from flask import Response, request
from flask_openapi3 import Info, OpenAPI, Tag
from psycopg_pool import ConnectionPool, PoolTimeout
from pydantic import BaseModel

from sondar import __version__
from sondar.app.computed import Computed
from sondar.app.photos import MAX_BYTES
from sondar.app.workspace import Devices
from sondar.computing.asking import Alone, Computing, Workers
from sondar.core.errors import SondarError
from sondar.store.database import CONNECTION_S, Db, answers, borrowed, open_pool
from sondar.web import auth
from sondar.web.bundles.routes import api as bundles
from sondar.web.calculators.routes import api as calculators
from sondar.web.circuits.routes import api as circuits
from sondar.web.codes.routes import api as codes
from sondar.web.commands.routes import api as commands
from sondar.web.context import services
from sondar.web.describing.routes import api as describing
from sondar.web.editing.routes import api as editing
from sondar.web.estimate.routes import api as estimate
from sondar.web.jobs.routes import api as jobs
from sondar.web.lists.routes import api as lists
from sondar.web.measure.routes import api as measure
from sondar.web.pages import FRONTEND, Pages, compressed
from sondar.web.parts.routes import api as parts
from sondar.web.people.routes import api as people
from sondar.web.problems import invalid_fields, register
from sondar.web.procedures.routes import api as procedures
from sondar.web.programs.routes import api as programs
from sondar.web.recordings.routes import api as recordings
from sondar.web.reference.routes import api as reference
from sondar.web.report.routes import api as report
from sondar.web.services import Services
from sondar.web.sharing.routes import api as sharing
from sondar.web.vehicles.routes import api as vehicle_models
from sondar.web.verification.routes import api as verification

FEATURES = (
    people,
    programs,
    lists,
    jobs,
    vehicle_models,
    codes,
    circuits,
    measure,
    procedures,
    calculators,
    sharing,
    reference,
    describing,
    editing,
    parts,
    report,
    recordings,
    commands,
    bundles,
    verification,
    estimate,
)
"""Every feature's routes; a new one is a folder beside these and a name here."""


class Ready(BaseModel):
    """What an entry needs: the database takes a write, and a worker answers."""

    database: bool
    workers: bool


class Health(BaseModel):
    """The service and its database answer."""

    status: str
    version: str


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
    "program": {
        "type": "http",
        "scheme": "bearer",
        "description": "Token of an outside program, made under settings; needs no other header.",
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
    dsn: str | None = None,
    meter_address: str | None = None,
    prepare: bool = True,
    vehicles: Mapping[str, str] | None = None,
    computing: Computing | None = None,
) -> OpenAPI:
    """Build the application.

    Args:
        dsn: connection string; ``SONDAR_DSN`` if left out.
        prepare: work out the triage of the library's vehicles in the background.
        meter_address: VISA address of the bench meter; ``SONDAR_METER`` if left out, none if empty.
        vehicles: vehicle interfaces, see ``Devices.vehicles``; ``SONDAR_VEHICLES`` (JSON, or one ``host:port``) if left out.
        computing: who computes; the workers named in ``SONDAR_WORKERS`` if left out, this process if none are.
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
    pool = open_pool(
        address, int(os.environ.get("SONDAR_POOL", "8")), float(os.environ.get("SONDAR_POOL_WAIT_S", str(CONNECTION_S)))
    )
    held = app.extensions["sondar"] = Services(pool, computing or _computing(), Devices(meter, found))
    if prepare:
        held.prepare_triage()
    register(app, lambda: answers(address), pool.get_stats)
    auth.register(app, pool)
    for blueprint in FEATURES:
        app.register_api(blueprint)

    @app.get("/api/v1/health", tags=[Tag(name="service")], responses={"200": Health})
    def health() -> Any:
        """Answers when the service and its database do."""
        with borrowed(services().pool) as db:
            db.execute("SELECT 1")
        return Health(status="ok", version=__version__).model_dump()

    @app.get("/api/v1/ready", tags=[Tag(name="service")], responses={"200": Ready, "503": Ready})
    def ready() -> Any:
        """Answers 200 when an entry could be stored and worked out now: the database takes a write and a worker answers."""
        found = Ready(database=_can_write(pool), workers=_can_compute(held.computing))
        return found.model_dump(), 200 if found.database and found.workers else 503

    Pages(FRONTEND).register(app)

    @app.after_request
    def harden(response: Response) -> Response:
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers.setdefault("X-Content-Type-Options", "nosniff")
        response.headers.setdefault("Referrer-Policy", "no-referrer")
        response.headers.setdefault("Permissions-Policy", "geolocation=(), microphone=(self), camera=(self)")
        if auth.secure_cookies():
            response.headers.setdefault("Strict-Transport-Security", "max-age=31536000")
        if request.method not in ("GET", "HEAD", "OPTIONS"):
            held.refresh_search()
            held.erase_what_is_due()
        if response.mimetype == "application/json":
            response.headers.setdefault("Cache-Control", "no-store")
        return compressed(response)

    return app


def _can_write(pool: ConnectionPool[Db]) -> bool:
    try:
        with borrowed(pool) as db:
            db.execute("UPDATE written SET at = now()")
    except (psycopg.Error, PoolTimeout):
        return False
    return True


def _can_compute(computing: Computing) -> bool:
    try:
        return bool(computing.run("ready", _is_there))
    except SondarError:
        return False


def _is_there(_computed: Computed) -> bool:
    return True


def _computing() -> Computing:
    addresses = os.environ.get("SONDAR_WORKERS", "").split()
    return Workers(addresses, os.environ["SONDAR_WORKER_KEY"].encode()) if addresses else Alone(Computed())


def _vehicles(text: str) -> Mapping[str, str]:
    if not text.strip().startswith("{"):
        return {"": text.strip()} if text.strip() else {}
    found: dict[str, str] = json.loads(text)
    return found
