"""What a healthy vehicle may show is never spread beyond what its battery, its parts and its open lines explain."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.code_library import circuit_templates, circuit_text
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.operating_points import SAMPLES
from sondar.core.solving.solver import solve_waves

TEXTS = {
    **library_circuits(),
    **{f"typical {name}": circuit_text(item, {"make": "Brigg"}) for name, item in circuit_templates().items()},
}
MOST_V = 4.0
"""Half of a usual signal: a battery may be weak, and a line that floats may stand anywhere near."""


@pytest.mark.parametrize("name", TEXTS)
def test_no_voltage_of_a_healthy_vehicle_is_spread_beyond_reason(name: str) -> None:
    circuit = Circuit(load_circuit_text(TEXTS[name]))
    black = circuit.point(circuit.black_reference).node
    refs = [ref for ref in circuit.points if circuit.point(ref).node != black]
    pairs = [(circuit.point(ref).node, black) for ref in refs]
    for state in circuit.usual_states()[:8]:
        for apart in (frozenset[str](), *(frozenset((name,)) for name in circuit.document.connectors)):
            setup = Setup(state, apart)
            if circuit.impossible(setup):
                continue
            waves = solve_waves(
                circuit, setup, pairs, [()], np.zeros((1, len(_fuses(circuit, setup))), dtype=bool), samples=SAMPLES
            )
            for points in waves.states:
                spread = points.volts[:, 0, :].std(axis=0)
                worst = int(np.argmax(spread))
                assert spread[worst] < MOST_V, f"{refs[worst]} in {dict(state)}, {set(apart)}: ±{spread[worst]:.1f} V"


def _fuses(circuit: Circuit, setup: Setup) -> list[str]:
    return [branch.id for branch in circuit.branches(setup) if branch.fuse_rating_a is not None]
