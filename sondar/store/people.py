"""Workshops, accounts, sessions, sign-in attempts, meters, share links, audit.

Secrets are kept as SHA-256 of random tokens; passwords as Argon2id, hashed by the caller.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID, uuid4

from psycopg.rows import class_row
from psycopg.types.json import Jsonb

from sondar.core.circuit.model import Group
from sondar.store.database import Db, act_for


@dataclass(frozen=True)
class Workshop:
    """A workshop and its settings."""

    id: UUID
    name: str
    rate_per_hour: float
    currency: str
    decision_threshold: float
    distance_unit: str
    temperature_unit: str
    tools: list[str]
    alone: bool
    show_examples: bool
    photo_quota_mb: int
    recording_quota_mb: int
    erase_after_months: int | None
    group_shares: dict[Group, float]
    version: int


@dataclass(frozen=True)
class Account:
    """Someone who can sign in."""

    id: UUID
    sign_in: str
    name: str
    role: str
    active: bool
    theme: str
    created_at: datetime


@dataclass(frozen=True)
class Session:
    """Who is asking."""

    session_id: UUID
    account_id: UUID
    workshop_id: UUID
    role: str
    csrf: str
    name: str
    sign_in: str
    theme: str


@dataclass(frozen=True)
class OpenSession:
    """One of an account's sessions, for its list."""

    id: UUID
    account_id: UUID
    account_name: str
    agent: str
    address: str
    created_at: datetime
    seen_at: datetime
    expires_at: datetime


@dataclass(frozen=True)
class Meter:
    """A meter of the workshop with its accuracy: percent of reading and a floor, in V and Ω."""

    id: UUID
    name: str
    volts_percent: float
    volts_floor: float
    ohms_percent: float
    ohms_floor: float
    active: bool

    def error(self, quantity: str, value: float) -> float:
        """Bound of the error at a value, SI units; ``quantity`` is ``volts`` or ``ohms``, 0 for anything else."""
        if quantity == "volts":
            return abs(value) * self.volts_percent / 100 + self.volts_floor
        return abs(value) * self.ohms_percent / 100 + self.ohms_floor if quantity == "ohms" else 0.0


@dataclass(frozen=True)
class Share:
    """A read-only link to one job."""

    id: UUID
    job_id: UUID
    created_at: datetime
    expires_at: datetime
    revoked_at: datetime | None
    opened: int
    by: str | None


@dataclass(frozen=True)
class AuditEntry:
    """Who did what."""

    id: int
    action: str
    subject: str
    address: str
    at: datetime
    by: str | None


_WORKSHOP = "id, name, rate_per_hour, currency, decision_threshold, distance_unit, temperature_unit, tools, alone, show_examples, photo_quota_mb"
_WORKSHOP += ", recording_quota_mb, erase_after_months, group_shares, version"
_ACCOUNT = "id, sign_in, name, role, active, theme, created_at"
_METER = "id, name, volts_percent, volts_floor, ohms_percent, ohms_floor, active"


def digest(token: str) -> bytes:
    """What is kept of a token."""
    return hashlib.sha256(token.encode()).digest()


# -- workshops ------------------------------------------------------------------------------------------


def any_workshop(db: Db) -> bool:
    """True once the first workshop has been set up."""
    row = db.execute("SELECT any_workshop()").fetchone()
    return bool(row and row[0])


def create_workshop(db: Db, name: str, *, alone: bool = False) -> UUID:
    """A new workshop; the transaction goes on inside it."""
    made = uuid4()
    act_for(db, made)
    db.execute("INSERT INTO workshop (id, name, alone) VALUES (%s, %s, %s)", (made, name, alone))
    return made


def workshop(db: Db) -> Workshop:
    """The workshop of this transaction."""
    with db.cursor(row_factory=class_row(Workshop)) as cursor:
        found = cursor.execute("SELECT " + _WORKSHOP + " FROM workshop WHERE id = current_workshop()").fetchone()
    assert found is not None
    return found


