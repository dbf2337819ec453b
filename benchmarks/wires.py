"""Which wire is which on unlabelled plugs: share identified rightly, wrongly certain, readings used.

Truths are drawn apart from what judges them: half from typical circuits whose open figures are drawn over their whole range, half from
the plugs of the library's circuits, whose figures and wiring nobody fitted to the templates; the cavities are shuffled; 30 % have a fault
of any kind and strength; battery and meter are off by up to 7 %. Somebody reads what is asked for until it is certain or nothing tells more.
Run: ``./run bench wires`` (``--cases 500 --seed 1``).
"""

from __future__ import annotations

import argparse
import json
import time
from collections import Counter
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.code_library import circuit_templates, circuit_text
from sondar.core.circuit.document.checks import read_document
from sondar.core.circuit.families.doubts import as_range
from sondar.core.circuit.network import Circuit
from sondar.core.describing.building import PART_PLUG
from sondar.core.describing.templates import circuit_document
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.identification import KINDS, MOST_WIRES, Candidate, Identification, WireReading, assignments_of
from sondar.core.instruments.base import Test
from sondar.simulators.vehicle import Conditions, SimulatedVehicle

FAULTY, OFF = 0.3, 0.07
MOST_READINGS = 24
LIBRARY_PLUGS: dict[tuple[str, str], tuple[str, ...]] = {
    ("tessel-air-mass", "X55"): ("supply", "ground", "signal"),
    ("tessel-crank-sensor", "X52"): ("supply", "ground", "signal"),
    ("tessel-digital-humidity", "X65"): ("supply", "ground", "messages"),
    ("tessel-filter-pressure", "X59"): ("reference", "signal", "return"),
    ("tern-accelerator", "X44"): ("reference", "signal", "return"),
    ("tessel-purge-valve", "X51"): ("supply", "control"),
    ("tern-coolant-temperature", "X43"): ("signal", "return"),
    ("orvane-knock", "X61"): ("signal", "return"),
    ("orvane-wiper-lever", "X62"): ("signal", "return"),
    ("brigg-fuel-gauge", "X63"): ("supply", "control"),
    ("brigg-fuel-gauge", "X64"): ("signal", "return"),
    ("brigg-idle-stepper", "X60"): ("supply", "control", "supply", "control"),
    ("orvane-front-oxygen", "X56"): ("supply", "control", "signal", "return"),
    ("orvane-flap-motor", "X57"): ("motor", "motor", "reference", "signal", "return"),
    ("tessel-pedal", "X58"): ("reference", "signal", "return", "reference", "signal", "return"),
}
"""Plugs of the library with what their cavities carry, read off the circuits by hand."""


@dataclass(frozen=True)
class Plug:
    """A plug nobody has labelled. ``order``: which of the circuit's cavities is at each place."""

    name: str
    vehicle: SimulatedVehicle
    connector: str
    carries: tuple[str, ...]
    order: tuple[int, ...]
    faulty: bool

    @property
    def truth(self) -> tuple[str, ...]:
        """What each cavity carries, as far as voltages tell it apart."""
        return assignments_of(self.carries[place] for place in self.order)

    def read(self, cavity: int, kind: str) -> float | None:
        """The voltage at a cavity; None if the meter floats."""
        look, circuit = KINDS[kind], self.vehicle.circuit
        names = list(circuit.document.connectors[self.connector].cavities)
        setup = circuit.rest_setup().with_control("key", look.key)
        setup = setup.with_unplugged(frozenset((self.connector,)) if look.unplugged else frozenset())
        black = circuit.black_reference if look.against == "minus" else f"{circuit.battery}.pos"
        test = Test(look.instrument, f"{self.connector}.{names[self.order[cavity - 1]]}", black, setup)
        return self.vehicle.measure(test.instrument, test.red, test.black, test.setup)[0]


@cache
def identification(wires: int) -> Identification:
    """What judges plugs of so many wires: every typical circuit with as many."""
    found = [
        Candidate(name, Predictor(Circuit(load_circuit_text(circuit_text(item, {"make": "Brigg"})))), item.carries)
        for name, item in circuit_templates().items()
        if item.wires == wires and "second_plug" not in item.data
    ]
    return Identification(found, PART_PLUG)


