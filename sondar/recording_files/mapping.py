"""How a table of text is to be read: the dialect, and what every column is."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from sondar.core.errors import invalid
from sondar.core.recordings.model import ROLES, Role

Kind = Literal["time", "number", "words", "left out"]
TimeForm = Literal["s", "ms", "us", "min", "clock", "date"]
"""Figures in that unit, a time of day (``12:03:04.5``), or a date with a time."""

MOST_COLUMNS, MOST_ROWS, LONGEST_NAME = 200, 20_000_000, 120


@dataclass(frozen=True)
class Column:
    """One column: its place from 0, and what it is."""

    at: int
    name: str
    unit: str = ""
    kind: Kind = "number"
    role: Role = "signal"
    time_form: TimeForm = "s"


@dataclass(frozen=True)
class Mapping:
    """A table's dialect and columns.

    Attributes:
        head: lines before the first row of figures. rate_hz: samples per second where no column is a time; 0 otherwise.
    """

    encoding: str
    delimiter: str
    decimal: str
    head: int
    columns: tuple[Column, ...] = field(default=())
    rate_hz: float = 0.0

    def as_dict(self) -> dict[str, Any]:
        """Plain fields, for JSON."""
        return {
            "encoding": self.encoding, "delimiter": self.delimiter, "decimal": self.decimal, "head": self.head, "rate_hz": self.rate_hz,
            "columns": [vars(column) for column in self.columns],
        }  # fmt: skip

    @staticmethod
    def of(fields: dict[str, Any]) -> Mapping:
        """From plain fields."""
        return Mapping(
            fields["encoding"], fields["delimiter"], fields["decimal"], int(fields["head"]),
            tuple(Column(**column) for column in fields["columns"]), float(fields.get("rate_hz", 0.0)),
        )  # fmt: skip


def check(mapping: Mapping) -> None:
    """A mapping that a table can be read by.

    Raises:
        InvalidError: names the field and what is wrong with it.
    """
    if len(mapping.columns) > MOST_COLUMNS:
        raise invalid("columns", f"at most {MOST_COLUMNS}; this table has {len(mapping.columns)}")
    kinds = [column.kind for column in mapping.columns]
    if not any(kind in ("number", "words") for kind in kinds):
        raise invalid("columns", "no column holds figures or words: choose at least one")
    if "time" not in kinds and not 0.0 < mapping.rate_hz <= 1e7:
        raise invalid(
            "rate_hz", "no column is a time, so say how many samples a second were taken (more than 0, at most 10 million)"
        )
    if mapping.delimiter == mapping.decimal:
        raise invalid("decimal", "columns are divided by the same sign: choose another")
    names = [column.name.strip() for column in mapping.columns if column.kind in ("number", "words")]
    if not all(names):
        raise invalid("columns", "every column that is kept needs a name")
    if len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise invalid("columns", f"two columns are called '{twice}': give one another name")
    if any(len(name) > LONGEST_NAME for name in names):
        raise invalid("columns", f"a name has at most {LONGEST_NAME} characters")
    if any(column.role not in ROLES for column in mapping.columns):
        raise invalid("columns", f"a role is one of {', '.join(ROLES)}")
