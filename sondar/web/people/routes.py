"""First set-up, signing in and out, accounts, settings, meters, sessions, audit."""

from __future__ import annotations

import os
import secrets
from typing import Any

from flask import Response, jsonify, request
from flask_openapi3 import APIBlueprint, Tag

from sondar.core.errors import ConflictError, FieldProblem, NotFoundError, invalid
from sondar.core.former_names import current_id
from sondar.core.instruments import INSTRUMENTS, OTHER_TOOLS
from sondar.store import keeping
from sondar.store import people as store
from sondar.store.database import Db, act_for, borrowed
from sondar.web import auth
from sondar.web.common import MeterView
from sondar.web.context import current, services, signed_in, workspace
from sondar.web.people.models import (
    AccountChange,
    AccountIn,
    AccountList,
    AccountPath,
    AccountView,
    AuditEntryView,
    AuditList,
    AuditQuery,
    FirstWorkshop,
    Me,
    MeterIn,
    MeterList,
    MeterPath,
    NewPassword,
    PasswordChange,
    SessionList,
    SessionPath,
    SessionView,
    SetupState,
    SignIn,
    Storage,
    ThemeIn,
    WorkshopIn,
    WorkshopView,
)
from sondar.web.problems import HttpError, ProblemDetails

api = APIBlueprint(
    "people", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="people")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails, "429": ProblemDetails},
)  # fmt: skip


def _address() -> str:
    return request.remote_addr or ""


def _me(db: Db, person: store.Session | None) -> dict[str, Any]:
    if person is None:
        return Me(signed_in=False).model_dump(mode="json")
    shop = WorkshopView.model_validate(store.workshop(db).__dict__)
    return Me(
        signed_in=True, account_id=person.account_id, session_id=person.session_id, name=person.name, sign_in=person.sign_in,
        role=person.role, theme=person.theme, csrf=person.csrf, workshop=shop,  # type: ignore[arg-type]
    ).model_dump(mode="json")  # fmt: skip


def _begin_session(db: Db, account_id: Any) -> Response:
    """Open a session and answer with it."""
    token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
    store.open_session(db, account_id, token, csrf, request.headers.get("User-Agent", ""), _address(), auth.SESSION_HOURS)
    response = jsonify(_me(db, store.find_session(db, token)))
    auth.set_cookie(response, token)
    return response


# -- first set-up ---------------------------------------------------------------------------------------


@api.get("/setup", responses={"200": SetupState})
def setup_state() -> Any:
    """Whether the first workshop still has to be set up."""
    with borrowed(services().pool) as db:
        return SetupState(needed=not store.any_workshop(db)).model_dump()


@api.post("/setup", responses={"201": Me, "409": ProblemDetails})
def set_up(body: FirstWorkshop) -> Any:
    """The first workshop and its workshop lead, once, with the code that the start command printed."""
    with borrowed(services().pool) as db:
        if store.any_workshop(db):
            raise ConflictError("Already set up", "There is a workshop already: sign in, or ask its workshop lead for an account.")
    wanted = os.environ.get("SONDAR_SETUP_CODE", "")
    _count_attempt("first-setup")
    if not wanted or not secrets.compare_digest(body.code.strip().encode(), wanted.encode()):
        raise invalid("code", "not the code that was printed when Sondar started")
    password_hash = auth.hash_password(body.password)
    with borrowed(services().pool) as db:
        store.one_at_a_time(db, "first-setup")
        if store.any_workshop(db):
            raise ConflictError("Already set up", "There is a workshop already: sign in, or ask its workshop lead for an account.")
        store.record_attempt(db, "first-setup", _address(), True)
        workshop_id = store.create_workshop(db, body.workshop, alone=body.alone)
        account_id = store.create_account(db, body.sign_in, body.name, "lead", password_hash)
        assert account_id is not None
        act_for(db, workshop_id, account_id)
        store.record(db, "workshop set up", body.workshop, _address())
        response = _begin_session(db, account_id)
    response.status_code = 201
    return response


# -- session --------------------------------------------------------------------------------------------


@api.get("/session", responses={"200": Me})
def show_session() -> Any:
    """Who is signed in, and the token to write with."""
    with workspace().transaction() as db:
        return _me(db, current())


def _count_attempt(name: str) -> None:
    """Count an attempt before it is checked, so that many at once are not all checked.

    Raises:
        HttpError: 429, it comes too soon after the last.
    """
    device = request.cookies.get(auth.device_name(), "")
    with borrowed(services().pool) as db:
        store.one_at_a_time(db, name)
        known = bool(device) and store.is_known_device(db, name, device)
        wait = auth.delay_s(store.failures(db, name, _address(), auth.COUNTED_MINUTES), known_device=known)
        if wait > 0.0:
            left = f"{wait:.0f} seconds" if wait < 100.0 else f"{wait / 60.0:.0f} minutes"
            detail = f"Too many wrong passwords. Wait {left}, or ask your workshop lead for a new password."
            raise HttpError(429, "Too many attempts", detail, retry_after_s=max(1, round(wait)))
        store.record_attempt(db, name, _address(), False)


