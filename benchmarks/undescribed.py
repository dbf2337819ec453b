"""Vehicles that nobody has described: how far typical circuits carry, and what knowing the published figures is worth.

The truth is drawn apart from what judges it: a typical circuit whose every open figure is drawn over the whole of its range, wires of any
length, and in 30 % another structure than the one drawn: half of these one of the variants that the file knows, the rest something no
file knows of (a pull resistor ten times off, a return that goes to ground beside the module, too, a resistor in a signal line, a second
load on it). Faults come from the trade's list (``catalogue``). A technician does what
is proposed, once with the typical circuit and once with the published figures filled in. Run: ``./run bench undescribed``
(``--cases 600 --seed 1``).
"""

from __future__ import annotations

import argparse
import copy
import json
import multiprocessing
import time
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from benchmarks.catalogue import troubles
from benchmarks.technician import Outcome, by_plan, follow_vehicle
from benchmarks.worlds import LIMIT, TOOLS, RealVehicle, is_seen, lower_bound, upper_bound
from sondar.code_library import circuit_templates
from sondar.core.circuit.document.checks import read_document, variants_of
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.document.variants import patched
from sondar.core.circuit.families.doubts import as_range
from sondar.core.circuit.network import Circuit
from sondar.core.describing.building import MODULE_PLUG
from sondar.core.describing.templates import circuit_document
from sondar.core.diagnosis.look_ups import LookUp
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.variants import Way
from sondar.core.errors import SondarError
from sondar.simulators.vehicle import Conditions, SimulatedVehicle

OTHER_STRUCTURE = 0.3
KNOWN_TO = 0.05
"""Half-width of a published figure, as a share of it."""


@dataclass(frozen=True)
class Case:
    """A vehicle and what is known of it: nothing but the kind of circuit, or the published figures too."""

    template: str
    structure: str
    kind: str
    units: frozenset[str]
    vehicle: SimulatedVehicle
    typical: CircuitDocument
    published: dict[str, Any]


def _figures(data: dict[str, Any]) -> dict[tuple[str, str], tuple[float, float]]:
    found = {}
    for name, part in data["parts"].items():
        for field, value in part.items():
            if isinstance(value, str) and value[:1].isdigit() and " to " in value and (ends := as_range(field, value)):
                found[name, field] = ends
    return found


def _other_structure(data: dict[str, Any], rng: np.random.Generator) -> tuple[str, dict[str, Any]]:
    """A circuit built otherwise than drawn: half the time one of the usual other ways, else one that no file knows of.

    Returns what is different, empty if nothing could be, and the data.
    """
    usual = list(data.get("variants", {}))
    if usual and rng.random() < 0.5:
        name = str(rng.choice(usual))
        return name, patched(data, data["variants"][name])
    data = copy.deepcopy(patched(data, {}))
    inputs = [part for part in data["parts"].values() if part["family"] == "module_input" and part.get("supply_v", 5) in (5, 12)]
    ways = ["outside: pull ten times off"] if inputs else []
    cavities = data.get("connectors", {}).get(MODULE_PLUG, {}).get("cavities", {})
    returns = [
        wire
        for wire in data["wires"].values()
        if str(cavities.get(wire["from"].removeprefix(f"{MODULE_PLUG}."), "")).endswith(".gnd")
    ]
    if returns:
        ways.append("outside: return to ground")
    signals = [
        name
        for name, wire in data["wires"].items()
        if wire["from"] in _signal_ends(cavities) or wire["to"] in _signal_ends(cavities)
    ]
    if signals:
        ways += ["outside: resistor in the line", "outside: second load on the line"]
    if not ways:
        return "", data
    way = str(rng.choice(ways))
    if way.endswith("return to ground"):
        back = returns[rng.integers(len(returns))]
        data["wires"]["WG"] = {**back, "from": back["to"], "to": "G2.stud"}
    elif way.endswith("ten times off"):
        part = inputs[rng.integers(len(inputs))]
        part["pull_ohm"] = float(part["pull_ohm"]) * float(rng.choice([0.1, 10.0]))
    else:
        name = signals[rng.integers(len(signals))]
        wire = data["wires"][name]
        ohms = float(10.0 ** rng.uniform(1.5, 3.7))
        data["parts"]["RX"] = {"family": "resistor", "title": "Not on the drawing", "resistance_ohm": ohms}
        if way.endswith("in the line"):
            data["wires"]["WX"] = {**wire, "from": "RX.2"}
            data["wires"][name] = {**wire, "to": "RX.1"}
        else:
            data["wires"]["WX"] = {**wire, "to": "RX.1"}
            data["joins"] = [*data["joins"], ["RX.2", "chassis"]]
    return way, data


def _signal_ends(cavities: dict[str, Any]) -> set[str]:
    return {f"{MODULE_PLUG}.{cavity}" for cavity, target in cavities.items() if str(target).endswith(".pin")}


