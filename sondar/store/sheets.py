"""Pictures of wiring sheets; the sheet of a circuit names those that belong to it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any
from uuid import UUID

from psycopg import sql

from sondar.store.database import Db


def add_pictures(db: Db, client_key: UUID, name: str, pages: Sequence[Mapping[str, Any]]) -> list[UUID]:
    """Keep the pages of a sheet, already checked and stripped; the same key again keeps nothing twice. Ids in the order of the pages."""
    for number, page in enumerate(pages, start=1):
        db.execute(
            """
            INSERT INTO sheet_picture (client_key, page, name, sha256, media_type, width, height, body, thumbnail)
            VALUES (%(key)s, %(page)s, %(name)s, %(sha256)s, %(media_type)s, %(width)s, %(height)s, %(body)s, %(thumbnail)s)
            ON CONFLICT DO NOTHING
            """,
            {**page, "key": client_key, "page": number, "name": name},
        )
    rows = db.execute("SELECT id FROM sheet_picture WHERE client_key = %s ORDER BY page", (client_key,)).fetchall()
    return [UUID(str(row[0])) for row in rows]


def picture(db: Db, picture_id: UUID, thumbnail: bool) -> tuple[bytes, str] | None:
    """(bytes, media type) of a page; thumbnails are JPEG."""
    column = sql.Identifier("thumbnail" if thumbnail else "body")
    row = db.execute(sql.SQL("SELECT {}, media_type FROM sheet_picture WHERE id = %s").format(column), (picture_id,)).fetchone()
    return None if row is None else (bytes(row[0]), "image/jpeg" if thumbnail else str(row[1]))
