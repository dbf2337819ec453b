"""The only place where a request's globals are read: who asks, and what the application holds. Routes call it, nothing below them."""

from __future__ import annotations

from flask import current_app, g

from sondar.app.workspace import Workspace
from sondar.store.people import Session
from sondar.web.problems import HttpError
from sondar.web.services import Services


def services() -> Services:
    """The application's services."""
    found: Services = current_app.extensions["sondar"]
    return found


def current() -> Session | None:
    """The signed-in person of this request, None for those who have not signed in."""
    found: Session | None = g.get("session")
    return found


def signed_in() -> Session:
    """The signed-in person of this request.

    Raises:
        HttpError: 401.
    """
    found = current()
    if found is None:
        raise HttpError(401, "Not signed in", "Sign in first.")
    return found


def workspace() -> Workspace:
    """The workshop as this request's person works in it; nobody's if none is signed in."""
    held, person = services(), current()
    return held.workspace(person.workshop_id if person else None, person.account_id if person else None)
