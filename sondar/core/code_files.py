"""Lists of trouble codes as scan tools and spreadsheets write them: understood line by line, and nothing lost without a word.

A file is first understood (``understand_file``): every line that holds a code, what was made of it, and what was not understood. A
person looks at that and says which lines to keep. Without such a look only a file that leaves no doubt is taken (``parse_code_file``).
"""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sondar.core.codes import CODE, CodeTextError, FoundCode, codes_in_line, looks_like_a_code, status_in_words

COLUMNS = {
    "code": ("code", "dtc", "fault code", "trouble code", "fault", "error code", "dtc code", "number"),
    "module": ("module", "ecu", "control unit", "control module", "system", "unit", "node"),
    "status": ("status", "state", "status byte", "dtc status"),
    "failure_type": ("failure type", "failure type byte", "ftb", "symptom", "sub code", "subtype"),
    "words": (
        "description",
        "text",
        "fault text",
        "meaning",
        "title",
        "fault description",
        "dtc description",
        "code description",
        "plain text",
    ),
}
"""Header words of a column, in lower case, spaces for underscores."""
DELIMITERS = ";\t|,"
COMMENTS = ("#", "//")
MOST_ROWS, SHOWN_TEXT = 3000, 200


@dataclass(frozen=True)
class Row:
    """One code of a file.

    Attributes:
        line: of the file, from 1; in JSON the number of the entry.
        text: as it stands there. doubt: what may have been understood wrongly; empty if nothing.
    """

    line: int
    text: str
    code: FoundCode
    doubt: str = ""


@dataclass(frozen=True)
class Understood:
    """What a file seems to say.

    Attributes:
        form: how it was read, in words. unused: columns or fields of it that were not used.
        rows: one per code. left_out: (line, text, why) of lines without a code that are not plainly empty.
    """

    form: str
    unused: tuple[str, ...]
    rows: tuple[Row, ...]
    left_out: tuple[tuple[int, str, str], ...]

    @property
    def doubts(self) -> list[tuple[int, str]]:
        """(line, what) of everything that a person should look at."""
        return [(row.line, row.doubt) for row in self.rows if row.doubt] + [(line, why) for line, _, why in self.left_out]


@dataclass
class _Reader:
    """Rows and left-out lines as they are found."""

    rows: list[Row] = field(default_factory=list)
    left_out: list[tuple[int, str, str]] = field(default_factory=list)

    def leave_out(self, line: int, text: str, why: str) -> None:
        self.left_out.append((line, text.strip()[:SHOWN_TEXT], why))

    def take(self, line: int, text: str, code: FoundCode, doubt: str = "") -> None:
        if len(self.rows) >= MOST_ROWS:
            raise CodeTextError([(line, f"more than {MOST_ROWS} codes: divide the file")])
        self.rows.append(Row(line, text.strip()[:SHOWN_TEXT], code, doubt))


def understand_file(text: str) -> Understood:
    """What a JSON list, a table with a header (CSV of any delimiter), or plain text seems to say.

    Raises:
        CodeTextError: not valid JSON, or no code in it at all.
    """
    stripped = text.lstrip("\ufeff \n\r\t")
    reader, unused = _Reader(), dict[str, None]()
    if stripped[:1] in ("[", "{"):
        form = "JSON"
        for number, (entry, module) in enumerate(_entries(_json(stripped), ""), start=1):
            _from_entry(reader, unused, number, entry, module)
    else:
        lines = text.lstrip("\ufeff").splitlines()
        at, delimiter, header = _header(lines)
        if header:
            form = f"Table, columns divided by {_named(delimiter)}, header in line {at + 1}"
            unused.update(dict.fromkeys(word for word in header if word and _column(word) is None))
            _from_table(reader, lines[at + 1 :], at + 2, delimiter, [_column(word) for word in header])
        else:
            form = "Plain text, one line after another"
            _from_lines(reader, lines)
    if not reader.rows:
        problems = [(line, why) for line, _, why in reader.left_out] or [(1, "no code in this file")]
        raise CodeTextError(problems)
    return Understood(form, tuple(unused), tuple(reader.rows), tuple(reader.left_out))


