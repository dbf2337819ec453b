"""Whether there is room left for what takes much of it: photographs and recordings, each with a limit per workshop."""

from __future__ import annotations

from sondar.core.errors import TooLargeError
from sondar.store import keeping, people
from sondar.store.database import Db


def room_for_photographs(db: Db, more: int) -> None:
    """Nothing if there is room for so many bytes of photographs.

    Raises:
        TooLargeError: the workshop's room is full.
    """
    _check("photographs", "raise that or erase old jobs", people.workshop(db).photo_quota_mb, keeping.photo_bytes(db) + more)


def room_for_recordings(db: Db, more: int = 0) -> None:
    """Nothing if there is room for so many bytes of recordings.

    Raises:
        TooLargeError: the workshop's room is full.
    """
    _check("recordings", "raise that", people.workshop(db).recording_quota_mb, keeping.recording_bytes(db) + more)


def _check(what: str, way_out: str, quota_mb: int, wanted_bytes: int) -> None:
    if wanted_bytes > quota_mb * 1_000_000:
        detail = f"The {quota_mb} MB for this workshop's {what} are full. A workshop lead can {way_out} under settings."
        raise TooLargeError(f"No room for {what}", detail)
