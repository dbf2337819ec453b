"""Pin tables: one line per cavity, as spreadsheets (CSV) and WireViz files have them.

A WireViz file (https://github.com/wireviz/WireViz, ``docs/syntax.md``) lists connectors, cables and which pin goes to which wire to which pin;
what it says of looks, parts lists and shields is not needed here and is said to be left out.
"""

from __future__ import annotations

import csv
import math
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sondar.core.colours import colour_of
from sondar.core.errors import FieldProblem, InvalidError

FIELDS = ("connector", "cavity", "wire", "colour", "mm2", "from", "to")
"""Columns of a pin table."""
HEADERS = {
    "connector": ("connector", "plug", "x", "conn", "housing", "stecker"),
    "cavity": ("cavity", "pin", "pin no", "pin number", "cav", "terminal", "position", "no", "contact"),
    "wire": ("wire", "circuit", "wire no", "wire number", "net", "name", "leitung"),
    "colour": ("colour", "color", "col", "wire colour", "wire color", "farbe"),
    "mm2": ("mm2", "mm²", "gauge", "size", "cross-section", "cross section", "csa", "wire size", "awg"),
    "from": ("from", "source", "start"),
    "to": ("to", "goes to", "destination", "target", "end", "leads to"),
}
DELIMITERS = (";", "\t", ",", "|")
MOST_LINES, MOST_TEXT = 600, 80

SEQUENCES = {
    "DIN": (
        "WH",
        "BN",
        "GN",
        "YE",
        "GY",
        "PK",
        "BU",
        "RD",
        "BK",
        "VT",
        "GY/PK",
        "RD/BU",
        "WH/GN",
        "BN/GN",
        "WH/YE",
        "YE/BN",
        "WH/GY",
        "GY/BN",
    ),
    "IEC": ("BN", "RD", "OG", "YE", "GN", "BU", "VT", "GY", "WH", "BK"),
    "BW": ("BK", "WH"),
}
"""Colours of a cable's wires in order: DIN 47100, IEC 60757, and two wires black and white."""


@dataclass(frozen=True)
class PinRow:
    """One cavity.

    Attributes:
        end: what is at the other end of its wire, as the table says it; empty if it does not. line: of the file, from 1.
    """

    connector: str
    cavity: str
    wire: str = ""
    colour: str = ""
    mm2: float | None = None
    end: str = ""
    line: int = 0


@dataclass(frozen=True)
class PinTable:
    """A file as it was understood.

    Attributes:
        form: how it was read, in words. columns: (heading, field or empty) of a spreadsheet.
        notes: (line, what) of everything that was not used or is doubtful.
    """

    form: str
    rows: tuple[PinRow, ...]
    columns: tuple[tuple[str, str], ...] = ()
    notes: tuple[tuple[int, str], ...] = ()

    @property
    def connectors(self) -> list[str]:
        """Connectors by how many rows they have, most first."""
        names = [row.connector for row in self.rows]
        return sorted(dict.fromkeys(names), key=lambda name: -names.count(name))


def read_csv(text: str, fields: Sequence[str] = ()) -> PinTable:
    """A spreadsheet of pins.

    Args:
        fields: what each column is, in place of what its heading says; empty for a column that is not used.

    Raises:
        InvalidError: no column is a cavity, a quotation mark is left open, or there are too many lines; names the line.
    """
    lines = [line for line in text.splitlines() if line.strip()]
    if not lines:
        raise _wrong(1, "the table is empty")
    if len(lines) > MOST_LINES:
        raise _wrong(MOST_LINES, f"more than {MOST_LINES} lines: divide the table")
    delimiter = max(DELIMITERS, key=lambda mark: (min(line.count(mark) for line in lines[:5]), lines[0].count(mark)))
    try:
        cells = list(csv.reader(lines, delimiter=delimiter, strict=True))
    except csv.Error as error:
        raise _wrong(len(lines), f"not a table: {error}") from error
    heading = [_plain(cell) for cell in cells[0]]
    meant = [next((field for field, words in HEADERS.items() if cell in words), "") for cell in heading]
    has_heading = any(meant)
    chosen = list(fields) if fields else meant if has_heading else _guessed(cells)
    chosen = [field if field in FIELDS and field not in chosen[:index] else "" for index, field in enumerate(chosen)]
    if "cavity" not in chosen:
        raise _wrong(1, f"no column is the cavity: name the columns in the first line, such as {', '.join(FIELDS)}")
    rows, notes = [], []
    for number, row in enumerate(cells[1 if has_heading else 0 :], start=2 if has_heading else 1):
        values = {field: cell.strip()[:MOST_TEXT] for field, cell in zip(chosen, row, strict=False) if field}
        made, said = _row(values, number)
        notes += [(number, one) for one in said]
        if made is not None:
            rows.append(made)
    names = [cell.strip()[:MOST_TEXT] for cell in cells[0]] if has_heading else [f"column {n + 1}" for n in range(len(cells[0]))]
    columns = tuple((name, field) for name, field in zip(names, chosen + [""] * len(names), strict=False))
    notes += [(1, f"column '{name}' was not used") for name, field in columns if not field]
    form = {"\t": "tabs", ";": "semicolons", ",": "commas", "|": "bars"}[delimiter]
    return PinTable(f"a table with {form}, {len(rows)} cavities", _with_ends(rows), columns, tuple(notes))


