"""Properties every operating point must have, on random circuits and on all the circuits we have."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sondar.core.circuit.model import CHASSIS, Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.curves import CURVES
from sondar.core.solving.fuses import blown_fuses
from sondar.core.solving.ports import LEAK_SIEMENS
from sondar.core.solving.solver import SetupSolver
from tests.conftest import circuit_of

HEAD = "sondar: 1\nid: t\ntitle: t\nvehicle: {make: Brigg}\njoins: [[BAT.neg, chassis]]\n"

ohms = st.floats(min_value=0.05, max_value=5e4)
ladders = st.lists(st.tuples(ohms, ohms), min_size=1, max_size=6)


def ladder(rungs: list[tuple[float, float]], battery_v: float = 12.0) -> Circuit:
    """A ladder of series and shunt resistors: every node has several branches."""
    parts = [f"  BAT: {{family: battery, rest_v: {battery_v}, internal_ohm: 0.02}}"]
    wires, previous = [], "BAT.pos"
    for i, (series, shunt) in enumerate(rungs):
        parts += [
            f"  A{i}: {{family: resistor, resistance_ohm: {series}, access_min: 1}}",
            f"  B{i}: {{family: resistor, resistance_ohm: {shunt}, access_min: 1}}",
        ]
        wires += [
            f"  W{i}: {{from: {previous}, to: A{i}.1}}",
            f"  V{i}: {{from: A{i}.2, to: B{i}.1}}",
            f"  G{i}: {{from: B{i}.2, to: chassis}}",
        ]
        previous = f"B{i}.1"
    return circuit_of(HEAD + "parts:\n" + "\n".join(parts) + "\nwires:\n" + "\n".join(wires) + "\n")


def node_volts(circuit: Circuit, setup: Setup, changes: tuple[Change, ...] = ()) -> dict[str, float]:
    nodes = sorted({n for b in circuit.branches(setup) for n in (b.a, b.b)} - {CHASSIS})
    solver = SetupSolver(circuit, setup, [(n, CHASSIS) for n in nodes], samples=1)
    found = solver.solve([changes], blown_fuses(circuit, [changes]))
    return {CHASSIS: 0.0, **dict(zip(nodes, found.volts[0, 0], strict=True))}


def residual_amps(circuit: Circuit, setup: Setup, volts: dict[str, float]) -> tuple[float, float]:
    """Largest sum of currents into a node that is not zero (healthy linear branches and curves), and the largest current."""
    total: dict[str, float] = dict.fromkeys(volts, 0.0)
    largest = 0.0
    for branch in circuit.branches(setup):
        across = volts[branch.a] - volts[branch.b]
        if branch.curve is not None:
            amps = float(CURVES[branch.curve.kind](np.array(across), *(np.float64(p) for p in branch.curve.parameters))[0])
        elif branch.contact is not None or not np.isfinite(branch.resistance_ohm):
            continue
        else:
            amps = (across - branch.emf_v) / branch.resistance_ohm
        largest = max(largest, abs(amps))
        total[branch.a] -= amps
        total[branch.b] += amps
    for node in total:
        total[node] -= LEAK_SIEMENS * volts[node]
    return max(abs(v) for n, v in total.items() if n != CHASSIS), largest


@settings(max_examples=40, deadline=None)
@given(ladders)
def test_currents_into_every_node_sum_to_zero(rungs: list[tuple[float, float]]) -> None:
    circuit = ladder(rungs)
    wrong, largest = residual_amps(circuit, circuit.rest_setup(), node_volts(circuit, circuit.rest_setup()))
    assert wrong < 1e-8 * max(largest, 1.0)


@pytest.mark.parametrize("setup", [{}, {"key": "run", "brake": "pressed", "wash": "on"}])
def test_currents_sum_to_zero_with_lamps_and_motors(latch: Circuit, setup: dict[str, str]) -> None:
    made = latch.setup(setup)  # the relay is out, so its contact carries nothing
    wrong, largest = residual_amps(latch, made, node_volts(latch, made))
    assert wrong < 1e-6 * max(largest, 1.0)


@settings(max_examples=25, deadline=None)
@given(ladders, st.floats(min_value=0.2, max_value=3.0))
def test_a_linear_circuit_scales_with_its_supply(rungs: list[tuple[float, float]], factor: float) -> None:
    once = node_volts(ladder(rungs), ladder(rungs).rest_setup())
    scaled = node_volts(ladder(rungs, 12.0 * factor), ladder(rungs).rest_setup())
    for node, value in once.items():
        assert scaled[node] == pytest.approx(factor * value, rel=1e-9, abs=1e-9)


def test_every_fault_agrees_with_building_the_faulty_circuit_anew(latch: Circuit) -> None:
    """The low-rank update against assembling and solving the changed matrix from scratch, for each linear fault."""
    setup = latch.setup({"key": "run", "wash": "on"})
    ground = latch.node("BAT.neg")
    pairs = [(p.node, ground) for p in latch.points.values() if p.node != ground]
    faults = [s.changes for f in latch.faults.values() for s in f.severities]
    together = SetupSolver(latch, setup, pairs, samples=1).solve(faults)
    for index, changes in enumerate(faults):
        change = changes[0]
        if len(changes) > 1 or change.blocks or change.curve_parameters or change.branch.startswith(("K9", "H1", "M1")):
            continue
        alone = _rebuilt(latch, setup, pairs, change)
        assert np.abs(together.volts[0, index] - alone.volts[0, 0]).max() < 1e-4, change
        ratio = together.ohms[0, index] / alone.ohms[0, 0]
        assert np.abs(ratio - 1.0).max() < 1e-4, change


def _rebuilt(circuit: Circuit, setup: Setup, pairs: list[tuple[str, str]], change: Change):  # type: ignore[no-untyped-def]
    solver = SetupSolver(circuit, setup, pairs, samples=1)
    index = solver.by_id.get(change.branch)
    if index is not None:
        branch = solver.branches[index]
        if change.emf_v is not None:
            solver.branches[index] = type(branch)(**{**branch.__dict__, "emf_v": change.emf_v or 1e-12})
        else:
            before = solver.sampled_resistance[:, index]
            after = (
                change.set_ohm
                if change.set_ohm is not None
                else before + change.add_ohm
                if change.add_ohm
                else before * (change.scale or 1)
            )
            solver.sampled_resistance[:, index] = after
    return solver.solve([()])
