"""The front end's files: those that were built and no others, compressed once."""

from __future__ import annotations

import gzip
import mimetypes
from dataclasses import dataclass, field
from pathlib import Path

from flask import Flask, Response, request

from sondar.core.errors import NotFoundError

FRONTEND = Path(__file__).parent.parent.parent / "frontend" / "dist"
COMPRESSED_FROM = 1024
"""Bytes below which compressing is not worth its header."""
TEXT = (
    "text/",
    "application/json",
    "application/javascript",
    "application/manifest+json",
    "application/problem+json",
    "image/svg+xml",
)


@dataclass
class Pages:
    """Files by their address; the first page for every other address, which is the router's in the browser.

    An address is looked up among the names that are there and never on the disk, so a name of any length or form costs nothing.
    """

    folder: Path
    _packed: dict[str, bytes] = field(default_factory=dict)

    def names(self) -> set[str]:
        """Addresses of all files."""
        return {path.relative_to(self.folder).as_posix() for path in self.folder.rglob("*") if path.is_file()}

    def register(self, app: Flask) -> None:
        """Serve them."""
        names = self.names()

        def page(name: str = "") -> Response:
            if name.startswith("api/"):
                raise NotFoundError("Not found", f"no such address: /{name[:200]}")
            if not names:  # built while this process runs
                names.update(self.names())
            return self.answer(name if name in names else "index.html")

        app.add_url_rule("/", view_func=page)
        app.add_url_rule("/<path:name>", view_func=page)

    def answer(self, name: str) -> Response:
        """One file; what is named by its content may be kept for ever.

        Raises:
            NotFoundError: the front end has not been built.
        """
        try:
            body = (self.folder / name).read_bytes()
        except FileNotFoundError as error:
            raise NotFoundError("Not built", "The front end has not been built: start with ./run demo or ./run start.") from error
        kind = mimetypes.guess_type(name)[0] or "application/octet-stream"
        answer = Response(body, content_type=f"{kind}; charset=utf-8" if kind.startswith("text/") else kind)
        lasting = name.startswith("assets/")
        answer.headers["Cache-Control"] = "public, max-age=31536000, immutable" if lasting else "no-cache"
        answer.add_etag()
        if lasting and wants_compressed() and kind.startswith(TEXT):
            packed = self._packed.setdefault(name, gzip.compress(body, 9))
            answer.set_data(packed)
            answer.headers["Content-Encoding"] = "gzip"
            answer.headers["Vary"] = "Accept-Encoding"
        answer.make_conditional(request)
        return answer


def wants_compressed() -> bool:
    """True if who asks takes gzip."""
    return request.accept_encodings["gzip"] > 0


def compressed(answer: Response) -> Response:
    """An answer of text, compressed if that is worth it and wanted."""
    if (
        answer.direct_passthrough or answer.status_code < 200 or answer.status_code in (204, 304) or "Content-Encoding" in answer.headers
        or not (answer.mimetype or "").startswith(TEXT) or not wants_compressed()
    ):  # fmt: skip
        return answer
    body = answer.get_data()
    if len(body) < COMPRESSED_FROM:
        return answer
    answer.set_data(gzip.compress(body, 5))
    answer.headers["Content-Encoding"] = "gzip"
    answer.headers.add("Vary", "Accept-Encoding")
    return answer
