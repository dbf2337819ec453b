"""Ohmmeter: only on a dead circuit; a parallel path reads low, voltage spoils the figure."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test, one_hot, probes_sentence

CEILING_OHM = 4e7
LIVE_V, LIVE_LOAD_OHM = 0.05, 1e6
"""Voltage across the ohmmeter's own input above which its figure means nothing; leakage through 1 GΩ is not enough."""

OVER, LIVE = "OL", "voltage present"


class Ohmmeter(Instrument):
    """Resistance between two points of a circuit without supply."""

    id = "ohmmeter"
    title = "Ohmmeter"
    unit = "Ω"
    minutes = 0.5
    words = (OVER, LIVE)
    synonyms = {
        "o.l": OVER, "o.l.": OVER, "0l": OVER, "over": OVER, "inf": OVER, "open": OVER, "live": LIVE, "volts present": LIVE, "voltage": LIVE,
    }  # fmt: skip
    log_scale = True
    error_share = 0.008
    error_floor = 0.2
    span = 9.5
    no_contact = OVER
    ordinary = True
    query = "MEAS:RES?"
    accuracy_of = "ohms"
    caution = "Resistance only on a dead circuit: key off, no supply on the section."
    decimals = 3
    never_negative = True
    live_word = LIVE
    dead_circuit = True

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        if not access.is_key_off(setup):
            return
        dependable = access.dependable_in_ohms(setup)
        yield from (pair for pair in access.component_pairs(setup) if set(pair) <= dependable)
        yield from ((p.ref, access.black) for p in access.reachable(setup) if p.connector is not None and p.ref in dependable)

    def why_not(self, access: Access, test: Test) -> str:
        if not access.is_key_off(test.setup):
            return "Resistance is measured on a dead circuit: key off first."
        return "Through a module's transistors, or beside one, an ohmmeter shows nothing dependable. Use the voltmeter."

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        points = solved.at([_pair(population.circuit, test) for test in tests]).states[0]
        live = np.abs(points.volts) * LIVE_LOAD_OHM / (LIVE_LOAD_OHM + points.ohms) > LIVE_V
        return Observation(points.ohms, one_hot((points.ohms > CEILING_OHM) & ~live, live))

    def where(self, circuit: Circuit, test: Test) -> str:
        return probes_sentence(circuit, test)


def _pair(circuit: Circuit, test: Test) -> tuple[str, str]:
    return circuit.point(test.red).node, circuit.point(test.black).node
