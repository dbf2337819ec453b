"""Who is asking, and what they may do. One table says it for every route; everything else asks for a signed-in person.

A session is a random token in a cookie that scripts cannot read; the database keeps its hash. Writing needs the session's own
token in a header too, which another site cannot know (CSRF). Passwords are Argon2id.
"""

from __future__ import annotations

import os
import secrets
import threading

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from flask import Flask, Response, g, request
from psycopg_pool import ConnectionPool

from sondar.core.errors import invalid
from sondar.store import people
from sondar.store.database import Db, borrowed
from sondar.web.context import signed_in
from sondar.web.problems import HttpError

API = "/api/v1"
OPEN_TO_ALL = {
    ("GET", f"{API}/ready"),
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
    ("GET", f"{API}/programs"),
    ("POST", f"{API}/programs"),
    ("DELETE", f"{API}/programs/<uuid:program_id>"),
    ("POST", f"{API}/jobs/<uuid:job_id>/erasure"),
}
"""Routes for workshop leads only."""

WRITES_NOTHING = {
    ("POST", f"{API}/diagnoses/<uuid:diagnosis_id>/preview"),
    ("POST", f"{API}/wires"),
    ("POST", f"{API}/sheets/preview"),
    ("POST", f"{API}/sheets/table"),
    ("POST", f"{API}/vehicle-models/preview"),
    ("POST", f"{API}/diagnoses/<uuid:diagnosis_id>/waveform"),
    ("POST", f"{API}/calculators/<string:calculator_id>"),
    ("DELETE", f"{API}/session"),
    ("PUT", f"{API}/me/password"),
    ("PUT", f"{API}/me/theme"),
    ("DELETE", f"{API}/me/sessions/<uuid:session_id>"),
}
"""Writing methods that someone who may only read can use: they touch nothing but the own account."""

FREE, FREE_ANYWHERE, FREE_ADDRESS = 4, 20, 40
"""Wrong passwords without delay: for a name from one address, for a name in all, from one address in all."""
COUNTED_MINUTES, LONGEST_S = 30, 900
"""Attempts are forgotten after this; no delay is longer than this."""
HASHES_AT_ONCE, HASH_WAIT_S = 1, 8.0
"""Argon2 takes 64 MB and four threads for a twentieth of a second: more at once would be an attack by itself."""
DEVICE_DAYS = 400
SESSION_HOURS = 14
PROGRAM_TOKEN = "sondar_"
"""Begins every token of an outside program, so that one that lies about is recognised."""
PASSWORD_MIN = 10

_hasher = PasswordHasher()
_hashing = threading.BoundedSemaphore(HASHES_AT_ONCE)
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
    """True if the password belongs to the hash; takes as long when there is no hash. Hold no connection while asking.

    Raises:
        HttpError: 503, too many are being checked.
    """
    if not _hashing.acquire(timeout=HASH_WAIT_S):
        raise HttpError(503, "Busy", "Many people are signing in at this moment. Try again.")
    try:
        _hasher.verify(password_hash or _DECOY, password)
    except (VerificationError, InvalidHashError):
        return False
    finally:
        _hashing.release()
    return password_hash is not None


def delay_s(failed: people.Failures, *, known_device: bool) -> float:
    """Seconds until the next attempt is taken, 0 for none.

    It doubles with every wrong password for a name from one address. What strangers do elsewhere with the name, or from the same address
    (a whole workshop behind one proxy) with other names, delays only browsers from which this account has never signed in.
    """
    waits = [_wait(failed.here, FREE, failed.here_s)]
    if not known_device:
        waits += [_wait(failed.anywhere, FREE_ANYWHERE, failed.anywhere_s), _wait(failed.address, FREE_ADDRESS, failed.address_s)]
    return max(waits)


def _wait(count: int, free: int, since_s: float) -> float:
    if count < free:
        return 0.0
    return max(0.0, min(float(LONGEST_S), 2.0 ** min(count - free + 1, 20)) - since_s)


def set_cookie(response: Response, token: str) -> None:
    """Give the browser its session."""
    response.set_cookie(
        cookie_name(), token, max_age=SESSION_HOURS * 3600, httponly=True, secure=secure_cookies(), samesite="Strict", path="/"
    )


def device_name() -> str:
    """Name of the cookie by which a browser is known again."""
    return "__Host-sondar-device" if secure_cookies() else "sondar-device"


def set_device_cookie(response: Response, token: str) -> None:
    """Give the browser the token by which it is known again."""
    response.set_cookie(
        device_name(), token, max_age=DEVICE_DAYS * 86400, httponly=True, secure=secure_cookies(), samesite="Strict", path="/"
    )


def register(app: Flask, pool: ConnectionPool[Db]) -> None:
    """Check every request to the API before its view runs."""

    @app.before_request
    def identify() -> None:
        if not request.path.startswith(f"{API}/"):
            return
        program = _program_token()
        token = program or request.cookies.get(cookie_name(), "")
        if token:
            with borrowed(pool) as db:
                g.session = people.find_session(db, token)
        rule = (request.method if request.method != "HEAD" else "GET", str(request.url_rule) if request.url_rule else "")
        if request.url_rule is None or rule in OPEN_TO_ALL:
            return
        person = signed_in()
        if request.method in ("GET", "HEAD", "OPTIONS"):
            if rule in ONLY_LEADS and person.role != "lead":
                raise _forbidden("this is for workshop leads")
            return
        # What a browser does not send by itself cannot be sent from another site.
        if not program and not secrets.compare_digest(request.headers.get("X-CSRF-Token", "").encode(), person.csrf.encode()):
            raise HttpError(403, "Request not from this page", "The request lacks this session's token. Reload the page.")
        if rule in ONLY_LEADS and person.role != "lead":
            raise _forbidden("this is for workshop leads")
        if rule not in WRITES_NOTHING and person.role == "read-only":
            raise _forbidden("your account may look, and not write")


def _program_token() -> str:
    """Token of an outside program, empty if none came."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    return token.strip() if scheme.lower() == "bearer" and token.strip().startswith(PROGRAM_TOKEN) else ""


def _forbidden(reason: str) -> HttpError:
    return HttpError(403, "Not allowed", f"Not allowed: {reason}. A workshop lead can change that under settings.")