def parse_code_file(text: str, rows: Sequence[int] | None = None) -> list[FoundCode]:
    """Codes of a file: those of the rows that a person has chosen (their positions in ``Understood.rows``), or all if there is no doubt.

    Raises:
        CodeTextError: it cannot be read, a row is not there, or there are doubts and nobody has chosen.
    """
    found = understand_file(text)
    if rows is None and found.doubts:
        raise CodeTextError(found.doubts)
    if rows is not None and not all(0 <= row < len(found.rows) for row in rows):
        raise CodeTextError([(1, f"rows: the file has {len(found.rows)}, counted from 0")])
    chosen = found.rows if rows is None else [found.rows[row] for row in sorted(set(rows))]
    kept: dict[tuple[str | None, str, str | None], FoundCode] = {}
    for row in chosen:
        kept.setdefault((row.code.module, row.code.code, row.code.failure_type), row.code)
    return list(kept.values())


# -- JSON -----------------------------------------------------------------------------------------------


def _json(text: str) -> Any:
    try:
        return json.loads(text)
    except (ValueError, RecursionError) as error:
        raise CodeTextError([(getattr(error, "lineno", 1), f"not valid JSON: {error}")]) from error


def _entries(data: Any, module: str) -> Iterator[tuple[Any, str]]:
    """Entries with the module whose list they stand in; lists in lists at most three deep."""
    if isinstance(data, list):
        for item in data:
            if isinstance(item, dict) and any(isinstance(value, list) for value in item.values()):
                yield from _entries(item, module)
            else:
                yield item, module
        return
    if not isinstance(data, dict):
        raise CodeTextError([(1, "expected a list of codes, or an object with a list named 'codes'")])
    named = next((str(value) for key, value in data.items() if _column(str(key)) == "module" or str(key).lower() == "name"), module)
    lists = [value for value in data.values() if isinstance(value, list)]
    if not lists:
        raise CodeTextError([(1, "expected a list of codes, or an object with a list named 'codes'")])
    for found in lists:
        for item in found:
            nested = isinstance(item, dict) and any(isinstance(value, list) for value in item.values())
            if nested and module == "":
                yield from _entries(item, named or " ")
            else:
                yield item, named.strip()


def _from_entry(reader: _Reader, unused: dict[str, None], number: int, entry: Any, module: str) -> None:
    text = json.dumps(entry, ensure_ascii=False)
    if not isinstance(entry, dict):
        entry = {"code": entry}
    cells: dict[str, Any] = {}
    for key, value in entry.items():
        column = _column(str(key))
        if column is None:
            unused[str(key)] = None
        elif value is not None:
            cells[column] = value
    cells.setdefault("module", module)
    status = cells.get("status")
    if isinstance(status, bool):
        cells["status"] = "active" if status else ""
    elif isinstance(status, int | float):
        # A number in JSON is a decimal number: 47 is 2F.
        whole = int(status) if status == int(status) and 0 <= status <= 255 else None
        cells["status"] = f"0x{whole:02X}" if whole is not None else str(status)
    _from_cells(reader, number, text, {name: str(value) for name, value in cells.items()}, "")


# -- tables ---------------------------------------------------------------------------------------------


def _column(word: str) -> str | None:
    cleaned = " ".join(re.findall(r"[a-z]+", word.lower()))
    return next((name for name, words in COLUMNS.items() if cleaned in words), None)


def _named(delimiter: str) -> str:
    return {";": "semicolons", "\t": "tabs", "|": "|", ",": "commas"}[delimiter]


def _header(lines: Sequence[str]) -> tuple[int, str, list[str]]:
    """Line, delimiter and words of a table's header: the first line of several that names a column of codes; empty if there is none."""
    for at, line in enumerate(lines[:30]):
        for delimiter in DELIMITERS:
            words = [cell.strip().strip('"').strip() for cell in line.strip().strip("|").split(delimiter)]
            if len(words) > 1 and "code" in map(_column, words) and not CODE.search(line):
                return at, delimiter, words
    return 0, "", []