def change_workshop(db: Db, version: int, values: dict[str, Any]) -> bool:
    """New settings if nobody changed them since ``version``; False otherwise."""
    columns = ("name", "rate_per_hour", "currency", "decision_threshold", "distance_unit", "temperature_unit", "tools",
               "alone", "show_examples", "photo_quota_mb", "recording_quota_mb",
               "erase_after_months", "group_shares")  # fmt: skip
    row = db.execute(
        f"UPDATE workshop SET {', '.join(f'{c} = %({c})s' for c in columns)}, version = version + 1 "
        "WHERE id = current_workshop() AND version = %(version)s RETURNING id",
        {**values, "group_shares": Jsonb(values["group_shares"]), "version": version},
    ).fetchone()
    return row is not None


# -- accounts -------------------------------------------------------------------------------------------


def create_account(db: Db, sign_in: str, name: str, role: str, password_hash: str) -> UUID | None:
    """A new account; None if the sign-in name is taken."""
    row = db.execute(
        "INSERT INTO account (sign_in, name, role, password_hash) VALUES (%s, %s, %s, %s) ON CONFLICT (sign_in) DO NOTHING RETURNING id",
        (sign_in.lower(), name, role, password_hash),
    ).fetchone()
    return None if row is None else UUID(str(row[0]))


def accounts(db: Db) -> list[Account]:
    """Everyone of the workshop, by name."""
    with db.cursor(row_factory=class_row(Account)) as cursor:
        return cursor.execute("SELECT " + _ACCOUNT + " FROM account WHERE NOT program ORDER BY active DESC, name").fetchall()


def account(db: Db, account_id: UUID) -> Account | None:
    """One account of the workshop."""
    with db.cursor(row_factory=class_row(Account)) as cursor:
        return cursor.execute("SELECT " + _ACCOUNT + " FROM account WHERE id = %s AND NOT program", (account_id,)).fetchone()


def active_leads(db: Db) -> int:
    """How many could still manage the workshop."""
    row = db.execute("SELECT count(*) FROM (SELECT 1 FROM account WHERE role = 'lead' AND active FOR UPDATE) held").fetchone()
    return int(row[0]) if row else 0


def change_account(db: Db, account_id: UUID, name: str, role: str, active: bool) -> None:
    """New name, role or state; whoever is switched off is signed out everywhere."""
    db.execute("UPDATE account SET name = %s, role = %s, active = %s WHERE id = %s", (name, role, active, account_id))
    if not active:
        revoke_sessions(db, account_id)


def set_theme(db: Db, account_id: UUID, theme: str) -> None:
    """The account's theme."""
    db.execute("UPDATE account SET theme = %s WHERE id = %s", (theme, account_id))


def set_password(db: Db, account_id: UUID, password_hash: str) -> None:
    """A new password."""
    db.execute("UPDATE account SET password_hash = %s, password_changed_at = now() WHERE id = %s", (password_hash, account_id))


# -- signing in -----------------------------------------------------------------------------------------


def find_account(db: Db, sign_in: str) -> tuple[UUID, UUID, str, bool] | None:
    """(account, workshop, password hash, active) of a sign-in name, before any workshop is known."""
    row = db.execute("SELECT * FROM find_account(%s)", (sign_in.lower(),)).fetchone()
    return None if row is None else (UUID(str(row[0])), UUID(str(row[1])), str(row[2]), bool(row[3]))


def record_attempt(db: Db, sign_in: str, address: str, succeeded: bool) -> None:
    """Count an attempt to sign in."""
    db.execute(
        "INSERT INTO sign_in_attempt (sign_in, address, succeeded) VALUES (%s, %s, %s)",
        (sign_in.lower()[:80], address[:60], succeeded),
    )


@dataclass(frozen=True)
class Failures:
    """Failed attempts of late, and seconds since the last: with a name from an address, with the name anywhere, from the address."""

    here: int
    here_s: float
    anywhere: int
    anywhere_s: float
    address: int
    address_s: float


