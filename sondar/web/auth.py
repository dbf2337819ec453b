"""Who is asking, and what they may do. One table says it for every route; everything else asks for a signed-in person.

A session is a random token in a cookie that scripts cannot read; the database keeps its hash. Writing needs the session's own
token in a header too, which another site cannot know (CSRF). Passwords are Argon2id.
"""

from __future__ import annotations

import os
import secrets

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from flask import Flask, Response, g, request
from psycopg_pool import ConnectionPool

from sondar.core.errors import invalid
from sondar.store import people
from sondar.store.database import Db
from sondar.web.context import signed_in
from sondar.web.problems import HttpError

API = "/api/v1"
OPEN_TO_ALL = {
    ("GET", f"{API}/health"),
    ("GET", f"{API}/setup"),
    ("POST", f"{API}/setup"),
    ("GET", f"{API}/session"),
    ("POST", f"{API}/session"),
    ("GET", f"{API}/shared/<string:token>"),
}
"""Routes that need no sign-in."""

ONLY_LEADS = {
    ("PUT", f"{API}/workshop"),
    ("GET", f"{API}/accounts"),
    ("POST", f"{API}/accounts"),
    ("PUT", f"{API}/accounts/<uuid:account_id>"),
    ("PUT", f"{API}/accounts/<uuid:account_id>/password"),
    ("GET", f"{API}/audit"),
    ("GET", f"{API}/workshop/sessions"),
    ("DELETE", f"{API}/workshop/sessions/<uuid:session_id>"),
    ("POST", f"{API}/meters"),
    ("DELETE", f"{API}/meters/<uuid:meter_id>"),
}
"""Routes for workshop leads only."""

WRITES_NOTHING = {
    ("POST", f"{API}/diagnoses/<uuid:diagnosis_id>/preview"),
    ("POST", f"{API}/diagnoses/<uuid:diagnosis_id>/waveform"),
    ("POST", f"{API}/calculators/<string:calculator_id>"),
    ("DELETE", f"{API}/session"),
    ("PUT", f"{API}/me/password"),
    ("PUT", f"{API}/me/theme"),
    ("DELETE", f"{API}/me/sessions/<uuid:session_id>"),
}
"""Writing methods that someone who may only read can use: they touch nothing but the own account."""

LOCK_AFTER, LOCK_MINUTES, ADDRESS_LIMIT = 5, 15, 40
SESSION_HOURS = 14
PASSWORD_MIN = 10

_hasher = PasswordHasher()
_DECOY = _hasher.hash(secrets.token_urlsafe(16))


def secure_cookies() -> bool:
    """Cookies only over HTTPS, unless the start command serves plain loopback."""
    return os.environ.get("SONDAR_SECURE_COOKIES", "1") != "0"


def cookie_name() -> str:
    """With ``__Host-`` the browser itself refuses the cookie over plain HTTP or from another host."""
    return "__Host-sondar" if secure_cookies() else "sondar"


def hash_password(password: str, field: str = "password") -> str:
    """Argon2id hash of an acceptable password.

    Raises:
        InvalidError: too short or too plain.
    """
    if len(password) < PASSWORD_MIN:
        raise invalid(field, f"at least {PASSWORD_MIN} characters")
    if len(set(password)) < 5:
        raise invalid(field, "too few different characters")
    return _hasher.hash(password)


def fits(password_hash: str | None, password: str) -> bool:
    """True if the password belongs to the hash; takes as long when there is no hash."""
    try:
        _hasher.verify(password_hash or _DECOY, password)
    except (VerificationError, InvalidHashError):
        return False
    return password_hash is not None


def set_cookie(response: Response, token: str) -> None:
    """Give the browser its session."""
    response.set_cookie(
        cookie_name(), token, max_age=SESSION_HOURS * 3600, httponly=True, secure=secure_cookies(), samesite="Strict", path="/"
    )


def register(app: Flask, pool: ConnectionPool[Db]) -> None:
    """Check every request to the API before its view runs."""

    @app.before_request
    def identify() -> None:
        if not request.path.startswith(f"{API}/"):
            return
        token = request.cookies.get(cookie_name(), "")
        if token:
            with pool.connection() as db:
                g.session = people.find_session(db, token)
        rule = (request.method if request.method != "HEAD" else "GET", str(request.url_rule) if request.url_rule else "")
        if request.url_rule is None or rule in OPEN_TO_ALL:
            return
        person = signed_in()
        if request.method in ("GET", "HEAD", "OPTIONS"):
            if rule in ONLY_LEADS and person.role != "lead":
                raise _forbidden("this is for workshop leads")
            return
        if not secrets.compare_digest(request.headers.get("X-CSRF-Token", "").encode(), person.csrf.encode()):
            raise HttpError(403, "Request not from this page", "The request lacks this session's token. Reload the page.")
        if rule in ONLY_LEADS and person.role != "lead":
            raise _forbidden("this is for workshop leads")
        if rule not in WRITES_NOTHING and person.role == "read-only":
            raise _forbidden("your account may look, and not write")


def _forbidden(reason: str) -> HttpError:
    return HttpError(403, "Not allowed", f"Not allowed: {reason}. A workshop lead can change that under settings.")
