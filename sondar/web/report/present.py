"""A report as a page and as PDF, made in a worker.

The PDF is PDF/A-2b as WeasyPrint writes it (ISO 19005-2: fonts embedded, output intent sRGB, XMP metadata); no certified validator has seen it.
"""

from __future__ import annotations

from datetime import date, datetime, timedelta
from functools import lru_cache
from pathlib import Path
from urllib.parse import unquote

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from markupsafe import Markup

from sondar.app.reporting import Report
from sondar.web.pages import FRONTEND

HERE, ASSETS = Path(__file__).parent, FRONTEND / "assets"
PICTURE = "data:image/jpeg;base64,"
SUBSETS = {"latin": "Report Latin", "latin-ext": "Report Latin extended"}
"""Parts of the shipped font, by the name of their file; each is a family of its own, so that a character is looked for in all."""


def day(when: date | datetime) -> str:
    """A day as people write it."""
    return f"{when.day} {when:%B %Y}"


@lru_cache(maxsize=8)
def pages(folder: Path) -> Environment:
    """Templates of a folder, escaped as HTML; a name that is not given is an error."""
    found = Environment(
        loader=FileSystemLoader(folder), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    found.globals["day"] = day
    return found


def font_faces() -> tuple[str, str]:
    """Rules for the shipped font's files, and the families to use; nothing where the front end has not been built."""
    faces, families = [], []
    for subset, family in SUBSETS.items():
        file = next(iter(sorted(ASSETS.glob(f"archivo-{subset}-standard-normal-*.woff2"))), None)
        if file is not None:
            faces.append(f'@font-face {{ font-family: "{family}"; src: url("{file.resolve().as_uri()}"); }}')
            families.append(f'"{family}"')
    return "\n".join(faces), ", ".join(families) or '"DejaVu Sans"'


def customer_page(found: Report) -> bytes:
    """For somebody who owns the vehicle, as a page."""
    return _html(found, colleague=False).encode()


def colleague_page(found: Report) -> bytes:
    """For somebody who wants to check it, as a page."""
    return _html(found, colleague=True).encode()


def customer_pdf(found: Report) -> bytes:
    """For somebody who owns the vehicle, as PDF."""
    return as_pdf(_html(found, colleague=False, printed=True))


def colleague_pdf(found: Report) -> bytes:
    """For somebody who wants to check it, as PDF."""
    return as_pdf(_html(found, colleague=True, printed=True))


VIEWS = {
    ("customer", "html"): customer_page,
    ("customer", "pdf"): customer_pdf,
    ("colleague", "html"): colleague_page,
    ("colleague", "pdf"): colleague_pdf,
}


def _html(found: Report, *, colleague: bool, printed: bool = False) -> str:
    faces, fonts = font_faces() if printed else ("", '"Archivo Variable"')
    return pages(HERE).get_template("report.html").render(r=found, colleague=colleague, faces=Markup(faces), fonts=Markup(fonts))


def as_pdf(html: str) -> bytes:
    """A page as PDF/A-2b."""
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher

    class OwnFont(URLFetcher):  # type: ignore[misc]
        """Fetches the shipped font and nothing else: no text of a job can make a report fetch anything. Pictures stand in the page."""

        def fetch(self, url: str, headers: object = None) -> object:
            if url.startswith(PICTURE):
                return super().fetch(url, headers)
            if not url.startswith("file://") or Path(unquote(url.removeprefix("file://"))).resolve().parent != ASSETS.resolve():
                raise ValueError(f"a report loads nothing but its font, not {url[:80]}")
            return super().fetch(url, headers)

    made = HTML(string=html, url_fetcher=OwnFont()).write_pdf(pdf_variant="pdf/a-2b")
    assert made is not None
    return bytes(made)


def calendar(found: Report, address: str) -> str:
    """The day of the follow-up as an iCalendar file (RFC 5545); lines are folded at 75 bytes."""
    assert found.follow_up is not None
    after = found.follow_up + timedelta(days=1)
    lines = [
        "BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Sondar//follow-up//EN", "BEGIN:VEVENT", f"UID:job-{found.number}@{_plain(address)}",
        f"DTSTAMP:{found.made:%Y%m%dT%H%M%SZ}", f"DTSTART;VALUE=DATE:{found.follow_up:%Y%m%d}", f"DTEND;VALUE=DATE:{after:%Y%m%d}",
        f"SUMMARY:{_plain(f'Ask after {found.plate or found.vehicle}: is it still in order?')}",
        f"DESCRIPTION:{_plain(f'Job {found.number}, {found.vehicle}. {found.complaint}')}", "TRANSP:TRANSPARENT", "END:VEVENT", "END:VCALENDAR",
    ]  # fmt: skip
    return "".join(f"{_folded(line)}\r\n" for line in lines)


def _plain(text: str) -> str:
    """Text with the characters escaped that mean something in a calendar."""
    for mark, instead in (("\\", "\\\\"), (";", "\\;"), (",", "\\,"), ("\r", ""), ("\n", "\\n")):
        text = text.replace(mark, instead)
    return text


def _folded(line: str) -> str:
    pieces: list[str] = []
    piece = ""
    for character in line:
        if len((piece + character).encode()) > (75 if not pieces else 74):
            pieces.append(piece)
            piece = ""
        piece += character
    return "\r\n ".join([*pieces, piece])