def failures(db: Db, sign_in: str, address: str, minutes: int) -> Failures:
    """Failed attempts of late; those with a name are counted since it last succeeded."""
    row = db.execute("SELECT * FROM sign_in_failures(%s, %s, %s)", (sign_in.lower()[:80], address[:60], minutes)).fetchone()
    assert row is not None
    return Failures(*(value or 0 for value in row))


def one_at_a_time(db: Db, sign_in: str) -> None:
    """Until this transaction ends nobody else counts or adds attempts of this name."""
    db.execute("SELECT pg_advisory_xact_lock(hashtextextended(%s, 7))", (sign_in.lower()[:80],))


def is_known_device(db: Db, sign_in: str, token: str) -> bool:
    """True if the account of this name has signed in from the browser that holds this token."""
    row = db.execute("SELECT is_known_device(%s, %s)", (sign_in.lower()[:80], digest(token))).fetchone()
    return row is not None and bool(row[0])


def know_device(db: Db, account_id: UUID, token: str) -> None:
    """Remember a browser from which an account has signed in."""
    db.execute("INSERT INTO device (account_id, token_sha256) VALUES (%s, %s)", (account_id, digest(token)))


def forget_devices(db: Db, account_id: UUID) -> None:
    """No browser is known for this account any more."""
    db.execute("DELETE FROM device WHERE account_id = %s", (account_id,))


def open_session(db: Db, account_id: UUID, token: str, csrf: str, agent: str, address: str, hours: int) -> None:
    """A session that ends by itself after ``hours``."""
    db.execute(
        """
        INSERT INTO session (account_id, token_sha256, csrf, agent, address, expires_at)
        VALUES (%s, %s, %s, %s, %s, now() + make_interval(hours => %s))
        """,
        (account_id, digest(token), csrf, agent[:200], address[:60], hours),
    )


def find_session(db: Db, token: str) -> Session | None:
    """Who holds this token, if it is still good."""
    with db.cursor(row_factory=class_row(Session)) as cursor:
        return cursor.execute("SELECT * FROM find_session(%s)", (digest(token),)).fetchone()


def open_sessions(db: Db, account_id: UUID | None = None) -> list[OpenSession]:
    """Sessions still good: of one account, or of the whole workshop."""
    with db.cursor(row_factory=class_row(OpenSession)) as cursor:
        return cursor.execute(
            """
            SELECT s.id, s.account_id, a.name AS account_name, s.agent, s.address, s.created_at, s.seen_at, s.expires_at
            FROM session s JOIN account a ON a.id = s.account_id
            WHERE s.revoked_at IS NULL AND s.expires_at > now() AND (%(account)s::uuid IS NULL OR s.account_id = %(account)s)
            ORDER BY s.seen_at DESC LIMIT 200
            """,
            {"account": account_id},
        ).fetchall()


def revoke_session(db: Db, session_id: UUID, account_id: UUID | None = None) -> bool:
    """End a session; with an account only if it is that account's own."""
    row = db.execute(
        """
        UPDATE session SET revoked_at = now()
        WHERE id = %(id)s AND revoked_at IS NULL AND (%(account)s::uuid IS NULL OR account_id = %(account)s) RETURNING id
        """,
        {"id": session_id, "account": account_id},
    ).fetchone()
    return row is not None


def revoke_sessions(db: Db, account_id: UUID, but: UUID | None = None) -> None:
    """End all sessions of an account, perhaps but one."""
    db.execute(
        "UPDATE session SET revoked_at = now() WHERE account_id = %s AND revoked_at IS NULL AND id IS DISTINCT FROM %s",
        (account_id, but),
    )


# -- meters ---------------------------------------------------------------------------------------------


def meters(db: Db) -> list[Meter]:
    """Meters in use, by name."""
    with db.cursor(row_factory=class_row(Meter)) as cursor:
        return cursor.execute("SELECT " + _METER + " FROM meter WHERE active ORDER BY name").fetchall()