def _from_table(reader: _Reader, lines: Sequence[str], first: int, delimiter: str, columns: Sequence[str | None]) -> None:
    base = _status_base([_cells(line, delimiter, columns).get("status", "") for line in lines if not _is_comment(line)])
    for number, line in enumerate(lines, start=first):
        if not line.strip() or not line.strip("-+|= \t"):
            continue
        if _is_comment(line):
            reader.leave_out(number, line, "a comment: not read")
            continue
        if line.count('"') % 2:
            reader.leave_out(number, line, "a quotation mark is opened and not closed")
            continue
        cells = _cells(line, delimiter, columns)
        _from_cells(reader, number, line, cells, base)


def _cells(line: str, delimiter: str, columns: Sequence[str | None]) -> dict[str, str]:
    text = line.strip().strip("|") if delimiter == "|" else line
    try:
        row = next(csv.reader([text], delimiter=delimiter, skipinitialspace=True), [])
    except csv.Error:
        row = text.split(delimiter)
    return {name: cell.strip() for name, cell in zip(columns, row, strict=False) if name}


def _is_comment(line: str) -> bool:
    return line.strip().startswith(COMMENTS)


def _status_base(texts: Sequence[str]) -> str:
    """``hex``, ``decimal`` or ``either``: what a column of status bytes is written in, from all of them together."""
    digits = [text.strip() for text in texts if re.fullmatch(r"[0-9A-Fa-f]{1,3}", text.strip())]
    if any(re.search(r"[A-Fa-f]", text) for text in digits):
        return "hex"
    if any(int(text) > 99 for text in digits):
        return "decimal"
    return "either"


# -- both -----------------------------------------------------------------------------------------------


def _from_cells(reader: _Reader, line: int, text: str, cells: Mapping[str, str], base: str) -> None:
    written = cells.get("code", "")
    codes = codes_in_line(written)
    if not codes:
        if written.strip() or any(cell.strip() for cell in cells.values()):
            wrong = looks_like_a_code(written)
            reader.leave_out(line, text, f"'{wrong[0]}' is not a code" if wrong else "no code in it")
        return
    status, doubt = _status(cells.get("status", ""), base)
    failure = cells.get("failure_type", "").strip().upper().removeprefix("0X")
    if failure and not re.fullmatch(r"[0-9A-F]{2}", failure):
        doubt, failure = doubt or f"failure type '{failure[:20]}' is not understood", ""
    if len(codes) > 1:
        doubt = doubt or f"{len(codes)} codes in one cell"
    for code in codes:
        reader.take(
            line,
            text,
            FoundCode(
                code.code,
                failure or code.failure_type,
                status,
                cells.get("module", "").strip()[:40] or None,
                " ".join(cells.get("words", "").split())[:SHOWN_TEXT],
            ),
            doubt,
        )


def _status(text: str, base: str) -> tuple[int | None, str]:
    cleaned = text.strip()
    if not cleaned:
        return None, ""
    if re.fullmatch(r"0[xX][0-9A-Fa-f]{1,2}", cleaned):
        return int(cleaned, 16), ""
    if re.fullmatch(r"[0-9A-Fa-f]{1,3}", cleaned) and base:
        value = int(cleaned, 10 if base == "decimal" and cleaned.isdigit() else 16)
        if value > 0xFF:
            return None, f"status {cleaned} is no byte"
        doubt = base == "either" and cleaned.isdigit() and int(cleaned) > 9
        return value, f"status {cleaned} is read as hexadecimal; the file does not say so" if doubt else ""
    if re.fullmatch(r"[0-9A-Fa-f]{1,2}", cleaned):
        return int(cleaned, 16), ""
    status = status_in_words(cleaned)
    return status, "" if status is not None else f"status '{cleaned[:30]}' is not understood"


def _from_lines(reader: _Reader, lines: Sequence[str]) -> None:
    for number, line in enumerate(lines, start=1):
        if _is_comment(line):
            if CODE.search(line):
                reader.leave_out(number, line, "a comment: not read")
            continue
        for code in codes_in_line(line):
            reader.take(number, line, code)
        for wrong in looks_like_a_code(line):
            reader.leave_out(number, line, f"'{wrong}' is not a code: one of P, C, B, U, then 0–3 and three hex digits")
