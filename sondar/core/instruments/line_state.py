"""Line state: a powered probe pulls a line weakly both ways and sees whether something drives it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test, one_hot, probes_sentence

HIGH_V, LOW_V, FLOATS_OHM = 7.0, 1.0, 5e4
"""10 kΩ to either rail in turn (at most 1.4 mA): what follows both pulls floats, what follows neither is driven."""

DRIVEN, PULLED, BETWEEN, FLOATING = "driven high", "pulled low", "between", "floating"


class LineState(Instrument):
    """Is a control line driven high, pulled low, or floating?"""

    id = "line-state"
    title = "Line state"
    words = (DRIVEN, PULLED, BETWEEN, FLOATING)
    synonyms = {"held high": DRIVEN, "high": DRIVEN, "low": PULLED, "floats": FLOATING, "float": FLOATING, "follows": FLOATING}
    figures = False
    no_contact = FLOATING

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        for point in access.test_points(setup):
            if access.is_delicate(point) and point.connector in setup.unplugged:
                yield point.ref, access.black

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit = population.circuit
        points = solved.at([(circuit.point(t.red).node, circuit.point(t.black).node) for t in tests]).states[0]
        floats = points.ohms > FLOATS_OHM
        high, low = points.volts > HIGH_V, points.volts < LOW_V
        return Observation(words=one_hot(high & ~floats, low & ~floats, ~high & ~low & ~floats, floats))

    def where(self, circuit: Circuit, test: Test) -> str:
        return f"Powered probe, line state. {probes_sentence(circuit, test)}"
