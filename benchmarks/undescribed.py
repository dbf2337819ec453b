"""Vehicles that nobody has described: how far typical circuits carry, and what knowing the published figures is worth.

The truth is drawn apart from what judges it: a typical circuit whose every open figure is drawn over the whole of its range, wires of any
length, and in 30 % a structure that the template does not have (an input pulled the other way, a pull resistor ten times off, a supply
that is permanent, a return that goes to ground beside the module, too). Faults come from the trade's list (``catalogue``). A technician does what
is proposed, once with the typical circuit and once with the published figures filled in. Run: ``./run bench undescribed``
(``--cases 600 --seed 1``).
"""

from __future__ import annotations

import argparse
import json
import multiprocessing
import time
from collections import defaultdict
from dataclasses import dataclass
from typing import Any

import numpy as np

from benchmarks.catalogue import troubles
from benchmarks.technician import Outcome, by_plan, follow_vehicle
from benchmarks.worlds import LIMIT, TOOLS, RealVehicle, is_seen, lower_bound, upper_bound
from sondar.code_library import circuit_templates
from sondar.core.circuit.document.checks import read_document
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.families.doubts import as_range
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import SondarError
from sondar.core.templates import MODULE_PLUG, circuit_document
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
    published: CircuitDocument


def _figures(data: dict[str, Any]) -> dict[tuple[str, str], tuple[float, float]]:
    found = {}
    for name, part in data["parts"].items():
        for field, value in part.items():
            if isinstance(value, str) and value[:1].isdigit() and " to " in value and (ends := as_range(field, value)):
                found[name, field] = ends
    return found


def _other_structure(data: dict[str, Any], rng: np.random.Generator) -> str:
    """Change the structure of a circuit into one that the template does not have; what was done, empty if nothing could be."""
    inputs = [part for part in data["parts"].values() if part["family"] == "module_input" and part.get("supply_v", 5) in (5, 12)]
    ways = ["pull the other way", "pull ten times off"] if inputs else []
    if "IGN" in data["parts"]:
        ways.append("permanent supply")
    cavities = data.get("connectors", {}).get(MODULE_PLUG, {}).get("cavities", {})
    returns = [
        wire
        for wire in data["wires"].values()
        if str(cavities.get(wire["from"].removeprefix(f"{MODULE_PLUG}."), "")).endswith(".gnd")
    ]
    if returns:
        ways.append("return to ground")
    if not ways:
        return ""
    way = str(rng.choice(ways))
    if way == "permanent supply":
        data["parts"]["IGN"]["closed_when"] = {"key": ["off", "on", "run"]}
    elif way == "return to ground":
        back = returns[rng.integers(len(returns))]
        data["wires"]["WG"] = {**back, "from": back["to"], "to": "G2.stud"}
    else:
        part = inputs[rng.integers(len(inputs))]
        if way == "pull the other way":
            part["pull"] = "down" if part["pull"] == "up" else "up"
        else:
            part["pull_ohm"] = float(part["pull_ohm"]) * float(rng.choice([0.1, 10.0]))
    return way


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
        structure = _other_structure(true, rng) if rng.random() < OTHER_STRUCTURE else ""
        described = read_document(circuit_document(item, {"make": "Brigg"}))
        document = read_document(true)
        listed = troubles(Circuit(document))
        weights = np.array([trouble.weight for trouble in listed])
        trouble = listed[int(rng.choice(len(listed), p=weights / weights.sum()))]
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
        return Case(template, structure, trouble.kind, trouble.units, vehicle, described, read_document(published))


def run_template(task: tuple[str, int, int]) -> list[tuple[str, bool, dict[str, Outcome]]]:
    """All cases of one kind of circuit: what was done to its structure, and the outcome by what was known."""
    template, count, seed = task
    rng = np.random.default_rng([seed, *template.encode()])
    typical = Predictor(
        Circuit(read_document(circuit_document(circuit_templates()[template], {"make": "Brigg"}))), instruments=TOOLS
    )
    rows = []
    for _ in range(count):
        case = draw(template, rng)
        published = Predictor(Circuit(case.published), instruments=TOOLS)
        found = {
            known: follow_vehicle(predictor, case.vehicle, [case.units], by_plan, LIMIT)
            for known, predictor in (("typical circuit", typical), ("published figures", published))
        }
        rows.append((f"{template} {case.kind}", bool(case.structure), found))
    return rows


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
                    by_knowledge[f"{known}, {'other structure' if other else 'as the template'}"].append(outcome)
                    if arguments.list and not outcome.right:
                        state = "WRONG" if outcome.condemns else "cleared" if outcome.cleared else "open"
                        print(
                            f"{known}: {name}{' (other structure)' if other else ''}: {state} {'+'.join(outcome.called)}",
                            flush=True,
                        )
    for known in sorted(by_knowledge):
        print(known, json.dumps(table(by_knowledge[known]), ensure_ascii=False))
    print(f"{time.perf_counter() - begun:.0f} s")


if __name__ == "__main__":
    main()
