"""Set-ups and tests for the outside."""

from __future__ import annotations

from pydantic import BaseModel, Field

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Instrument, Test


class SetupView(BaseModel):
    """A set-up in words and fields."""

    controls: dict[str, str]
    unplugged: list[str]
    temperature_c: float
    text: str


class WordView(BaseModel):
    """A word that an instrument can show: what is recorded, and what its button says."""

    word: str
    label: str


class InstrumentView(BaseModel):
    """An instrument as the screen needs it."""

    id: str
    title: str
    unit: str
    words: list[WordView]
    figures: bool = Field(description="It shows figures; else words only.")
    probes: bool = Field(description="It has two probes that touch points; else it looks at one of its targets.")
    recorded: bool = Field(description="It comes with live data: what is read off their recording.")
    logged: bool = Field(description="A bench meter that is connected can log it.")
    accuracy_of: str = Field(description="Which accuracy of the workshop's meters applies: volts, ohms, or empty.")


class TestView(BaseModel):
    """A test: instrument, probes, set-up."""

    __test__ = False

    instrument: str
    instrument_title: str
    unit: str
    red: str
    red_title: str
    black: str
    black_title: str
    where: str = Field(description="Where the probes go, or what is looked at, in a sentence.")
    probes: bool = Field(description="It has two probes; else it looks at a part, a wire or a module's value.")
    recorded: bool = Field(description="It is read off a recording of live data while something is commanded.")
    setup: SetupView


def setup_view(setup: Setup) -> SetupView:
    """A set-up for the outside."""
    return SetupView(
        controls=dict(setup.controls), unplugged=sorted(setup.unplugged), temperature_c=setup.temperature_c, text=setup.describe()
    )


def instrument_view(device: Instrument) -> InstrumentView:
    """An instrument for the outside."""
    return InstrumentView(
        id=device.id, title=device.title, unit=device.unit, words=[WordView(word=w, label=device.label(w)) for w in device.words],
        figures=device.figures, probes=device.probes, recorded=device.recorded,
        logged=device.figures and bool(device.query), accuracy_of=device.accuracy_of,
    )  # fmt: skip


def test_view(circuit: Circuit, test: Test) -> TestView:
    """A test for the outside."""
    device = instrument(test.instrument)
    return TestView(
        instrument=device.id, instrument_title=device.title, unit=device.unit, red=test.red, red_title=circuit.point(test.red).title,
        black=test.black, black_title=circuit.point(test.black).title, where=device.where(circuit, test), probes=device.probes,
        recorded=device.recorded, setup=setup_view(test.setup),
    )  # fmt: skip


test_view.__test__ = False  # type: ignore[attr-defined]