def draw(template: str, rng: np.random.Generator) -> Case:
    """A vehicle on one kind of circuit, drawn again until its fault can be seen at all."""
    item = circuit_templates()[template]
    while True:
        true, published = circuit_document(item, {"make": "Brigg"}), circuit_document(item, {"make": "Brigg"})
        for (name, field), ends in _figures(true).items():
            figure = float(np.exp(rng.uniform(*np.log(ends))))
            true["parts"][name][field] = figure
            published["parts"][name][field] = f"{figure * (1 - KNOWN_TO):.6g} to {figure * (1 + KNOWN_TO):.6g}"
        for wire in true["wires"].values():
            wire["length_m"] *= float(10.0 ** rng.uniform(-0.5, 0.5))
        structure = ""
        if rng.random() < OTHER_STRUCTURE:
            structure, true = _other_structure(true, rng)
        described = read_document(circuit_document(item, {"make": "Brigg"}))
        try:
            document = read_document(true)
        except SondarError:
            continue  # figures that no part can have together
        listed = troubles(Circuit(document))
        weights = np.array([trouble.weight for trouble in listed])
        trouble = listed[int(rng.choice(len(listed), p=weights / weights.sum()))]
        if not trouble.units & set(Circuit(described).units):
            continue  # a part that no description has: that the place is off the drawing is another benchmark
        changes = trouble.draw(rng)
        real = RealVehicle(document, trouble.paths)
        try:
            if not is_seen(Circuit(document), real, changes, 20.0):
                continue
        except SondarError:
            continue
        parts = {change.branch if change.branch in real.parts else change.branch.rsplit(".", 1)[0] for change in changes}
        places = [next(f.id for f in real.faults.values() if f.part == part) for part in sorted(parts & set(real.parts))]
        conditions = Conditions(volt_gain=float(rng.uniform(0.99, 1.01)), lead_ohm=float(rng.uniform(0.0, 0.3)))
        vehicle = SimulatedVehicle(real, [], int(rng.integers(1 << 30)), changes, places, conditions)
        return Case(template, structure, trouble.kind, trouble.units, vehicle, described, published)


class Sheet:
    """The maker's documents, in which one figure after the other is looked up."""

    def __init__(self, case: Case) -> None:
        self._case = case
        self._known = circuit_document(circuit_templates()[case.template], {"make": "Brigg"})

    def __call__(self, wanted: LookUp) -> tuple[Predictor, Sequence[Way]]:
        """The circuit with everything looked up so far."""
        self._known["parts"][wanted.part][wanted.field] = self._case.published["parts"][wanted.part][wanted.field]
        data = copy.deepcopy(self._known)
        return Predictor(Circuit(read_document(data)), instruments=TOOLS), ways_of(data)


def ways_of(data: dict[str, Any]) -> list[Way]:
    """Other ways in which a circuit may be built, as its file has them."""
    return [
        Way(name, variant.title, variant.share, Predictor(Circuit(document), instruments=TOOLS))
        for name, (variant, document) in variants_of(data).items()
    ]


def run_template(task: tuple[str, int, int]) -> list[tuple[str, str, dict[str, Outcome]]]:
    """All cases of one kind of circuit: what was done to its structure, and the outcome by what was known."""
    template, count, seed = task
    rng = np.random.default_rng([seed, *template.encode()])
    typical = Predictor(
        Circuit(read_document(circuit_document(circuit_templates()[template], {"make": "Brigg"}))), instruments=TOOLS
    )
    ways = ways_of(circuit_document(circuit_templates()[template], {"make": "Brigg"}))
    rows = []
    for _ in range(count):
        case = draw(template, rng)
        published = Predictor(Circuit(read_document(case.published)), instruments=TOOLS)
        found = {
            known: follow_vehicle(predictor, case.vehicle, [case.units], by_plan, LIMIT, ways=others, published=sheet)
            for known, predictor, others, sheet in (
                ("typical circuit", typical, ways, None),
                ("figures looked up where it pays", typical, ways, Sheet(case)),
                ("published figures", published, ways_of(case.published), None),
            )
        }
        rows.append((f"{template} {case.kind}", case.structure, found))
    return rows


def kind_of(structure: str) -> str:
    """Whether the vehicle was built as drawn, in a way that the file knows, or otherwise."""
    return "as drawn" if not structure else "off the drawing" if structure.startswith("outside") else "a known variant"


def table(outcomes: list[Outcome]) -> dict[str, object]:
    """Figures of one kind of knowledge."""
    n = len(outcomes)
    right, wrong = sum(o.right for o in outcomes), sum(o.condemns and not o.right for o in outcomes)
    return {
        "cases": n, "right": f"{right / n:.1%} (≥ {lower_bound(right, n):.1%})",
        "wrong at 95 %": f"{wrong / n:.1%} (≤ {upper_bound(wrong, n):.1%})",
        "inconclusive": f"{sum(not o.condemns and not o.cleared for o in outcomes) / n:.1%}",
        "no fault found": f"{sum(o.cleared for o in outcomes) / n:.1%}", "mean minutes": round(float(np.mean([o.minutes for o in outcomes])), 1),
    }  # fmt: skip


def main() -> None:
    """Run and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cases", type=int, default=600)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--list", action="store_true", help="print every case that is not right")
    arguments = parser.parse_args()
    names = list(circuit_templates())
    tasks = [
        (name, arguments.cases // len(names) + (place < arguments.cases % len(names)), arguments.seed)
        for place, name in enumerate(names)
    ]
    begun = time.perf_counter()
    by_knowledge: dict[str, list[Outcome]] = defaultdict(list)
    with multiprocessing.get_context("spawn").Pool(2, maxtasksperchild=4) as pool:
        for done in pool.imap_unordered(run_template, [task for task in tasks if task[1]], chunksize=1):
            for name, other, found in done:
                for known, outcome in found.items():
                    by_knowledge[known].append(outcome)
                    by_knowledge[f"{known}, {kind_of(other)}"].append(outcome)
                    if arguments.list and not outcome.right:
                        state = "WRONG" if outcome.condemns else "cleared" if outcome.cleared else "open"
                        print(
                            f"{known}: {name}{f' ({other})' if other else ''}: {state} {'+'.join(outcome.called)}",
                            flush=True,
                        )
    for known in sorted(by_knowledge):
        print(known, json.dumps(table(by_knowledge[known]), ensure_ascii=False))
    print(f"{time.perf_counter() - begun:.0f} s")


if __name__ == "__main__":
    main()
