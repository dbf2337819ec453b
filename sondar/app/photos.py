"""Photographs and pages of wiring sheets: checked, turned upright, stripped of where and with what they were taken, with a thumbnail."""

from __future__ import annotations

import hashlib
import io
import threading
import warnings
from typing import Any

import pypdfium2
from PIL import Image, ImageOps, UnidentifiedImageError

from sondar.core.errors import TooLargeError, invalid

MAX_BYTES = 12 * 1024 * 1024
MAX_PIXELS = 50_000_000
THUMBNAIL = (320, 320)
MOST_PAGES = 6
PAGE_PIXELS = 2400
"""Longer side of a page of a PDF as a picture: small print of a wiring sheet can be read when it is enlarged."""
KINDS = {"JPEG": "image/jpeg", "PNG": "image/png", "WEBP": "image/webp"}


ONE_AT_A_TIME = threading.Lock()
"""A large picture takes some hundred megabytes while it is decoded: one at a time in a worker."""


def prepare_photo(_computed: object, raw: bytes) -> dict[str, Any]:
    """Fields of the stored photograph. It is encoded anew from its pixels, so no metadata and no hidden content survive.

    Raises:
        TooLargeError, InvalidError: too large, or not a picture of a known kind.
    """
    if len(raw) > MAX_BYTES:
        raise TooLargeError("Picture too large", f"at most {MAX_BYTES // 1024 // 1024} MB: take it at a lower resolution")
    with ONE_AT_A_TIME:
        return _prepared(raw)


def prepare_sheet(computed: object, raw: bytes) -> list[dict[str, Any]]:
    """Pictures of a wiring sheet: of each page if it is a PDF.

    Raises:
        TooLargeError, InvalidError: too large, too many pages, or neither a picture nor a PDF.
    """
    if not raw.startswith(b"%PDF-"):
        return [prepare_photo(computed, raw)]
    if len(raw) > MAX_BYTES:
        raise TooLargeError("PDF too large", f"at most {MAX_BYTES // 1024 // 1024} MB: take only the pages that are needed")
    with ONE_AT_A_TIME:
        return [_prepared(page) for page in _pages(raw)]


def _pages(raw: bytes) -> list[bytes]:
    """Pages of a PDF as PNG."""
    try:
        document = pypdfium2.PdfDocument(raw)
    except pypdfium2.PdfiumError as error:
        raise invalid("picture", "a PDF that cannot be opened: it is damaged or has a password") from error
    try:
        if len(document) > MOST_PAGES:
            raise invalid("picture", f"{len(document)} pages: at most {MOST_PAGES}; take only those that show this part")
        found = []
        for page in document:
            width, height = page.get_size()
            if not 1.0 <= max(width, height) <= 14400.0 or min(width, height) < 1.0:
                raise invalid("picture", "a page of no sensible size")
            image = page.render(scale=PAGE_PIXELS / max(width, height)).to_pil()
            body = io.BytesIO()
            image.convert("RGB").save(body, "PNG")
            found.append(body.getvalue())
        return found
    except pypdfium2.PdfiumError as error:
        raise invalid("picture", "a PDF with a page that cannot be drawn") from error
    finally:
        document.close()


def _prepared(raw: bytes) -> dict[str, Any]:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            opened = Image.open(io.BytesIO(raw), formats=list(KINDS))
            if opened.width * opened.height > MAX_PIXELS:
                raise TooLargeError("Picture too large", f"at most {MAX_PIXELS // 1_000_000} million pixels")
            kind = str(opened.format)
            upright = ImageOps.exif_transpose(opened)
            upright.load()
    except (
        UnidentifiedImageError,
        OSError,
        ValueError,
        SyntaxError,
        Image.DecompressionBombError,
        Image.DecompressionBombWarning,
    ) as error:
        raise invalid("picture", "not a readable JPEG, PNG or WebP picture") from error
    clean = upright.convert("RGB") if kind == "JPEG" or upright.mode not in ("RGB", "RGBA", "L") else upright
    clean.info.clear()
    body = io.BytesIO()
    clean.save(body, kind, **({"quality": 88} if kind in ("JPEG", "WEBP") else {}))
    small = clean.convert("RGB")
    small.thumbnail(THUMBNAIL)
    thumbnail = io.BytesIO()
    small.save(thumbnail, "JPEG", quality=80)
    return {
        "sha256": hashlib.sha256(body.getvalue()).hexdigest(), "media_type": KINDS[kind], "width": clean.width, "height": clean.height,
        "body": body.getvalue(), "thumbnail": thumbnail.getvalue(),
    }  # fmt: skip