def meter(db: Db, meter_id: UUID) -> Meter | None:
    """One meter."""
    with db.cursor(row_factory=class_row(Meter)) as cursor:
        return cursor.execute("SELECT " + _METER + " FROM meter WHERE id = %s", (meter_id,)).fetchone()


def add_meter(db: Db, values: dict[str, Any]) -> None:
    """A new meter. A changed one is a new one too: readings keep the accuracy they were taken with."""
    db.execute(
        """
        INSERT INTO meter (name, volts_percent, volts_floor, ohms_percent, ohms_floor)
        VALUES (%(name)s, %(volts_percent)s, %(volts_floor)s, %(ohms_percent)s, %(ohms_floor)s)
        """,
        values,
    )


def retire_meter(db: Db, meter_id: UUID) -> bool:
    """Take a meter out of use."""
    return db.execute("UPDATE meter SET active = false WHERE id = %s AND active RETURNING id", (meter_id,)).fetchone() is not None


# -- share links ----------------------------------------------------------------------------------------


def add_share(db: Db, job_id: UUID, token: str, expires_at: datetime, frozen: str) -> None:
    """A link that shows what is sent with it until it expires."""
    db.execute(
        "INSERT INTO share (job_id, token_sha256, expires_at, frozen) VALUES (%s, %s, %s, %s)",
        (job_id, digest(token), expires_at, frozen),
    )


def frozen_share(db: Db, token: str) -> str | None:
    """What a link of this workshop shows; None if it was made before links kept that."""
    row = db.execute("SELECT frozen FROM share WHERE token_sha256 = %s", (digest(token),)).fetchone()
    return None if row is None else row[0]


def shares(db: Db, job_id: UUID) -> list[Share]:
    """Links of a job, newest first."""
    with db.cursor(row_factory=class_row(Share)) as cursor:
        return cursor.execute(
            """
            SELECT s.id, s.job_id, s.created_at, s.expires_at, s.revoked_at, s.opened, a.name AS by
            FROM share s LEFT JOIN account a ON a.id = s.account_id WHERE s.job_id = %s ORDER BY s.created_at DESC
            """,
            (job_id,),
        ).fetchall()


def revoke_share(db: Db, job_id: UUID, share_id: UUID) -> bool:
    """Make a link open nothing."""
    row = db.execute(
        "UPDATE share SET revoked_at = now() WHERE id = %s AND job_id = %s AND revoked_at IS NULL RETURNING id", (share_id, job_id)
    ).fetchone()
    return row is not None


def find_share(db: Db, token: str) -> tuple[UUID, UUID, datetime] | None:
    """(job, workshop, end) of a link that still opens."""
    row = db.execute("SELECT job_id, workshop_id, expires_at FROM find_share(%s)", (digest(token),)).fetchone()
    return None if row is None else (UUID(str(row[0])), UUID(str(row[1])), row[2])


# -- audit ----------------------------------------------------------------------------------------------


def record(db: Db, action: str, subject: str = "", address: str = "") -> None:
    """Keep that whoever the transaction stands for did something. Evidence names its author by itself and needs no entry here."""
    db.execute("INSERT INTO audit (action, subject, address) VALUES (%s, %s, %s)", (action, subject[:200], address[:60]))


def audit(db: Db, before: int | None, limit: int) -> list[AuditEntry]:
    """Newest first."""
    with db.cursor(row_factory=class_row(AuditEntry)) as cursor:
        return cursor.execute(
            """
            SELECT u.id, u.action, u.subject, u.address, u.at, a.name AS by
            FROM audit u LEFT JOIN account a ON a.id = u.account_id
            WHERE %(before)s::bigint IS NULL OR u.id < %(before)s ORDER BY u.id DESC LIMIT %(limit)s
            """,
            {"before": before, "limit": limit},
        ).fetchall()
