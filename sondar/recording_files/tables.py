"""Tables of text into channels and lanes, and back."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from sondar.core.errors import TooLargeError, invalid
from sondar.core.recordings.model import Array, Channel, Lane, Recording
from sondar.recording_files.dialect import UNIT_IN_NAME
from sondar.recording_files.mapping import MOST_ROWS, Column, Mapping, check

if TYPE_CHECKING:
    import polars as pl

# polars is imported where a table is read or written: no process that only passes recordings on should start slower for it.

FACTORS = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "min": 60.0}
DATE_FORMS = (
    "%Y-%m-%d %H:%M:%S%.f",
    "%d.%m.%Y %H:%M:%S%.f",
    "%d/%m/%Y %H:%M:%S%.f",
    "%Y/%m/%d %H:%M:%S%.f",
    "%Y-%m-%d %H:%M",
    "%d.%m.%Y %H:%M",
)
MOST_POSITIONS = 24
"""Different positions of a command, or words of a status, beyond which a column is no lane."""
MOST_CHANGES = 20_000
DAY_S = 86_400.0


@dataclass(frozen=True, eq=False)
class Read:
    """A table as a recording.

    Attributes:
        began: seconds since 1970 of the first row where the file gives a date; None otherwise.
        notes: what was left out or put right, in sentences.
    """

    recording: Recording
    rows: int
    began: float | None
    notes: tuple[str, ...]


def read_table(raw: bytes, mapping: Mapping) -> Read:
    """Read a table by its mapping.

    Raises:
        InvalidError: the mapping does not fit, or nothing can be read. TooLargeError: more rows than are taken.
    """
    check(mapping)
    frame = _frame(raw, mapping)
    if frame.height > MOST_ROWS:
        raise TooLargeError("Recording too long", f"at most {MOST_ROWS // 1_000_000} million rows: divide the file")
    notes: list[str] = []
    times, began = _times(frame, mapping, notes)
    channels, lanes = [], []
    for column in mapping.columns:
        if column.kind in ("time", "left out"):
            continue
        t, rising = times[_time_of(column, mapping)]
        if column.kind == "words":
            lane = _lane(
                column, t, frame[_name(column)].to_list() if rising is None else [frame[_name(column)][int(i)] for i in rising]
            )
            if len(lane.changes) > MOST_CHANGES:
                notes.append(f"{column.name}: changes too often for a status word, left out")
            elif lane.changes:
                lanes.append(lane)
            continue
        y = frame[_name(column)].to_numpy()
        y = y if rising is None else y[rising]
        if not np.isfinite(y.sum()):  # a gap or no figure somewhere; a sum is found faster than every gap
            good = np.isfinite(y)
            lost = len(y) - int(good.sum())
            if lost == len(y):
                notes.append(f"{column.name}: no figure in it, left out")
                continue
            notes.append(f"{column.name}: {lost} of {len(y)} rows hold no figure there, left out")
            channels.append(Channel(column.name, column.unit, t[good], y[good], column.role))
        else:
            channels.append(Channel(column.name, column.unit, t, y, column.role))
        if column.role == "command" and (commanded := _command_lane(channels[-1])) is not None:
            lanes.append(commanded)
    if not channels and not lanes:
        raise invalid("file", f"none of its columns can be read so. {' '.join(notes)}".strip())
    return Read(Recording(tuple(channels), tuple(lanes)), frame.height, began, tuple(notes))


def _name(column: Column) -> str:
    return f"column_{column.at + 1}"


def _frame(raw: bytes, mapping: Mapping) -> pl.DataFrame:
    import polars as pl

    if mapping.encoding != "utf-8":
        raw = raw.decode(mapping.encoding, "replace").encode()
    if mapping.delimiter == " ":
        raw = b"\n".join(b" ".join(line.split()) for line in raw.splitlines())
    raw = _without_head(raw, mapping.head)
    wanted = [column for column in mapping.columns if column.kind != "left out"]
    texts = {_name(c) for c in wanted if c.kind == "words" or (c.kind == "time" and c.time_form in ("clock", "date"))}

    def read(as_text: set[str]) -> pl.DataFrame:
        try:
            return pl.read_csv(
                raw, has_header=False, separator=mapping.delimiter, columns=[_name(c) for c in wanted],
                schema={f"column_{at + 1}": pl.String if f"column_{at + 1}" in as_text else pl.Float64 for at in range(_width(mapping))},
                ignore_errors=True, truncate_ragged_lines=True, decimal_comma=mapping.decimal == ",", encoding="utf8-lossy", raise_if_empty=False,
            )  # fmt: skip
        except pl.exceptions.PolarsError as error:
            raise invalid("file", f"it cannot be read as such a table: {str(error).splitlines()[0][:200]}") from error

    frame = read(texts)
    doubtful = [c for c in wanted if _name(c) not in texts and frame[_name(c)].null_count() > 0.01 * max(1, frame.height)]
    if doubtful:
        # Figures with blanks around them, or in quotation marks with a unit behind them.
        again = read(texts | {_name(c) for c in doubtful})
        return again.with_columns([_as_figures(pl.col(_name(c)), mapping.decimal) for c in doubtful])
    return frame


def _as_figures(texts: pl.Expr, decimal: str) -> pl.Expr:
    import polars as pl

    bare = texts.str.strip_chars().str.replace_all("−", "-")
    return bare.str.replace(",", "." if decimal == "," else "").cast(pl.Float64, strict=False)


def _without_head(raw: bytes, lines: int) -> bytes:
    at = 0
    for _ in range(lines):
        at = raw.find(b"\n", at) + 1
        if at == 0:
            return b""
    return raw[at:]


def _width(mapping: Mapping) -> int:
    return max(column.at for column in mapping.columns) + 1


def _time_of(column: Column, mapping: Mapping) -> int:
    """Place of the time column that a column goes by: the nearest to its left, else the first; -1 if there is none."""
    times = [c.at for c in mapping.columns if c.kind == "time"]
    return max((at for at in times if at < column.at), default=min(times, default=-1))


Clock = tuple[Array, "np.ndarray | None"]
"""Seconds of the rows that are kept, and which rows these are (None for all, in order)."""


def _times(frame: pl.DataFrame, mapping: Mapping, notes: list[str]) -> tuple[dict[int, Clock], float | None]:
    """For every time column its clock, all from the same moment; and when that was."""
    found, began = {}, None
    for column in mapping.columns:
        if column.kind == "time":
            seconds = _seconds(frame[_name(column)], column)
            if column.time_form == "date" and len(seconds) and began is None:
                began = float(np.nanmin(seconds)) if np.isfinite(seconds).any() else None
            found[column.at] = seconds
    if not found:
        return {-1: (np.arange(frame.height) / mapping.rate_hz, None)}, None
    first = min((float(np.nanmin(s)) for s in found.values() if np.isfinite(s).any()), default=0.0)
    names = {column.at: column.name for column in mapping.columns}
    return {at: _rising(seconds - first, names[at], notes) for at, seconds in found.items()}, began


def _seconds(series: pl.Series, column: Column) -> Array:
    import polars as pl

    if column.time_form == "clock":
        parts = series.str.replace(",", ".").str.split(":")
        frame = pl.DataFrame({"p": parts}).select(
            [
                pl.col("p").list.get(i, null_on_oob=True).cast(pl.Float64, strict=False).fill_null(0.0).alias(str(i))
                for i in range(3)
            ]
        )
        seconds: Array = (frame["0"] * 3600 + frame["1"] * 60 + frame["2"]).to_numpy()
        # Past midnight the clock begins anew.
        return seconds + DAY_S * np.concatenate([[0], np.cumsum(np.diff(seconds) < -DAY_S / 2)]) if len(seconds) else seconds
    if column.time_form == "date":
        cleaned = series.str.replace("T", " ").str.replace(",", ".").str.replace(r"(Z|[+-]\d{2}:?\d{2})$", "")
        for form in DATE_FORMS:
            dates = cleaned.str.to_datetime(form, strict=False, time_unit="us")
            if dates.null_count() < 0.5 * max(1, len(dates)):
                figures = dates.cast(pl.Int64).to_numpy().astype(np.float64) / 1e6
                return np.where(np.asarray(dates.is_null().to_numpy()), np.nan, figures)
        raise invalid("columns", f"{column.name}: the dates in it are not understood; choose another column as the time")
    return np.asarray(series.to_numpy(), dtype=np.float64) * FACTORS[column.time_form]


def _rising(seconds: Array, name: str, notes: list[str]) -> Clock:
    """A clock that rises: rows that go back are left out, rows that share a stamp are spread over the time to the next."""
    if len(seconds) == 0:
        return seconds, None
    if np.isfinite(seconds.sum()) and bool((seconds[1:] > seconds[:-1]).all()):
        return seconds, None
    known = np.isfinite(seconds)
    high = np.maximum.accumulate(np.where(known, seconds, -np.inf))
    kept = known & (seconds >= high)
    lost = len(seconds) - int(kept.sum())
    if lost:
        at = int(np.argmin(kept)) + 1
        notes.append(f"{name}: {lost} rows have no time or go back in time, the first being row {at}; left out")
    rows = np.flatnonzero(kept)
    t = seconds[rows]
    stamps, first, count = np.unique(t, return_index=True, return_counts=True)
    if len(stamps) < len(t):
        ends = np.append(stamps[1:], stamps[-1] + (stamps[-1] - stamps[-2] if len(stamps) > 1 else 1.0))
        place = np.arange(len(t)) - np.repeat(first, count)
        t = t + place / np.repeat(count, count) * np.repeat(ends - stamps, count)
        notes.append(f"{name}: several rows share a time; they are spread evenly up to the next")
    return t, rows


def _lane(column: Column, t: Array, words: list[str | None]) -> Lane:
    changes: list[tuple[float, str]] = []
    for at, word in zip(t, words, strict=True):
        position = (word or "").strip()[:80]
        if not changes or changes[-1][1] != position:
            changes.append((float(at), position))
            if len(changes) > MOST_CHANGES:
                break
    return Lane(column.name, tuple(changes) if any(word for _, word in changes) else (), column.role == "command")


def _command_lane(channel: Channel) -> Lane | None:
    """Positions of a command that is held in steps; None if it glides."""
    if len(np.unique(channel.y[:: max(1, len(channel.y) // 5000)])) > MOST_POSITIONS:
        return None
    at = np.concatenate([[0], np.flatnonzero(np.diff(channel.y)) + 1])
    if len(at) > MOST_CHANGES:
        return None
    unit = f" {channel.unit}" if channel.unit else ""
    return Lane(channel.name, tuple((float(channel.t[i]), f"{channel.y[i]:g}{unit}") for i in at), True)


def write_table(recording: Recording) -> Iterator[bytes]:
    """A recording as CSV (RFC 4180), in pieces: one time column per channel that has a clock of its own, then its figures; then the lanes.

    What is read from it again is the same to the last digit.
    """
    import polars as pl

    groups: list[list[Channel]] = []
    for channel in recording.channels:
        for group in groups:
            if len(group[0].t) == len(channel.t) and (group[0].t is channel.t or np.array_equal(group[0].t, channel.t)):
                group.append(channel)
                break
        else:
            groups.append([channel])
    series: list[pl.Series] = []
    taken = {c.name for c in recording.channels}
    for number, group in enumerate(groups):
        series.append(pl.Series(_free("Time [s]" if not number else f"Time {number + 1} [s]", taken), group[0].t))
        series += [pl.Series(f"{c.name} [{c.unit or '-'}]" if c.unit or UNIT_IN_NAME.match(c.name) else c.name, c.y) for c in group]
    for number, lane in enumerate(recording.lanes):
        if recording.channel(lane.name) is not None:
            continue  # a command that stands among the channels
        series.append(pl.Series(_free(f"Time of {lane.name} [s]", taken), [t for t, _ in lane.changes]))
        series.append(
            pl.Series(lane.name if lane.name not in taken else f"{lane.name} {number}", [word for _, word in lane.changes])
        )
    longest = max((len(s) for s in series), default=0)
    frame = pl.DataFrame([s.extend_constant(None, longest - len(s)) if len(s) < longest else s for s in series])
    for start in range(0, max(longest, 1), 200_000):
        yield frame[start : start + 200_000].write_csv(include_header=start == 0).encode()


def _free(name: str, taken: set[str]) -> str:
    while name in taken:
        name += "'"
    taken.add(name)
    return name
