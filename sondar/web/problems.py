"""Every error as RFC 9457 problem details: a human sentence, and the fields at fault."""

from __future__ import annotations

from typing import Any

import psycopg
import structlog
from flask import Flask, Response, json
from psycopg_pool import PoolTimeout
from pydantic import ValidationError
from werkzeug.exceptions import HTTPException

from sondar.circuit_files import CircuitFileError
from sondar.core.codes import CodeTextError
from sondar.core.errors import QuantityError, UnknownReferenceError, UnsolvableNetworkError
from sondar.devices.meter import MeterError
from sondar.devices.scan_tool import ScanToolError

log = structlog.get_logger()


class ProblemError(Exception):
    """A request that cannot be met; becomes problem details."""

    def __init__(
        self, status: int, title: str, detail: str, errors: list[dict[str, Any]] | None = None, **extra: Any
    ) -> None:  # fmt: skip
        self.status, self.title, self.detail, self.errors, self.extra = status, title, detail, errors or [], extra
        super().__init__(detail)


def field_problem(field: str, message: str, status: int = 422, title: str = "Some fields are not right") -> ProblemError:
    """A request with one field at fault."""
    return ProblemError(status, title, f"{field}: {message}", [{"field": field, "message": message, "line": None}])


def problem(status: int, title: str, detail: str, errors: list[dict[str, Any]] | None = None, **extra: Any) -> Response:
    """A problem-details response; ``extra`` members as RFC 9457 section 3.2 allows."""
    body = {"type": "about:blank", "title": title, "status": status, "detail": detail, "errors": errors or [], **extra}
    return Response(json.dumps(body), status=status, content_type="application/problem+json")


def invalid_fields(error: ValidationError) -> Response:
    """Pydantic's complaints about a request."""
    errors = [
        {
            "field": ".".join(str(step) for step in item["loc"]) or "body",
            "message": item["msg"].removeprefix("Value error, "),
            "line": None,
        }
        for item in error.errors(include_url=False, include_context=False, include_input=False)
    ]
    first = errors[0]
    return problem(422, "Some fields are not right", f"{first['field']}: {first['message']}", errors)


def register(app: Flask) -> None:
    """Turn each branch of the error tree into a status and a body."""

    @app.errorhandler(ProblemError)
    def _api(error: ProblemError) -> Response:
        return problem(error.status, error.title, error.detail, error.errors, **error.extra)

    @app.errorhandler(CircuitFileError)
    def _file(error: CircuitFileError) -> Response:
        count = len(error.problems)
        detail = f"The file has {count} problem{'s' if count > 1 else ''}. Nothing was stored."
        return problem(422, "File not usable", detail, [p.as_dict() for p in error.problems])

    @app.errorhandler(QuantityError)
    def _quantity(error: QuantityError) -> Response:
        return problem(422, "Reading not understood", str(error), [{"field": "entry", "message": str(error), "line": None}])

    @app.errorhandler(UnknownReferenceError)
    def _reference(error: UnknownReferenceError) -> Response:
        return problem(422, f"Unknown {error.kind}", str(error), [{"field": error.kind, "message": str(error), "line": None}])

    @app.errorhandler(UnsolvableNetworkError)
    def _unsolvable(error: UnsolvableNetworkError) -> Response:
        return problem(422, "Circuit cannot be solved", str(error))

    @app.errorhandler(CodeTextError)
    def _codes(error: CodeTextError) -> Response:
        errors = [{"field": "text", "message": message, "line": line} for line, message in error.problems]
        return problem(422, "Codes not understood", f"{error}. Nothing was stored.", errors)

    @app.errorhandler(ScanToolError)
    def _scan_tool(error: ScanToolError) -> Response:
        return problem(502, "Vehicle not read", str(error))

    @app.errorhandler(psycopg.DataError)
    def _data(error: psycopg.DataError) -> Response:
        log.warning("data_refused", error=str(error))
        return problem(
            422,
            "A value cannot be stored",
            "One of the values holds characters or numbers that cannot be stored. Nothing was stored.",
        )

    @app.errorhandler(MeterError)
    def _meter(error: MeterError) -> Response:
        return problem(502, "Meter not read", str(error))

    @app.errorhandler(psycopg.OperationalError)
    @app.errorhandler(PoolTimeout)
    def _database(error: Exception) -> Response:
        log.warning("database_unreachable", error=str(error))
        return problem(
            503, "Database not reachable", "Nothing was stored by this request. It will work again when the database is back."
        )

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> Response:
        return problem(error.code or 500, error.name, error.description or error.name)

    @app.errorhandler(Exception)
    def _unexpected(error: Exception) -> Response:
        log.exception("unexpected_error", error=str(error))
        return problem(
            500, "Sondar failed", "An error of ours. What you entered before is kept. Try again; if it stays, report it."
        )