def draw(rng: np.random.Generator) -> Plug:
    """One plug from outside what judges it."""
    if rng.random() < 0.5:
        choices = [
            item for item in circuit_templates().values() if 2 <= item.wires <= MOST_WIRES and "second_plug" not in item.data
        ]
        item = choices[rng.integers(len(choices))]
        circuit = Circuit(read_document(_exact(circuit_document(item, {"make": "Brigg"}), rng)))
        name, connector, carries = item.id, PART_PLUG, item.carries
    else:
        (name, connector), carries = list(LIBRARY_PLUGS.items())[rng.integers(len(LIBRARY_PLUGS))]
        circuit = Circuit(load_circuit_text(library_circuits()[name]))
    faulty = bool(rng.random() < FAULTY)
    faults: list[tuple[str, str]] = []
    if faulty:
        fault = list(circuit.faults.values())[rng.integers(len(circuit.faults))]
        faults = [(fault.id, fault.severities[rng.integers(len(fault.severities))].label)]
    conditions = Conditions(volt_gain=float(rng.uniform(1.0 - OFF, 1.0 + OFF)), decimals=2)
    vehicle = SimulatedVehicle(circuit, faults, int(rng.integers(1 << 30)), conditions=conditions)
    return Plug(name, vehicle, connector, carries, tuple(int(i) for i in rng.permutation(len(carries))), faulty)


def _exact(data: dict[str, Any], rng: np.random.Generator) -> dict[str, Any]:
    """The document with every range replaced by a figure drawn from the whole of it, evenly on the log scale."""
    for part in data["parts"].values():
        for field, value in list(part.items()):
            ends = (
                as_range(field, value)
                if isinstance(value, str) and " to " in value and field not in ("title", "how", "senses")
                else None
            )
            if ends is not None:
                part[field] = float(np.exp(rng.uniform(*np.log(ends))))
    return data


def follow(plug: Plug) -> tuple[bool, bool, int]:
    """(certain, right, readings) of somebody who reads what is asked for."""
    judge = identification(len(plug.carries))
    readings: list[WireReading] = []
    while True:
        found = judge.identified(readings)
        if found.certain or found.asked is None or len(readings) >= MOST_READINGS:
            said = tuple(next(iter(one)) for one in found.carries)
            return found.certain, said == plug.truth, len(readings)
        readings.append(WireReading(found.asked.cavity, found.asked.kind, plug.read(found.asked.cavity, found.asked.kind)))


def main() -> None:
    """Run the cases and print what came of them."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cases", type=int, default=500)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--verbose", action="store_true")
    arguments = parser.parse_args()
    rng = np.random.default_rng(arguments.seed)
    count: Counter[str] = Counter()
    used: list[int] = []
    begun = time.perf_counter()
    for _ in range(arguments.cases):
        plug = draw(rng)
        certain, right, readings = follow(plug)
        used.append(readings)
        outcome = ("right" if right else "wrong") if certain else "undecided"
        count[outcome] += 1
        count[f"{'faulty' if plug.faulty else 'healthy'} {outcome}"] += 1
        if arguments.verbose and outcome != "right":
            print(
                f"{plug.name:28}{'faulty ' if plug.faulty else ''}{outcome}: {' '.join(plug.truth)}, {readings} readings",
                flush=True,
            )
    total = arguments.cases
    summary = {
        "cases": total, "right %": round(100 * count["right"] / total, 1), "wrongly certain %": round(100 * count["wrong"] / total, 1),
        "undecided %": round(100 * count["undecided"] / total, 1), "mean readings": round(float(np.mean(used)), 1), "most readings": max(used),
        "by health": {key: count[key] for key in sorted(count) if " " in key}, "seconds": round(time.perf_counter() - begun),
    }  # fmt: skip
    print(json.dumps(summary, indent=2))


if __name__ == "__main__":
    main()
