"""What a table of text seems to be: encoding, delimiter, decimal sign, header lines, units and times, found from its first lines."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from sondar.core.errors import invalid
from sondar.core.recordings.model import Role
from sondar.recording_files.mapping import LONGEST_NAME, MOST_COLUMNS, Column, Mapping, TimeForm

LOOKED_AT_BYTES, LOOKED_AT_LINES, SHOWN_ROWS = 256 * 1024, 400, 12
FEW = 12
"""Different figures among the first rows up to which a column that says it is a command is one that is held in steps."""
POSITIONS = {"on", "off", "open", "closed", "active", "inactive", "0", "1"}
_COMMANDS = re.compile(r"command|duty|target|set\s?point|request|desired|actuat|ansteuer", re.IGNORECASE)
DELIMITERS = "\t;,|"
NAMES = {"\t": "tabs", ";": "semicolons", ",": "commas", "|": "upright strokes", " ": "blanks"}
_NUMBER = re.compile(r"^[-+−]?(\d+([.,]\d*)?|[.,]\d+)([eE][-+]?\d+)?$")
_CLOCK = re.compile(r"^\d{1,2}:\d{2}(:\d{2}([.,]\d+)?)?$")
_DATE = re.compile(r"^\d{1,4}[-./]\d{1,2}[-./]\d{1,4}[ T]\d{1,2}:\d{2}(:\d{2}([.,]\d+)?)?(Z|[+-]\d{2}:?\d{2})?$")
UNIT_IN_NAME = re.compile(r"^(?P<name>.*?)\s*[\[(](?P<unit>[^\])]{1,16})[\])]\s*$")
_TIME_WORDS = re.compile(
    r"^(rel(ative|\.)?\s*)?(time( of .*)?|t|zeit|timestamp|time\s?stamp|seconds|elapsed.*|date.*|clock|x)"
    r"\s*\d*'*(\s*\(?(?P<unit>s|ms|sec|us|µs|min)\)?)?$",
    re.IGNORECASE,
)
_TIME_UNITS: dict[str, TimeForm] = {
    "s": "s",
    "sec": "s",
    "second": "s",
    "seconds": "s",
    "ms": "ms",
    "msec": "ms",
    "us": "us",
    "µs": "us",
    "min": "min",
}
_UNITS = re.compile(
    r"^\[?\(?(m|k|µ|u|M|h|d)?(V|A|Ω|Ohm|ohm|W|Hz|Pa|s|sec|g|N|m|K|l)\)?\]?$|^\[?\(?(mbar|bar|psi|inHg|inH2O|mmHg|°C|degC|deg|°|%|"
    r"rpm|1/min|/min|U/min|kg/h|g/s|g/h|mg/stroke|km/h|mph|km|lambda|bit|"
    r"counts?|Nm|l/h|V/s|-|none|n\.?a\.?|)\)?\]?$"
)


@dataclass(frozen=True)
class Understood:
    """What a table seems to be, for a person to look at.

    Attributes:
        rows: its first rows of figures as they stand. doubts: what may have been understood wrongly.
    """

    mapping: Mapping
    rows: tuple[tuple[str, ...], ...]
    doubts: tuple[str, ...]


def understand(head: bytes) -> Understood:
    """What a table seems to be, from its first bytes.

    Raises:
        InvalidError: it is no table of text, or no line of it holds figures.
    """
    head = head[:LOOKED_AT_BYTES]
    encoding = _encoding(head)
    lines = head.decode(encoding, "replace").lstrip("\ufeff").splitlines()[:LOOKED_AT_LINES]
    if not any(line.strip() for line in lines):
        raise invalid("file", "it is empty")
    if sum(line.count("\0") for line in lines) or "�" in "".join(lines[:5]):
        raise invalid("file", "it is no table of text: a file with one row of figures per moment is wanted (CSV, TSV), or MDF 4")
    delimiter, decimal, first = _dialect(lines)
    rows = [split(line, delimiter) for line in lines[first:] if line.strip()]
    width = Counter(len(row) for row in rows).most_common(1)[0][0]
    if width > MOST_COLUMNS:
        raise invalid("file", f"it has {width} columns; at most {MOST_COLUMNS} are read")
    names, units = _names(lines[:first], delimiter, width)
    kept = [row for row in rows if len(row) == width][:100]
    columns = _columns(names, units, kept, decimal)
    doubts = []
    ragged = sum(len(row) != width for row in rows)
    if ragged:
        doubts.append(f"{ragged} of the first {len(rows)} rows have another number of columns than the rest")
    rate = 0.0
    if not any(column.kind == "time" for column in columns):
        doubts.append("no column looks like a time: say which it is, or how many samples a second were taken")
        rate = 10.0
    if not any(names):
        doubts.append("no line names the columns")
    return Understood(
        Mapping(encoding, delimiter, decimal, first, tuple(columns), rate),
        tuple(tuple(r) for r in kept[:SHOWN_ROWS]),
        tuple(doubts),
    )


def split(line: str, delimiter: str) -> list[str]:
    """Cells of a line; a delimiter within quotation marks divides nothing."""
    if delimiter == " ":
        return line.split()
    if '"' not in line:
        return [cell.strip() for cell in line.split(delimiter)]
    cells, inside = list[str](), False
    current: list[str] = []
    for sign in line:
        if sign == '"':
            inside = not inside
        elif sign == delimiter and not inside:
            cells.append("".join(current).strip())
            current = []
        else:
            current.append(sign)
    return [*cells, "".join(current).strip()]


def _encoding(head: bytes) -> str:
    if head[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    try:
        head[: len(head) - 4 if len(head) >= LOOKED_AT_BYTES else None].decode("utf-8")
        return "utf-8"
    except UnicodeDecodeError:
        return "cp1252"


def _figures(cells: Sequence[str], decimal: str) -> int:
    """Cells that are figures or times, where the other sign does not stand in one of them."""
    other = "." if decimal == "," else ","
    return sum((bool(_NUMBER.match(c)) and other not in c) or bool(_CLOCK.match(c)) or bool(_DATE.match(c)) for c in cells)


def _dialect(lines: Sequence[str]) -> tuple[str, str, int]:
    """Delimiter, decimal sign, and the first of the lines from which on rows are figures."""
    best: tuple[float, str, str, int] = (0.0, "", "", 0)
    for delimiter in (*DELIMITERS, " "):
        for decimal in ".,":
            if delimiter == decimal:
                continue
            split_lines = [split(line, delimiter) for line in lines]
            counts = [_figures(cells, decimal) for cells in split_lines]
            first = next(
                (i for i, n in enumerate(counts) if n and 2 * n >= len([c for c in split_lines[i] if c]) and _goes_on(counts, i)),
                None,
            )
            if first is None:
                continue
            body = [n for n, cells in zip(counts[first:], split_lines[first:], strict=True) if any(cells)]
            whole = [len(c) for c in split_lines[first:] if any(c)]
            # As many figures as possible in rows of one width; a lone column is what any wrong delimiter gives.
            same = Counter(whole).most_common(1)[0][1] / len(whole)
            score = sum(body) / len(body) * same * (1.0 if max(whole) > 1 else 0.5) * (sum(body) / max(1, sum(whole)))
            if score > best[0] + 1e-9:
                best = (score, delimiter, decimal, first)
    if not best[1]:
        raise invalid("file", "no line of its beginning holds figures: a table with one row per moment is wanted")
    return best[1], best[2], best[3]


def _goes_on(counts: Sequence[int], at: int) -> bool:
    following = counts[at : at + 5]
    return (
        sum(n >= 0.5 * counts[at] for n in following) >= min(3, len(following))
        and sum(n > 0 for n in following) >= len(following) - 1
    )


def _names(head: Sequence[str], delimiter: str, width: int) -> tuple[list[str], list[str]]:
    """Names and units of the columns, from the lines before the figures."""
    rows = [split(line.lstrip("#%/ "), delimiter) for line in head]
    fitting = [row for row in rows if len(row) == width and any(row)] if width > 1 else [row for row in rows[-2:] if any(row)]
    units = [""] * width
    if len(fitting) >= 2 and all(_UNITS.match(cell) for cell in fitting[-1]):
        units = [_bare(cell) for cell in fitting.pop()]
    names = fitting[-1] if fitting else [""] * width
    for index, name in enumerate(names):
        found = UNIT_IN_NAME.match(name)
        if found and not units[index]:
            names[index], units[index] = found["name"], _bare(found["unit"])
    return [name[:LONGEST_NAME] for name in names], units


def _bare(unit: str) -> str:
    found = unit.strip("[]() ")
    return "" if found.lower() in ("-", "none", "n.a.", "na", "n.a") else found


def _columns(names: Sequence[str], units: Sequence[str], rows: Sequence[Sequence[str]], decimal: str) -> list[Column]:
    found, used = [], set[str]()
    for at, (name, unit) in enumerate(zip(names, units, strict=True)):
        cells = [row[at] for row in rows if row[at]]
        label = name or f"Column {at + 1}"
        while label in used:
            label += " again"
        used.add(label)
        figures = sum(bool(_NUMBER.match(cell)) for cell in cells)
        if cells and all(_CLOCK.match(cell) for cell in cells):
            found.append(Column(at, label, "", "time", time_form="clock"))
        elif cells and all(_DATE.match(cell) for cell in cells):
            found.append(Column(at, label, "", "time", time_form="date"))
        elif figures >= 0.8 * len(cells) and cells:
            form = _time_form(name, unit, cells, decimal, at)
            role: Role = "command" if _COMMANDS.search(label) and len(set(cells)) <= FEW else "signal"
            found.append(Column(at, label, unit, "time", time_form=form) if form else Column(at, label, unit, role=role))
        else:
            commands = _COMMANDS.search(label) or {cell.lower() for cell in cells} <= POSITIONS
            found.append(Column(at, label, unit, "words" if cells else "left out", "command" if commands and cells else "signal"))
    return found


def _time_form(name: str, unit: str, cells: Sequence[str], decimal: str, at: int) -> TimeForm | None:
    """The unit of a column of times; None if it is none."""
    figures = [float(c.replace("−", "-").replace(decimal, ".")) for c in cells if _NUMBER.match(c)]
    falls = sum(b < a for a, b in pairwise(figures))
    words = _TIME_WORDS.match(name.strip())
    if falls > (0.2 * len(figures) if words else 0):
        return None
    if words and (at == 0 or len(words[3]) > 1):
        return _TIME_UNITS.get((unit or words["unit"] or "s").lower(), "s")
    if len(figures) < 3 or figures[-1] == figures[0]:
        return None
    return _TIME_UNITS.get(unit.lower()) if at == 0 and unit else None
