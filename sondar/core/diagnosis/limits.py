"""The limits card of a circuit: every limit with its condition and source, marked as readings come in."""

from __future__ import annotations

import math
from collections.abc import Sequence

from pydantic import BaseModel, Field

from sondar.core.circuit.document import Limit
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.conformity import Conformity, Measured, conformity, copper_at, difference, from_table, ratio
from sondar.core.diagnosis.assess import describe_test, reading_label, setup_view
from sondar.core.diagnosis.belief import Reading
from sondar.core.diagnosis.tests import Test
from sondar.core.diagnosis.views import SetupView
from sondar.core.instruments import INSTRUMENTS, Instrument, instrument
from sondar.core.quantities import format_si

SOURCES = {"maker": "maker's figure", "own": "own known-good vehicles", "sibling": "sibling part"}


class LimitView(BaseModel):
    """One limit with what the newest standing reading says about it."""

    id: str
    title: str
    condition: str = Field(description="Where, with what and in which set-up.")
    range: str
    typical: str
    source: str
    note: str
    instrument: str
    red: str
    black: str
    setup: SetupView
    reading: str | None = Field(description="Id of the reading that counts.")
    shown: str = Field(description="What it showed, or the ratio or difference that is compared; empty without a reading.")
    decision: str = Field(description="pass, fail, in doubt, or open without a reading.")
    conforms: float | None
    wrong: float | None = Field(description="Chance that the decision is wrong.")
    advice: str = ""


def limit_test(circuit: Circuit, limit: Limit, temperature_c: float = 20.0) -> Test:
    """The test that a limit is about.

    Raises:
        UnknownReferenceError: its instrument does not exist.
    """
    instrument(limit.instrument)
    setup = circuit.setup(limit.when, frozenset(limit.unplugged), temperature_c)
    return Test(limit.instrument, limit.red, limit.black or circuit.black_reference, setup)


def limits_card(circuit: Circuit, readings: Sequence[Reading], temperature_c: float = 20.0) -> list[LimitView]:
    """Every limit of the circuit, judged by the newest reading that was taken under its condition."""
    return [_view(circuit, name, limit, readings, temperature_c) for name, limit in circuit.document.limits.items()]


def uncertainty(reading: Reading) -> float:
    """Standard uncertainty of a figure in SI units: meter, last digit and any worse meter, each a rectangle (GUM 4.3.7)."""
    device = INSTRUMENTS[reading.test.instrument]
    bound = device.error_share * abs(reading.value or 0.0) + device.error_floor + reading.meter_error
    return math.hypot(bound, reading.resolution) / math.sqrt(3.0)


def _view(circuit: Circuit, name: str, limit: Limit, readings: Sequence[Reading], temperature_c: float) -> LimitView:
    test = limit_test(circuit, limit, temperature_c)
    reading = newest(readings, test)
    low, high = _bounds(limit, temperature_c)
    shown, judged, advice = "", None, ""
    if reading is not None:
        shown, judged, advice = _judge(circuit, limit, reading, readings, low, high, temperature_c)
    elif limit.per or limit.change_from:
        advice = f"Compared with {circuit.document.limits[limit.per or limit.change_from].title}: read both."
    unit = "" if limit.per else INSTRUMENTS[test.instrument].unit
    return LimitView(
        id=name, title=limit.title, condition=describe_test(circuit, test), range=limit.word or _range(low, high, unit, bool(limit.per)),
        typical="" if limit.typical is None else _figure(limit.typical, unit, bool(limit.per)), source=SOURCES[limit.source], note=limit.note,
        instrument=test.instrument, red=test.red, black=test.black, setup=setup_view(test.setup), reading=reading.id if reading else None,
        shown=shown, decision=judged.decision if judged else "open", conforms=judged.conforms if judged else None,
        wrong=judged.wrong if judged else None, advice=advice,
    )  # fmt: skip


def newest(readings: Sequence[Reading], test: Test) -> Reading | None:
    """The last reading of a test; leads the other way round count, with the sign turned."""
    for reading in reversed(readings):
        other = reading.test
        if other.instrument != test.instrument or not _same_place(other.setup, test.setup):
            continue
        if (other.red, other.black) == (test.red, test.black):
            return reading
        if (other.black, other.red) == (test.red, test.black) and reading.value is not None:
            sign = -1.0 if INSTRUMENTS[test.instrument].kind == "volts" else 1.0
            return Reading(reading.id, test, sign * reading.value, None, reading.resolution, reading.present, reading.meter_error)
    return None


def _same_place(one: Setup, other: Setup) -> bool:
    return one.controls == other.controls and one.unplugged == other.unplugged


def _bounds(limit: Limit, temperature_c: float) -> tuple[float | None, float | None]:
    return from_table(limit.table, temperature_c) if limit.table else (limit.min, limit.max)


def _judge(
    circuit: Circuit, limit: Limit, reading: Reading, readings: Sequence[Reading], low: float | None, high: float | None, temperature_c: float
) -> tuple[str, Conformity | None, str]:  # fmt: skip
    """What is compared in words, the decision (None if it cannot be made yet), and advice."""
    shown = reading_label(reading)
    if limit.word:
        sure = 1.0 if reading.state == limit.word else 0.0
        return shown, Conformity("pass" if sure else "fail", sure, 0.0, 0.0), ""
    device = INSTRUMENTS[reading.test.instrument]
    if reading.value is None:
        above = reading.state == "OL" and high is None
        return shown, Conformity("pass" if above else "fail", float(above), 0.0, 0.0), ""
    measured = Measured(reading.value, uncertainty(reading))
    if limit.copper_at_c is not None:
        measured = copper_at(measured, temperature_c, limit.copper_at_c)
        if abs(temperature_c - limit.copper_at_c) > 1.0:
            shown += f", {format_si(measured.value, device.unit)} at {limit.copper_at_c:g} °C"
    if limit.per or limit.change_from:
        base = circuit.document.limits[limit.per or limit.change_from]
        other = newest(readings, limit_test(circuit, base, temperature_c))
        if other is None or other.value is None:
            return shown, None, f"Read {base.title} too: the two are compared."
        try:
            combine = ratio if limit.per else difference
            measured = combine(measured, Measured(other.value, uncertainty(other)))
        except ZeroDivisionError:
            return shown, None, f"{base.title} reads zero: nothing to divide by. Find out why first."
        shown = (
            f"{_figure(measured.value, '' if limit.per else device.unit, bool(limit.per))} from {shown} and {reading_label(other)}"
        )
    judged = conformity(measured, low, high)
    return shown, judged, _advice(judged, device, reading) if judged.decision == "in doubt" else ""


def _advice(judged: Conformity, device: Instrument, reading: Reading) -> str:
    digit = reading.resolution > device.error_share * abs(reading.value or 0.0) + device.error_floor
    better = "Read one more digit" if digit else "Use a better range or a more exact meter"
    return f"Too close to the limit for this meter: it may be off by {format_si(judged.guard, device.unit)}. {better}."


def _range(low: float | None, high: float | None, unit: str, bare: bool) -> str:
    if low is None:
        assert high is not None
        return f"at most {_figure(high, unit, bare)}"
    return f"at least {_figure(low, unit, bare)}" if high is None else f"{_figure(low, unit, bare)} to {_figure(high, unit, bare)}"


def _figure(value: float, unit: str, bare: bool) -> str:
    return f"{value * 100:.1f} %" if bare else format_si(value, unit)
