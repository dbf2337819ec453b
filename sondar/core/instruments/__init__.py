"""Instruments: from what is in the circuit to what a person sees.

``base`` says what every instrument is; each file beside it is one instrument or a few of a kind; this list is the only place that
names them all. ``access`` knows what may be touched, ``displays`` solves once for all of them.
"""

from __future__ import annotations

from collections.abc import Iterable

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.errors import UnknownReferenceError
from sondar.core.former_names import current_id
from sondar.core.instruments import displays as _displays
from sondar.core.instruments.ac_voltmeter import AcVoltmeter
from sondar.core.instruments.access import access_of
from sondar.core.instruments.applied_probe import AppliedGround, AppliedSupply
from sondar.core.instruments.base import Display, Instrument, Population, Test
from sondar.core.instruments.cleaning import Cleaning
from sondar.core.instruments.current_clamp import CurrentClamp
from sondar.core.instruments.functional_check import FunctionalCheck
from sondar.core.instruments.leads import LeadsTogether
from sondar.core.instruments.led_probe import LedProbe
from sondar.core.instruments.line_state import LineState
from sondar.core.instruments.live_data import LiveData
from sondar.core.instruments.loaded_circuit_test import LoadedCircuitTest
from sondar.core.instruments.loaded_voltmeter import LoadedVoltmeter
from sondar.core.instruments.module_communication import ModuleCommunication
from sondar.core.instruments.new_fuse import NewFuse
from sondar.core.instruments.ohmmeter import Ohmmeter
from sondar.core.instruments.oscilloscope import ScopeBottom, ScopeTop
from sondar.core.instruments.reference_gauge import ReferenceGauge
from sondar.core.instruments.response import ResponseDelay, ResponseTime
from sondar.core.instruments.signal_meters import DutyMeter, FrequencyMeter
from sondar.core.instruments.substitution import Substitution
from sondar.core.instruments.temperature_tests import ColdTest, HeatTest
from sondar.core.instruments.test_lamp import LargeTestLamp, SmallTestLamp
from sondar.core.instruments.thermometer import Thermometer
from sondar.core.instruments.visual_inspection import VisualInspection
from sondar.core.instruments.voltmeter import Voltmeter
from sondar.core.instruments.wiggle_test import WiggleTest

INSTRUMENTS: dict[str, Instrument] = {
    item.id: item
    for item in (
        Voltmeter(), Ohmmeter(), SmallTestLamp(), LargeTestLamp(), FunctionalCheck(), VisualInspection(), ModuleCommunication(), LiveData(),
        CurrentClamp(), LedProbe(), LoadedCircuitTest(), LineState(), AppliedGround(), AppliedSupply(), AcVoltmeter(), FrequencyMeter(),
        DutyMeter(), ScopeTop(), ScopeBottom(), WiggleTest(), HeatTest(), ColdTest(), Substitution(), Cleaning(), ReferenceGauge(),
        Thermometer(), LeadsTogether(), NewFuse(), LoadedVoltmeter(), ResponseTime(), ResponseDelay(),
    )
}  # fmt: skip
"""Every instrument by its id, in the order of lists."""

__all__ = [
    "INSTRUMENTS", "ORDINARY", "Display", "FunctionalCheck", "Instrument", "LiveData", "Population", "ResponseDelay", "ResponseTime", "Test",
    "at_hand", "displays", "instrument", "looking_at", "sensible_tests",
]  # fmt: skip

ORDINARY = tuple(name for name, item in INSTRUMENTS.items() if item.ordinary)
"""What every workshop has at hand."""


BREAK_OUT_LEADS = "break-out-leads"
OTHER_TOOLS: dict[str, str] = {BREAK_OUT_LEADS: "Break-out leads for sealed connectors"}
"""Tools that show nothing themselves, with their titles: without them some tests are not proposed."""


def at_hand(tools: Iterable[str]) -> tuple[str, ...]:
    """Instruments that come with some tools, by ids of today: where live data can be seen, they can be recorded."""
    found = dict.fromkeys(current_id(tool) for tool in tools if tool not in OTHER_TOOLS)
    if LiveData.id in found:
        found |= dict.fromkeys(name for name, item in INSTRUMENTS.items() if item.recorded)
    return tuple(found)


def instrument(name: str) -> Instrument:
    """The instrument of that id, or of a former one.

    Raises:
        UnknownReferenceError: not one of ``INSTRUMENTS``.
    """
    found = INSTRUMENTS.get(current_id(name))
    if found is None:
        raise UnknownReferenceError("instrument", name, list(INSTRUMENTS))
    return found


def sensible_tests(circuit: Circuit, setup: Setup, instruments: frozenset[str] | None = None) -> list[Test]:
    """All sensible tests in a set-up, instrument by instrument; of tests of one instrument between the same nodes the quickest to reach."""
    access = access_of(circuit)
    found: list[Test] = []
    for name, device in INSTRUMENTS.items():
        if instruments is not None and name not in instruments:
            continue
        kept: dict[frozenset[str], tuple[float, Test]] = {}
        for red, black in device.offers(access, setup):
            nodes = frozenset((circuit.node(red), circuit.node(black))) if device.probes else frozenset((red,))
            minutes = circuit.point(red).access_min + circuit.point(black).access_min
            if (len(nodes) == 2 or not device.probes) and (nodes not in kept or minutes < kept[nodes][0]):
                kept[nodes] = (minutes, Test(name, red, black, setup))
        found += [test for _, test in kept.values()]
    return found


def looking_at(circuit: Circuit, ref: str) -> list[Instrument]:
    """Instruments without probes that can look at a target."""
    return [device for device in INSTRUMENTS.values() if not device.probes and device.looks_at(circuit, ref)]


def displays(population: Population, tests: list[Test] | tuple[Test, ...]) -> dict[str, Display]:
    """Display (H, P) per instrument over that instrument's tests, in their order; one solve for all that read volts or amperes."""
    return _displays.displays_of(INSTRUMENTS, population, tests)