def _guessed(cells: Sequence[Sequence[str]]) -> list[str]:
    """Columns of a table without headings: short and different values are cavities, colours are colours."""
    found: list[str] = []
    for column in zip(*cells, strict=False):
        if "colour" not in found and all(_colour(cell)[1] == "" and cell.strip() for cell in column):
            found.append("colour")
        elif (
            "cavity" not in found
            and len({cell.strip() for cell in column}) == len(column)
            and all(len(cell.strip()) <= 4 for cell in column)
        ):
            found.append("cavity")
        else:
            found.append("to" if "to" not in found else "")
    return found


def _row(values: Mapping[str, str], line: int) -> tuple[PinRow | None, list[str]]:
    cavity = values.get("cavity", "")
    if not re.fullmatch(r"[A-Za-z0-9_-]{1,12}", cavity):
        return None, [f"'{cavity}' is no number of a cavity: line left out"] if any(values.values()) else []
    said = []
    colour, problem = _colour(values.get("colour", ""))
    if problem:
        said.append(problem)
    size, problem = _square_mm(values.get("mm2", ""))
    if problem:
        said.append(problem)
    end = values.get("to") or values.get("from") or ""
    return PinRow(values.get("connector", ""), cavity, values.get("wire", ""), colour, size, end, line), said


def _with_ends(rows: Sequence[PinRow]) -> tuple[PinRow, ...]:
    """Two cavities with the same wire are each other's end, where the table says nothing else."""
    found = []
    for row in rows:
        others = [other for other in rows if other is not row and other.wire == row.wire] if row.wire and not row.end else []
        found.append(replace(row, end=f"{others[0].connector} {others[0].cavity}".strip()) if len(others) == 1 else row)
    return tuple(found)


def as_csv(rows: Iterable[PinRow]) -> str:
    """A pin table as a spreadsheet; ``read_csv`` gives the same rows back."""
    out = _Text([])
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["connector", "cavity", "wire", "colour", "mm2", "to"])
    for row in rows:
        writer.writerow([row.connector, row.cavity, row.wire, row.colour, "" if row.mm2 is None else f"{row.mm2:g}", row.end])
    return "".join(out.pieces)


@dataclass(frozen=True)
class _Text:
    """What ``csv`` writes into: no file is touched here."""

    pieces: list[str]

    def write(self, text: str) -> int:
        self.pieces.append(text)
        return len(text)


def read_wireviz(data: Any) -> PinTable:
    """A WireViz file, as the plain data of its YAML.

    Raises:
        InvalidError: no connections, or one that does not fit its connectors and cables; names the place.
    """
    if not isinstance(data, Mapping) or not isinstance(data.get("connections"), list):
        raise _wrong(1, "no WireViz file: 'connectors', 'cables' and a list of 'connections' are expected")
    connectors, cables = _section(data, "connectors"), _section(data, "cables")
    rows: list[PinRow] = []
    notes = [(1, f"'{key}' was not used") for key in data if key not in ("connectors", "cables", "connections")]
    for number, chain in enumerate(data["connections"], start=1):
        if not isinstance(chain, list):
            notes.append((number, f"connection {number} is no list and was not used"))
            continue
        steps = [step for step in (_step(one, connectors, cables, number, notes) for one in chain) if step]
        for before, cable, after in zip(steps, steps[1:], steps[2:], strict=False):
            if cable[0] not in cables or before[0] not in connectors or after[0] not in connectors:
                continue
            if not len(before[1]) == len(cable[1]) == len(after[1]):
                raise _wrong(
                    number,
                    f"connection {number}: {len(before[1])} pins, {len(cable[1])} wires and {len(after[1])} pins do not match",
                )
            for start, wire, end in zip(before[1], cable[1], after[1], strict=True):
                colour, size = _of_wire(cables[cable[0]], wire, notes, number)
                name = f"{cable[0]}.{wire}"
                rows.append(PinRow(before[0], start, name, colour, size, f"{after[0]} {end}", number))
                rows.append(PinRow(after[0], end, name, colour, size, f"{before[0]} {start}", number))
        if len(rows) > MOST_LINES:
            raise _wrong(number, f"more than {MOST_LINES} ends of wires: divide the file")
    return PinTable(f"a WireViz file, {len(rows)} ends of wires", tuple(rows), (), tuple(dict.fromkeys(notes)))


