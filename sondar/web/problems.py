"""Every error as RFC 9457 problem details: a human sentence, and the fields at fault."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import psycopg
import structlog
from flask import Flask, Response, json, request
from psycopg_pool import PoolTimeout
from pydantic import BaseModel, Field, ValidationError
from werkzeug.exceptions import HTTPException, RequestEntityTooLarge

from sondar.computing.asking import NobodyWaitsError, StillWorkingError
from sondar.core.errors import (
    BusyError,
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
    (NotFoundError, 404), (ConflictError, 409), (TooLargeError, 413), (InvalidError, 422), (UnavailableError, 502), (BusyError, 503),
)  # fmt: skip
"""Status of every branch of the error tree."""


WORKING_PAGE = (
    '<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Working it out</title></head>'
    '<body style="font: 1.2rem sans-serif; margin: 3rem"><p role="status">Working it out … This page loads again by itself.</p></body></html>'
)
"""For somebody who opened a report that is not ready yet."""


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


class Working(BaseModel):
    """Status 202: it is still being worked out; ``working`` says how far it is. The same request again gets the answer."""

    working: str


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


def register(app: Flask, database_answers: Callable[[], bool], pool_state: Callable[[], Mapping[str, int]]) -> None:
    """Turn each branch of the error tree into a status and a body.

    Args:
        database_answers: False if the database is away. pool_state: figures of the pool, logged where it had nothing to lend.
    """

    @app.errorhandler(RefusedError)
    def _refused(error: RefusedError) -> Response:
        status = next(status for branch, status in STATUS if isinstance(error, branch))
        answer = problem(status, error.title, error.detail, error.problems, **error.facts)
        if isinstance(error, BusyError):
            answer.headers["Retry-After"] = "2"
        return answer

    @app.errorhandler(StillWorkingError)
    def _working(error: StillWorkingError) -> Response:
        # What was sent is stored. The same request again (a client key is known again) hears how far it is, or gets the answer.
        if request.method == "GET" and request.accept_mimetypes.best_match(["application/json", "text/html"]) == "text/html":
            # A link to a report was followed: the page asks again by itself.
            return Response(WORKING_PAGE, 202, {"Refresh": "2"}, content_type="text/html; charset=utf-8")
        answer = Response(json.dumps(Working(working=error.progress).model_dump()), 202, content_type="application/json")
        answer.headers["Retry-After"] = "1"
        return answer

    @app.errorhandler(NobodyWaitsError)
    def _gone(_error: NobodyWaitsError) -> Response:
        return Response(status=499)

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

    @app.errorhandler(PoolTimeout)
    def _busy(error: PoolTimeout) -> Response:
        if database_answers():
            log.warning("no_connection_free", error=str(error), pool=pool_state())
            answer = problem(503, "Busy", "Nothing was stored by this request: too much was asked for at once. Try again.")
            answer.headers["Retry-After"] = "2"
            return answer
        return _database(error)

    @app.errorhandler(psycopg.OperationalError)
    def _database(error: Exception) -> Response:
        log.warning("database_unreachable", error=str(error))
        said = "Nothing was stored by this request. It will work again when the database is back."
        return problem(503, "Database not reachable", said)

    @app.errorhandler(psycopg.errors.ReadOnlySqlTransaction)
    def _read_only(error: Exception) -> Response:
        log.warning("database_read_only", error=str(error))
        said = "The database takes no writing at the moment. Nothing was stored; what you type is kept in this browser."
        return problem(503, "Nothing can be written", said)

    @app.errorhandler(RecursionError)
    def _deep(_error: RecursionError) -> Response:
        return problem(
            400, "Nested too deeply", "What was sent has lists or objects in one another by the hundred. Nothing was stored."
        )

    @app.errorhandler(RequestEntityTooLarge)
    def _too_much(_error: RequestEntityTooLarge) -> Response:
        most = app.config["MAX_CONTENT_LENGTH"] // 1024 // 1024
        return problem(413, "Too large", f"What was sent is too large: at most {most} MB at once. Nothing was kept.")

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> Response:
        return problem(error.code or 500, error.name, error.description or error.name)

    @app.errorhandler(Exception)
    def _unexpected(error: Exception) -> Response:
        number = request.headers.get("X-Request-Id", "")
        log.exception("unexpected_error", error=str(error), request=number)
        said = "An internal error. What you entered before is kept. Try again; if it stays, report it"
        said += f" with the number {number}." if number else "."
        return problem(500, "Internal error", said)
