"""Every error as RFC 9457 problem details: a human sentence, and the fields at fault."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import psycopg
import structlog
from flask import Flask, Response, json
from psycopg_pool import PoolTimeout
from pydantic import BaseModel, Field, ValidationError
from werkzeug.exceptions import HTTPException

from sondar.core.errors import (
    ConflictError,
    FieldProblem,
    InvalidError,
    NotFoundError,
    RefusedError,
    TooLargeError,
    UnavailableError,
    UnsolvableNetworkError,
)

log = structlog.get_logger()

STATUS: tuple[tuple[type[RefusedError], int], ...] = (
    (NotFoundError, 404), (ConflictError, 409), (TooLargeError, 413), (InvalidError, 422), (UnavailableError, 502),
)  # fmt: skip
"""Status of every branch of the error tree."""


class FieldProblemModel(BaseModel):
    """One thing wrong with one field."""

    field: str
    message: str
    line: int | None = None


class ProblemDetails(BaseModel):
    """RFC 9457 problem details, with the offending fields."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    errors: list[FieldProblemModel] = Field(default_factory=list)


class HttpError(Exception):
    """What only HTTP knows: not signed in, not allowed, too often."""

    def __init__(self, status: int, title: str, detail: str, retry_after_s: int = 0) -> None:
        self.status, self.title, self.detail, self.retry_after_s = status, title, detail, retry_after_s
        super().__init__(detail)


def problem(status: int, title: str, detail: str, problems: Sequence[FieldProblem] = (), **facts: Any) -> Response:
    """A problem-details response; ``facts`` as RFC 9457 section 3.2 allows."""
    errors = [item.as_dict() for item in problems]
    body = {"type": "about:blank", "title": title, "status": status, "detail": detail, "errors": errors, **facts}
    return Response(json.dumps(body), status=status, content_type="application/problem+json")


def invalid_fields(error: ValidationError) -> Response:
    """Pydantic's complaints about a request."""
    found = [
        FieldProblem(tuple(item["loc"]) or ("body",), item["msg"].removeprefix("Value error, "))
        for item in error.errors(include_url=False, include_context=False, include_input=False)
    ]
    return problem(422, "Some fields are not right", f"{found[0].field}: {found[0].message}", found)


def register(app: Flask) -> None:
    """Turn each branch of the error tree into a status and a body."""

    @app.errorhandler(RefusedError)
    def _refused(error: RefusedError) -> Response:
        status = next(status for branch, status in STATUS if isinstance(error, branch))
        return problem(status, error.title, error.detail, error.problems, **error.facts)

    @app.errorhandler(HttpError)
    def _http_only(error: HttpError) -> Response:
        answer = problem(error.status, error.title, error.detail)
        if error.retry_after_s:
            answer.headers["Retry-After"] = str(error.retry_after_s)
        return answer

    @app.errorhandler(UnsolvableNetworkError)
    def _unsolvable(error: UnsolvableNetworkError) -> Response:
        return problem(422, "Circuit cannot be solved", str(error))

    @app.errorhandler(psycopg.DataError)
    def _data(error: psycopg.DataError) -> Response:
        log.warning("data_refused", error=str(error))
        said = "One of the values holds characters or numbers that cannot be stored. Nothing was stored."
        return problem(422, "A value cannot be stored", said)

    @app.errorhandler(psycopg.OperationalError)
    @app.errorhandler(PoolTimeout)
    def _database(error: Exception) -> Response:
        log.warning("database_unreachable", error=str(error))
        said = "Nothing was stored by this request. It will work again when the database is back."
        return problem(503, "Database not reachable", said)

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> Response:
        return problem(error.code or 500, error.name, error.description or error.name)

    @app.errorhandler(Exception)
    def _unexpected(error: Exception) -> Response:
        log.exception("unexpected_error", error=str(error))
        said = "An internal error. What you entered before is kept. Try again; if it stays, report it."
        return problem(500, "Internal error", said)
