"""Expected values and waveforms for the outside."""

from __future__ import annotations

from pydantic import BaseModel, Field

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.expected_values import ExpectedValues
from sondar.core.diagnosis.hypotheses import NONE
from sondar.core.diagnosis.waveform import Waveform
from sondar.core.quantities import format_si
from sondar.core.wording.labels import fault_title

FLOATS = "floats"


class ExpectedOverlay(BaseModel):
    """Predicted voltages against the black reference."""

    title: str
    values: dict[str, str] = Field(description="Point -> label.")


class WaveformView(BaseModel):
    """What an oscilloscope would draw: corners as (milliseconds, volts)."""

    frequency_hz: float = Field(description="0 if nothing pulses here.")
    healthy: list[tuple[float, float]]
    suspect: list[tuple[float, float]]
    suspect_title: str


def overlay_view(circuit: Circuit, found: ExpectedValues) -> ExpectedOverlay:
    """Expected values with their labels."""
    title = "Healthy" if found.suspect.unit == NONE else fault_title(circuit, found.suspect)
    values = {ref: FLOATS if volts is None else format_si(volts, "V") for ref, volts in found.volts.items()}
    return ExpectedOverlay(title=title, values=values)


def waveform_view(circuit: Circuit, found: Waveform) -> WaveformView:
    """A waveform with the name of the suspect."""
    return WaveformView(
        frequency_hz=found.frequency_hz, healthy=found.healthy, suspect=found.suspect, suspect_title=fault_title(circuit, found.suspected)
    )  # fmt: skip
