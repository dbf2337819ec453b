"""The limits card of a circuit: every limit with its condition and source, marked as readings come in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pydantic import BaseModel, Field

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Instrument, Test
from sondar.core.instruments.ohmmeter import OVER
from sondar.core.instruments.reading import Reading
from sondar.core.limits.condition import limit_test
from sondar.core.limits.conformity import Conformity, Measured
from sondar.core.limits.document import SOURCES, Limit, Source
from sondar.core.limits.forms.base import Compared, Context, NotComparedError, plain_figure
from sondar.core.present.tests import SetupView, setup_view
from sondar.core.quantities import format_si
from sondar.core.wording.labels import describe_test, reading_label


class LimitEntry(BaseModel):
    """The figures of a limit as a person would enter them; only of limits by bounds or by a word."""

    least: str
    most: str
    word: str
    typical: str
    copper_at_c: float | None
    source: Source


class LimitView(BaseModel):
    """One limit with what the newest reading that has not been voided says about it."""

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
    entry: LimitEntry | None = Field(None, description="As it may be changed; left out where its form has fields of its own.")


@dataclass(frozen=True)
class Judged:
    """A limit judged by a reading: what is compared in words, the decision (None if it cannot be made yet), and advice."""

    shown: str
    conformity: Conformity | None
    advice: str = ""


def limits_card(circuit: Circuit, readings: Sequence[Reading], temperature_c: float = 20.0) -> list[LimitView]:
    """Every limit of the circuit, judged by the newest reading that was taken under its condition."""
    return [_view(circuit, name, limit, readings, temperature_c) for name, limit in circuit.document.limits.items()]


def _view(circuit: Circuit, name: str, limit: Limit, readings: Sequence[Reading], temperature_c: float) -> LimitView:
    test = limit_test(circuit, limit, temperature_c)
    device = instrument(test.instrument)
    reading = newest(readings, test)
    context = context_of(circuit, readings, temperature_c, device, reading)
    figure = plain_figure(device.unit, any(form.share for form in limit.converting))
    if reading is not None:
        judged = judge_limit(limit, reading, context)
    else:
        others = [form.refers_to(limit) for form in limit.converting if form.refers_to(limit)]
        judged = Judged("", None, f"Compared with {circuit.document.limits[others[0]].title}: read both." if others else "")
    found = judged.conformity
    return LimitView(
        id=name, title=limit.title, condition=describe_test(circuit, test), range=limit.judging.expected(limit, context, figure),
        typical="" if limit.typical is None else figure(limit.typical), source=SOURCES[limit.source], note=limit.note,
        instrument=test.instrument, red=test.red, black=test.black, setup=setup_view(test.setup), reading=reading.id if reading else None,
        shown=judged.shown, decision=found.decision if found else "open", conforms=found.conforms if found else None,
        wrong=found.wrong if found else None, advice=judged.advice, entry=_entry(limit, device),
    )  # fmt: skip


def _entry(limit: Limit, device: Instrument) -> LimitEntry | None:
    """What a person would enter for it; None for a table, a share or a difference."""
    if limit.table or any(form.share or form.refers_to(limit) for form in limit.converting):
        return None

    def text(value: float | None) -> str:
        return "" if value is None else f"{value:.9g} {device.unit}".rstrip()

    return LimitEntry(
        least=text(limit.min), most=text(limit.max), word=limit.word, typical=text(limit.typical), copper_at_c=limit.copper_at_c,
        source=limit.source,
    )  # fmt: skip


def context_of(
    circuit: Circuit, readings: Sequence[Reading], temperature_c: float, device: Instrument, reading: Reading | None
) -> Context:
    """Where a limit of the circuit is judged by the readings."""

    def other(name: str) -> Compared:
        limit = circuit.document.limits[name]
        found = newest(readings, limit_test(circuit, limit, temperature_c))
        if found is None or found.value is None:
            return Compared(limit.title, "", None)
        return Compared(limit.title, reading_label(found), Measured(found.value, found.uncertainty))

    return Context(temperature_c, device.unit, reading is not None and reading.state == OVER, other)


def judge_limit(limit: Limit, reading: Reading, context: Context) -> Judged:
    """Convert the reading as the limit asks, then decide."""
    shown = reading_label(reading)
    measured = None if reading.value is None else Measured(reading.value, reading.uncertainty)
    for form in limit.converting:
        if measured is None:
            break
        try:
            measured, shown = form.convert(limit, measured, shown, context)
        except NotComparedError as error:
            return Judged(shown, None, str(error))
    found = limit.judging.judge(limit, measured, reading.state, context)
    return Judged(shown, found, _advice(found, reading) if found.decision == "in doubt" else "")


def newest(readings: Sequence[Reading], test: Test) -> Reading | None:
    """The last reading of a test; probes the other way round count, with the sign turned."""
    for reading in reversed(readings):
        other = reading.test
        if other.instrument != test.instrument or not _same_place(other.setup, test.setup):
            continue
        if (other.red, other.black) == (test.red, test.black):
            return reading
        if (other.black, other.red) == (test.red, test.black) and reading.value is not None:
            sign = 1.0 if reading.device.never_negative else -1.0
            return Reading(reading.id, test, sign * reading.value, None, reading.resolution, reading.present, reading.meter_error)
    return None


def _same_place(one: Setup, other: Setup) -> bool:
    return one.controls == other.controls and one.unplugged == other.unplugged


def _advice(judged: Conformity, reading: Reading) -> str:
    device = reading.device
    digit = reading.resolution > device.error_share * abs(reading.value or 0.0) + device.error_floor
    better = "Read one more digit" if digit else "Use a better range or a more exact meter"
    return f"Too close to the limit for this meter: it may be off by {format_si(judged.guard, device.unit)}. {better}."