@api.post("/session", responses={"200": Me})
def sign_in(body: SignIn) -> Any:
    """Sign in. Wrong passwords are slowed down; the answer does not tell a wrong name from a wrong password."""
    name = body.sign_in.strip()
    _count_attempt(name)
    with borrowed(services().pool) as db:
        found = store.find_account(db, name)
    right = auth.fits(found[2] if found else None, body.password)  # takes a while: no connection is held
    with borrowed(services().pool) as db:
        if not right or found is None or not found[3]:
            if found is not None:
                act_for(db, found[1], found[0])
                store.record(db, "sign-in refused", name, _address())
            db.commit()
            raise HttpError(401, "Not signed in", "Name or password is not right.")
        store.record_attempt(db, name, _address(), True)
        before = current()
        if before is not None:  # this browser's session ends with the new one
            act_for(db, before.workshop_id, before.account_id)
            store.revoke_session(db, before.session_id)
        act_for(db, found[1], found[0])
        store.record(db, "signed in", name, _address())
        response = _begin_session(db, found[0])
        device = request.cookies.get(auth.device_name(), "")
        if not device or not store.is_known_device(db, name, device):
            token = secrets.token_urlsafe(32)
            store.know_device(db, found[0], token)
            auth.set_device_cookie(response, token)
        return response


@api.delete("/session", responses={"200": Me})
def sign_out() -> Any:
    """End this session."""
    person = signed_in()
    with workspace().transaction() as db:
        store.revoke_session(db, person.session_id)
        store.record(db, "signed out", person.sign_in, _address())
    response = jsonify(Me(signed_in=False).model_dump(mode="json"))
    response.delete_cookie(auth.cookie_name(), path="/", secure=auth.secure_cookies(), httponly=True, samesite="Strict")
    return response


# -- the own account ------------------------------------------------------------------------------------


@api.put("/me/password", responses={"200": Me})
def change_own_password(body: PasswordChange) -> Any:
    """A new password; every other session of the account ends."""
    person = signed_in()
    _count_attempt(person.sign_in)
    with borrowed(services().pool) as db:
        found = store.find_account(db, person.sign_in)
    if not auth.fits(found[2] if found else None, body.old):
        raise invalid("old", "not your password now")
    hashed = auth.hash_password(body.new, "new")
    with workspace().transaction() as db:
        store.record_attempt(db, person.sign_in, _address(), True)
        store.set_password(db, person.account_id, hashed)
        store.revoke_sessions(db, person.account_id, person.session_id)
        store.record(db, "password changed", person.sign_in, _address())
        return _me(db, person)


@api.put("/me/theme", responses={"200": Me})
def change_theme(body: ThemeIn) -> Any:
    """Light, dark, or as the device."""
    person = signed_in()
    with workspace().transaction() as db:
        store.set_theme(db, person.account_id, body.theme)
        return {**_me(db, person), "theme": body.theme}


def _sessions(db: Db, account_id: Any) -> dict[str, Any]:
    mine = signed_in().session_id
    found = [SessionView.model_validate({**s.__dict__, "this_one": s.id == mine}) for s in store.open_sessions(db, account_id)]
    return SessionList(sessions=found).model_dump(mode="json")


@api.get("/me/sessions", responses={"200": SessionList})
def own_sessions() -> Any:
    """Where the own account is signed in."""
    with workspace().transaction() as db:
        return _sessions(db, signed_in().account_id)


@api.delete("/me/sessions/<uuid:session_id>", responses={"200": SessionList})
def end_own_session(path: SessionPath) -> Any:
    """Sign out elsewhere."""
    with workspace().transaction() as db:
        if not store.revoke_session(db, path.session_id, signed_in().account_id):
            raise NotFoundError("No such session", "no session of yours has this id, or it has ended")
        store.record(db, "session ended", str(path.session_id), _address())
        return _sessions(db, signed_in().account_id)


@api.get("/workshop/sessions", responses={"200": SessionList})
def all_sessions() -> Any:
    """Where everyone of the workshop is signed in."""
    with workspace().transaction() as db:
        return _sessions(db, None)


@api.delete("/workshop/sessions/<uuid:session_id>", responses={"200": SessionList})
def end_any_session(path: SessionPath) -> Any:
    """End anyone's session, for a lost tablet."""
    with workspace().transaction() as db:
        if not store.revoke_session(db, path.session_id):
            raise NotFoundError("No such session", "no session of this workshop has this id, or it has ended")
        store.record(db, "session ended", str(path.session_id), _address())
        return _sessions(db, None)


# -- workshop, people, meters ---------------------------------------------------------------------------


