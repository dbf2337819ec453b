"""A vehicle of forty circuits with shared fuses, grounds, splices, references, connectors and modules is one network."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pytest

from sondar.circuit_files import library_circuits, library_vehicles, load_circuit_text, load_vehicle_text
from sondar.core.circuit.model import CHASSIS
from sondar.core.circuit.vehicle import VehicleNetwork
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.lookahead import rank_tests
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments import sensible_tests
from sondar.core.instruments.reading import Reading
from sondar.core.solving.fuses import blown_fuses
from sondar.core.solving.solver import SetupSolver
from sondar.simulators.vehicle import SimulatedVehicle

COPIES = 4


def copied(text: str, shared: set[str], number: int) -> str:
    """A circuit again with ids of its own, except for what the vehicle shares."""
    document = load_circuit_text(text)
    own = [*document.parts, *document.connectors, *document.wires, *document.symptoms]
    for name in sorted((n for n in own if n not in shared), key=len, reverse=True):
        text = re.sub(rf"(?<![\w.-]){re.escape(name)}(?=[.:,\s\]}}])", f"{name}q{number}", text)
    text = re.sub(r"(?m)^id: .*$", f"id: {document.id}-{number}", text)
    # Codes and cavities of shared plugs belong to the first copy; a copy has its own.
    return re.sub(r"(?ms)^(codes|symptoms|setups):\n(?:  .*\n?)*", "", text)


@pytest.fixture(scope="module")
def large() -> VehicleNetwork:
    vehicle = load_vehicle_text(library_vehicles()["orvane-lisk"])
    texts = {name: library_circuits()[name] for name in vehicle.circuits}
    # Plugs of modules are shared cavity by cavity: a copy would claim the same cavities, so it gets plugs of its own.
    shared = {n for n in vehicle.shared if not n.startswith("X") and not re.fullmatch(r"S\w*|W\d+", n)}
    circuits = {name: load_circuit_text(text) for name, text in texts.items()}
    for number in range(1, COPIES):
        for name, text in texts.items():
            circuits[f"{name}-{number}"] = load_circuit_text(copied(text, shared, number))
    owners: dict[str, set[str]] = {}
    for name, circuit in circuits.items():
        for section in (circuit.parts, circuit.modules, circuit.connectors, circuit.wires):
            for item in section:
                owners.setdefault(item, set()).add(name)
    both = {item: item for item, names in owners.items() if len(names) > 1}
    document = vehicle.model_copy(update={"circuits": list(circuits), "shared": {**both, **vehicle.shared}})
    return VehicleNetwork(document, circuits)


def test_forty_circuits_join(large: VehicleNetwork) -> None:
    assert len(large.circuits) == 40
    assert len(large.network.faults) > 1400
    most = max(len(names) for names in large.owners.values())
    assert most > 10, "something is shared by many circuits"


def test_one_solve_serves_them_all(large: VehicleNetwork) -> None:
    circuit = large.network
    setup = circuit.setup({"key": "on"})
    points = sorted({p.node for p in circuit.points.values() if p.when == "any"} - {CHASSIS})
    solver = SetupSolver(circuit, setup, [(n, CHASSIS) for n in points], samples=1)
    fuses = [
        f
        for f in circuit.faults.values()
        if circuit.document.parts.get(f.part, None) and f.mode == "open" and f.part.startswith("F")
    ]
    changes = [(), *(f.severities[0].changes for f in fuses)]
    volts = solver.solve(changes, blown_fuses(circuit, changes)).volts[0]
    assert np.isfinite(volts).all()
    assert np.abs(volts).max() < 16.0
    dead = (np.abs(volts[1:] - volts[0]) > 3.0).sum(axis=1)
    shared = [i for i, f in enumerate(fuses) if len(large.owners[f.part]) > 10]
    assert shared, "a fuse that feeds many circuits"
    assert dead[shared].max() >= 4, "one shared fuse darkens points in several circuits"


def test_forty_circuits_are_planned_as_one(large: VehicleNetwork) -> None:
    """Suspects of several circuits that a shared fuse and its branches could all explain: the plan finds the hidden one."""
    circuit = large.network
    fuse = max(
        (f for f in circuit.document.parts if circuit.document.parts[f].family == "fuse"), key=lambda f: len(large.owners[f])
    )
    nearby = {
        w for w, wire in circuit.document.wires.items() if wire.from_.startswith(f"{fuse}.") or wire.to.startswith(f"{fuse}.")
    }
    joined = {wire.to.split(".")[0] for w, wire in circuit.document.wires.items() if w in nearby}
    downstream = {w for w, wire in circuit.document.wires.items() if wire.from_.split(".")[0] in joined}
    only = frozenset(f.id for f in circuit.faults.values() if f.mode == "open" and f.part in {fuse, *nearby, *downstream})
    assert len({owner for fault in only for owner in large.owners.get(circuit.faults[fault].part, ())}) > 3, "several circuits"
    predictor = Predictor(circuit, instruments=("voltmeter",), only=only, samples=3)
    hidden = next(f for f in sorted(only) if circuit.faults[f].part in downstream)
    vehicle = SimulatedVehicle(circuit, [(hidden, None)], seed=2)
    situation, readings = Situation(circuit.rest_setup(), most_setups=3), list[Reading]()
    plan = rank_tests(predictor, update(predictor, readings), situation)
    while not plan.settled:
        assert len(readings) < 10, "no call in sight"
        test = plan.proposals[0].test
        readings.append(Reading(str(len(readings)), test, *vehicle.measure(test.instrument, test.red, test.black, test.setup)))
        situation = replace(situation, setup=test.setup, done=situation.done | {test})
        plan = rank_tests(predictor, update(predictor, readings), situation)
    assert circuit.faults[hidden].unit in plan.leading, plan.leading
    assert plan.certainty > 0.9


def test_a_plan_of_a_whole_vehicle_keeps_to_tests_that_tell(large: VehicleNetwork) -> None:
    circuit = large.network
    only = frozenset(sorted(f.id for f in circuit.faults.values() if f.mode == "open" and f.group == "wiring")[:6])
    told = Predictor(circuit, instruments=("voltmeter",), only=only, samples=2)
    rest = circuit.setup({"key": "on"})
    assert len(told.setup(rest).tests) < len(sensible_tests(circuit, rest, frozenset({"voltmeter"}))) / 2
    assert {s.fault for s in told.hypotheses.suspects[1:-1]} <= only