def _section(data: Mapping[str, Any], name: str) -> Mapping[str, Any]:
    found = data.get(name)
    return {str(key): value for key, value in found.items()} if isinstance(found, Mapping) else {}


def _step(
    item: Any, connectors: Mapping[str, Any], cables: Mapping[str, Any], number: int, notes: list[tuple[int, str]]
) -> tuple[str, list[str]] | None:
    """One place of a connection: a connector or cable with its pins or wires."""
    if isinstance(item, str):
        name, pins = item.split(".")[0], None
    elif isinstance(item, Mapping) and len(item) == 1:
        name, pins = next(iter(item.items()))
    else:
        notes.append((number, f"'{str(item)[:MOST_TEXT]}' of connection {number} was not used"))
        return None
    name = str(name)
    if name not in connectors and name not in cables:
        notes.append((number, f"'{name[:MOST_TEXT]}' of connection {number} is neither connector nor cable"))
        return None
    wanted = _expanded(pins if isinstance(pins, list) else [1 if pins is None else pins])
    labels = connectors.get(name, {}).get("pinlabels") if isinstance(connectors.get(name), Mapping) else None
    own = connectors.get(name, {}).get("pins") if isinstance(connectors.get(name), Mapping) else None
    if isinstance(labels, list):
        numbers = [str(one) for one in own] if isinstance(own, list) else [str(place) for place in range(1, len(labels) + 1)]
        by_label = {str(label): place for label, place in zip(labels, numbers, strict=False) if label is not None}
        wanted = [by_label.get(pin, pin) for pin in wanted]
    return name, wanted


def _expanded(pins: Sequence[Any]) -> list[str]:
    """``[1-3, 5]`` is 1, 2, 3, 5."""
    found: list[str] = []
    for pin in pins:
        ends = re.fullmatch(r"(\d{1,4})-(\d{1,4})", str(pin).strip())
        if ends:
            first, last = int(ends[1]), int(ends[2])
            if abs(last - first) > MOST_LINES:
                raise _wrong(1, f"'{pin}': more than {MOST_LINES} pins")
            found += [str(n) for n in (range(first, last + 1) if first <= last else range(first, last - 1, -1))]
        else:
            found.append(str(pin).strip()[:12])
    return found


def _of_wire(cable: Any, wire: str, notes: list[tuple[int, str]], line: int) -> tuple[str, float | None]:
    """Colour and cross-section of one wire of a cable."""
    cable = cable if isinstance(cable, Mapping) else {}
    colours = cable.get("colors")
    code = str(cable.get("color_code", "")).upper()
    if not isinstance(colours, list):
        colours = list(SEQUENCES.get(code, ()))
        if code and not colours:
            notes.append((line, f"colours '{code[:20]}' are not known here"))
    said = str(colours[(int(wire) - 1) % len(colours)]) if colours and wire.isdigit() and int(wire) > 0 else ""
    colour, problem = _colour(said)
    size, other = _square_mm(str(cable.get("gauge", "")))
    notes.extend((line, one) for one in (problem, other) if one)
    return colour, size


def _colour(text: str) -> tuple[str, str]:
    """A colour in words, and what is doubtful about it; the text as it is if it is none."""
    try:
        return colour_of(text), ""
    except InvalidError as error:
        return "", f"colour left out: {error.problems[0].message if error.problems else error.detail}"


def _square_mm(text: str) -> tuple[float | None, str]:
    """Cross-section in mm²; a gauge of AWG by ASTM B258: d = 0.127 mm · 92^((36 − n)/39)."""
    said = text.strip().lower().replace(",", ".")
    if not said:
        return None, ""
    found = re.fullmatch(r"(\d{1,3}(?:\.\d{1,3})?)\s*(mm2|mm²|mm\^2|qmm|awg)?", said) or re.fullmatch(r"(awg)?\s*(\d{1,2})", said)
    if not found:
        return None, f"cross-section '{text[:20]}' left out: such as 0.75 or 20 AWG"
    if "awg" in said:
        gauge = float(found[1] if found[1] != "awg" else found[2])
        return round(math.pi / 4.0 * (0.127 * 92.0 ** ((36.0 - gauge) / 39.0)) ** 2, 3), ""
    value = float(found[1])
    return (value, "") if 0.0 < value <= 150.0 else (None, f"cross-section '{text[:20]}' left out")


def _plain(text: str) -> str:
    return re.sub(r"\s+", " ", text.strip().lower().replace("_", " ").rstrip(".:"))


def _wrong(line: int, said: str) -> InvalidError:
    return InvalidError("Pin table not usable", f"line {line}: {said}", [FieldProblem(("text",), f"line {line}: {said}")])