@api.put("/workshop", responses={"200": WorkshopView, "409": ProblemDetails})
def change_workshop(body: WorkshopIn) -> Any:
    """New settings, unless someone else changed them meanwhile."""
    tools = [current_id(tool) for tool in body.tools]
    unknown = [tool for tool in tools if tool not in INSTRUMENTS and tool not in OTHER_TOOLS]
    if unknown:
        raise invalid("tools", f"no instrument '{unknown[0]}'; there are {', '.join((*INSTRUMENTS, *OTHER_TOOLS))}")
    with workspace().transaction() as db:
        changed = store.change_workshop(db, body.version, {**body.model_dump(exclude={"version"}), "tools": tools})
        current = WorkshopView.model_validate(store.workshop(db).__dict__)
        if not changed:
            raise ConflictError("Changed by someone else", "Someone changed the settings meanwhile: look at theirs, then save again.",
                current=current.model_dump(mode="json"),
            )  # fmt: skip
        store.record(db, "settings changed", body.name, _address())
    return current.model_dump(mode="json")


@api.get("/workshop/storage", responses={"200": Storage})
def show_storage() -> Any:
    """Room that this workshop's photographs and recordings take."""
    with workspace().transaction() as db:
        shop = store.workshop(db)
        return Storage(
            photo_mb=keeping.photo_bytes(db) / 1e6, photo_quota_mb=shop.photo_quota_mb,
            recording_mb=keeping.recording_bytes(db) / 1e6, recording_quota_mb=shop.recording_quota_mb,
        ).model_dump()  # fmt: skip


def _accounts(db: Db) -> dict[str, Any]:
    return AccountList(accounts=[AccountView.model_validate(a.__dict__) for a in store.accounts(db)]).model_dump(mode="json")


@api.get("/accounts", responses={"200": AccountList})
def list_accounts() -> Any:
    """Everyone of the workshop."""
    with workspace().transaction() as db:
        return _accounts(db)


@api.post("/accounts", responses={"201": AccountList, "409": ProblemDetails})
def add_account(body: AccountIn) -> Any:
    """A new account."""
    password_hash = auth.hash_password(body.password)
    with workspace().transaction() as db:
        if store.create_account(db, body.sign_in, body.name, body.role, password_hash) is None:
            raise ConflictError(
                "Name taken", "sign_in: this name is taken: choose another", [FieldProblem(("sign_in",), "choose another name")]
            )
        store.record(db, "account made", f"{body.sign_in} ({body.role})", _address())
        return _accounts(db), 201


def _known_account(db: Db, path: AccountPath) -> store.Account:
    found = store.account(db, path.account_id)
    if found is None:
        raise NotFoundError("No such account", f"no account {path.account_id} in this workshop")
    return found


@api.put("/accounts/<uuid:account_id>", responses={"200": AccountList, "409": ProblemDetails})
def change_account(path: AccountPath, body: AccountChange) -> Any:
    """New name, role or state. The last active workshop lead stays one."""
    with workspace().transaction() as db:
        found = _known_account(db, path)
        loses_lead = found.role == "lead" and found.active and (body.role != "lead" or not body.active)
        if loses_lead and store.active_leads(db) <= 1:
            raise ConflictError("The last workshop lead", "This is the last workshop lead: make someone else one first.")
        store.change_account(db, path.account_id, body.name, body.role, body.active)
        store.record(db, "account changed", f"{found.sign_in}: {body.role}{'' if body.active else ', off'}", _address())
        return _accounts(db)


@api.put("/accounts/<uuid:account_id>/password", responses={"200": AccountList})
def reset_password(path: AccountPath, body: NewPassword) -> Any:
    """A new password for someone; signs them out everywhere and unlocks the name."""
    hashed = auth.hash_password(body.password)
    with workspace().transaction() as db:
        found = _known_account(db, path)
        store.set_password(db, path.account_id, hashed)
        store.revoke_sessions(db, path.account_id)
        store.forget_devices(db, path.account_id)
        store.record_attempt(db, found.sign_in, "", True)
        store.record(db, "password reset", found.sign_in, _address())
        return _accounts(db)


def _meters(db: Db) -> dict[str, Any]:
    return MeterList(meters=[MeterView.model_validate(m.__dict__) for m in store.meters(db)]).model_dump(mode="json")


@api.get("/meters", responses={"200": MeterList})
def list_meters() -> Any:
    """The workshop's meters."""
    with workspace().transaction() as db:
        return _meters(db)


@api.post("/meters", responses={"201": MeterList})
def add_meter(body: MeterIn) -> Any:
    """A meter with its accuracy."""
    with workspace().transaction() as db:
        store.add_meter(db, body.model_dump())
        store.record(db, "meter added", body.name, _address())
        return _meters(db), 201


@api.delete("/meters/<uuid:meter_id>", responses={"200": MeterList})
def retire_meter(path: MeterPath) -> Any:
    """Take a meter out of use; its readings keep its accuracy."""
    with workspace().transaction() as db:
        if not store.retire_meter(db, path.meter_id):
            raise NotFoundError("No such meter", f"no meter {path.meter_id} in use")
        store.record(db, "meter retired", str(path.meter_id), _address())
        return _meters(db)


@api.get("/audit", responses={"200": AuditList})
def show_audit(query: AuditQuery) -> Any:
    """Who did what, newest first. Evidence carries its author itself."""
    with workspace().transaction() as db:
        found = [AuditEntryView.model_validate(e.__dict__) for e in store.audit(db, query.before, query.limit)]
    return AuditList(entries=found).model_dump(mode="json")
