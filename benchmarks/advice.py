"""What Sondar proposes, held against rules of the trade: the first ten steps of every library circuit under twenty faults.

The rules are written here from the circuit document alone and ask none of the engine's own: which lines take no load, which set-ups no
vehicle can be in, where an ohmmeter meets electronics, what is commanded before it is listened to, which plug is quick to reach.
Faults are drawn from ``catalogue``, the trade's list.

Run: ``./run bench advice`` (``--faults 20 --steps 10 --seed 5``, ``--circuit ID``, ``--first`` prints the first steps of each circuit).
"""

from __future__ import annotations

import argparse
import multiprocessing
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

import networkx as nx
import numpy as np

from benchmarks.catalogue import troubles
from benchmarks.worlds import RealVehicle
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.document.fields import CircuitDocument, behind
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import Situation, made_in, reached_by
from sondar.core.diagnosis.judge import judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Proposal
from sondar.core.instruments import INSTRUMENTS
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.simulators.vehicle import SimulatedVehicle

METERS = {"voltmeter", "ac-voltmeter", "voltmeter-10k", "ohmmeter", "line-state", "led-probe"}
LOADS = {"lamp-5w", "lamp-21w", "loaded-circuit-test"}
NO_LOAD = {
    "reference_5v": ("out",), "module_input": ("pin",), "bus_transceiver": ("h", "l"), "low_side_driver": ("out",),
    "high_side_driver": ("out",), "h_bridge": ("a", "b"),
}  # fmt: skip
"""Terminals whose lines take no lamp and no load test."""
ELECTRONIC = {"hall_sensor", "serial_sensor", "active_sensor", "current_sensor", "oxygen_sensor", "reference_5v", "module_input"}
NEVER_FED = ("injector", "ignition coil", "air bag", "airbag", "squib")
HOT = ("exhaust", "converter", "glow")

KEYS = {
    ("engine", "cranking"): {"on", "run"}, ("flow", "high"): {"run"}, ("airflow", "idle"): {"run"}, ("airflow", "full"): {"run"},
    ("engine", "standing"): {"off", "on"}, ("engine", "tooth in front"): {"off", "on"}, ("flow", "none"): {"off", "on"},
    ("airflow", "none"): {"off", "on"}, ("mixture", "rich"): {"run"}, ("fan", "on"): {"on", "run"}, ("pump", "on"): {"on", "run"},
    ("purge", "half"): {"on", "run"}, ("flap", "move"): {"on", "run"}, ("flap", "up"): {"on", "run"}, ("flap", "down"): {"on", "run"},
    ("step", "a"): {"on", "run"}, ("step", "b"): {"on", "run"}, ("screen", "on"): {"on", "run"}, ("beam", "lower"): {"on", "run"},
    ("bus", "dominant"): {"on", "run"},
}  # fmt: skip
"""Key positions at which a control of the library can stand so."""
BY_SCAN_TOOL = {"fan", "pump", "purge", "flap", "step"}
CHEAPER_BY_MIN = 1.0


@dataclass(frozen=True)
class Said:
    """One proposal as it was made.

    Attributes:
        before: the set-up it was made in. done: tests made before it, in order. tools: instruments at hand.
    """

    circuit: Circuit
    proposal: Proposal
    before: Setup
    done: tuple[Test, ...]
    tools: frozenset[str]

    @property
    def test(self) -> Test:
        return self.proposal.test

    @property
    def document(self) -> CircuitDocument:
        return self.circuit.document


Rule = Callable[[Said], Iterator[str]]


def terminals_on(document: CircuitDocument, ref: str, unplugged: frozenset[str] = frozenset()) -> set[str]:
    """Every terminal that is one conductor with a point: along wires, splices, connected cavities and joins, not through a module."""
    graph: nx.Graph[str] = nx.Graph()
    graph.add_node(ref)
    for wire in document.wires.values():
        graph.add_edge(wire.from_, wire.to)
    for name, part in document.parts.items():
        if part.family == "splice":
            for leg in part.legs[1:]:
                graph.add_edge(f"{name}.{part.legs[0]}", f"{name}.{leg}")
    for join in document.joins:
        for other in join[1:]:
            graph.add_edge(join[0], other)
    for name, connector in document.connectors.items():
        for cavity, target in connector.cavities.items():
            if name not in unplugged:
                graph.add_edge(f"{name}.{cavity}", f"{name}.{cavity}/c")
            for terminal in behind(target):
                graph.add_edge(f"{name}.{cavity}/c", terminal)
    found, left = {ref}, [ref]
    while left:
        here = left.pop()
        owner = document.parts.get(here.split(".")[0])
        if owner is not None and owner.module is not None and here != ref:
            continue  # what a module joins inside is no conductor that a probe could follow
        for other in graph[here]:
            if other not in found:
                found.add(other)
                left.append(other)
    return found


def _ends(said: Said, ref: str) -> Iterator[tuple[str, str, str]]:
    """(part, family, terminal) of everything that a probe is joined to."""
    for terminal in sorted(terminals_on(said.document, ref, said.test.setup.unplugged)):
        owner, _, name = terminal.partition(".")
        if owner in said.document.parts:
            yield owner, said.document.parts[owner].family, name


def no_forbidden_load(said: Said) -> Iterator[str]:
    """No lamp or load on a reference, an input, an output, a bus line or a sensor's return."""
    if said.test.instrument not in LOADS:
        return
    for probe in (said.test.red, said.test.black):
        ends = list(_ends(said, probe))
        grounded = any(family in ("ground_point", "battery") for _, family, _ in ends)
        for part, family, terminal in ends:
            if terminal in NO_LOAD.get(family, ()):
                yield f"{said.test.instrument} on {probe}, the line of {part}.{terminal}"
            if terminal == "gnd" and not grounded and said.document.parts[part].module is not None:
                yield f"{said.test.instrument} on {probe}, a return through the module at {part}"


def no_forbidden_supply(said: Said) -> Iterator[str]:
    """No supply on what it would burn or fire, nor on anything of a module."""
    if said.test.instrument != "applied-supply":
        return
    for probe in (said.test.red, said.test.black):
        for part, family, _ in _ends(said, probe):
            spec = said.document.parts[part]
            if spec.module is not None or any(word in spec.title.lower() for word in NEVER_FED):
                yield f"supply applied at {probe}, to {part} ({family})"


def possible(said: Said) -> Iterator[str]:
    """Only set-ups that a vehicle can be in."""
    controls = dict(said.test.setup.controls)
    for name, position in controls.items():
        keys = KEYS.get((name, position))
        if keys is not None and controls["key"] not in keys:
            yield f"{name} {position} with the key {controls['key']}"
    modules = {
        (connector, said.document.parts[owner].module)
        for connector in said.test.setup.unplugged
        for target in said.document.connectors[connector].cavities.values()
        for owner in {ref.split(".")[0] for ref in behind(target)}
        if owner in said.document.parts and said.document.parts[owner].module is not None
    }
    for connector, module in sorted(modules, key=str):
        if controls["key"] == "run" and module == "ECM":
            yield f"engine running with {connector} of {module} disconnected"
        for name in BY_SCAN_TOOL & controls.keys():
            driver = any(part.module == module and "driver" in part.family for part in said.document.parts.values())
            if (
                driver
                and "scan tool" in said.document.controls[name].how
                and controls[name] != said.document.controls[name].values[0]
            ):
                yield f"{name} commanded with {connector} of {module} disconnected"


def no_ohms_on_electronics(said: Said) -> Iterator[str]:
    """An ohmmeter only on a dead circuit, and never into electronics."""
    if said.test.instrument != "ohmmeter":
        return
    if said.test.setup["key"] != "off":
        yield f"ohms with the key {said.test.setup['key']}"
    for probe in (said.test.red, said.test.black):
        for part, family, terminal in _ends(said, probe):
            pressure = family == "ratiometric" and "pressure" in said.document.parts[part].title.lower()
            if (family in ELECTRONIC or pressure) and terminal != "gnd":
                yield f"ohms at {probe}, into {part}.{terminal} ({family})"


def no_meter_on_a_dead_module(said: Said) -> Iterator[str]:
    """No meter or lamp on a module's own pins while its plug is apart: without supply nothing there means anything."""
    if said.test.instrument not in METERS | LOADS:
        return
    for probe in (said.test.red, said.test.black):
        place, _, cavity = probe.partition(".")
        spec = said.document.connectors.get(place)
        if spec is None or not cavity.endswith("/c") or place not in said.test.setup.unplugged:
            continue
        owners = {terminal.split(".")[0] for terminal in behind(spec.cavities[cavity.removesuffix("/c")])}
        if owners and all(said.document.parts[owner].module is not None for owner in owners):
            yield f"{said.test.instrument} on {probe}, inside {', '.join(sorted(owners))}, with {place} apart"


def not_again(said: Said) -> Iterator[str]:
    """No measurement is proposed twice."""

    def where(test: Test) -> set[str]:
        probes = INSTRUMENTS[test.instrument].probes
        return {said.circuit.point(ref).node for ref in (test.red, test.black)} if probes else {test.red}

    nodes = where(said.test)
    for other in said.done:
        there = where(other)
        if (other.instrument, other.setup, there) == (said.test.instrument, said.test.setup, nodes):
            yield f"{said.test.instrument} {said.test.red} to {said.test.black} once more"


def command_before_listening(said: Said) -> Iterator[str]:
    """What can be commanded is commanded before anybody listens to it at rest."""
    if said.test.instrument != "functional-check" or any(
        t.instrument == "functional-check" and t.red == said.test.red for t in said.done
    ):
        return
    vehicle = SimulatedVehicle(said.circuit, seed=1)
    if vehicle.measure("functional-check", said.test.red, said.test.black, said.test.setup)[1] != "operates":
        yield f"listening to {said.test.red} while nothing makes it act ({said.test.setup.describe()})"


def quick_plug_first(said: Said) -> Iterator[str]:
    """A line is first measured where it is quick to reach, as long as both places are the same conductor.

    Read is a line also by the module at its end (live data of an input) and by a clamp around one of its wires.
    """
    test = said.test
    if not INSTRUMENTS[test.instrument].probes or test.instrument == "ohmmeter":
        return
    opened = {said.circuit.point(ref).place for other in said.done for ref in (other.red, other.black)}
    opened |= {name for other in said.done for name in other.setup.unplugged}
    point = said.circuit.point(test.red)
    if point.place in opened or point.place in test.setup.unplugged:
        return
    line = terminals_on(said.document, test.red, test.setup.unplugged)
    lines = line | (
        terminals_on(said.document, test.black, test.setup.unplugged) if test.black != said.circuit.black_reference else set()
    )
    read = any(INSTRUMENTS[o.instrument].probes and o.instrument != "ohmmeter" and {o.red, o.black} & lines for o in said.done)
    read = read or any(
        (o.instrument == "live-data" and f"{o.red}.pin" in lines)
        or (o.instrument == "current-clamp" and {said.document.wires[o.red].from_, said.document.wires[o.red].to} & lines)
        for o in said.done
        if o.instrument == "live-data" or o.red in said.document.wires
    )
    for other in said.circuit.points.values():
        cost = 0.0 if other.place in opened else other.access_min
        if (
            not read
            and other.place != said.circuit.battery
            and other.ref in line
            and other.reachable(test.setup)
            and cost + CHEAPER_BY_MIN <= point.access_min
        ):
            yield f"{test.instrument} at {test.red} ({point.access_min:g} min) before {other.ref} ({cost:g} min), the same line"
            return


def in_the_order_of_hands(said: Said) -> Iterator[str]:
    """Connectors are parted and mated with the key off, and the key comes back afterwards; who lets go of the starter is at *on*."""
    key = "on" if "cranking" in dict(said.before.controls).values() else said.before["key"]
    for step in said.proposal.steps:
        if step.kind == "control" and step.target == "key":
            key = step.position
        elif step.kind in ("disconnect", "connect") and key != "off":
            yield f"{step.kind} {step.target} with the key {key}"
    if key != said.test.setup["key"]:
        yield f"the steps end with the key {key}, the test wants {said.test.setup['key']}"


def no_hot_parts_by_hand(said: Said) -> Iterator[str]:
    """Nobody feels by hand whether a part in the exhaust gets warm."""
    part = said.document.parts.get(said.test.red)
    if said.test.instrument == "functional-check" and part is not None and any(word in part.place.lower() for word in HOT):
        yield f"feeling {said.test.red} ({part.place})"


def command_first(said: Said) -> Iterator[str]:
    """In a circuit that makes something act, the first step commands it, asks the scan tool, or looks where it takes no minute."""
    commanded = [n for n in said.document.controls if n != "key"]
    acting = [n for n, p in said.circuit.parts.items() if p.acts(n, said.circuit.rest_setup()) is not None and not p.hot]
    if said.done or not acting or not commanded:
        return
    looks = not INSTRUMENTS[said.test.instrument].probes and said.proposal.minutes <= 2.0
    if not looks:
        yield f"begins with {said.test.instrument} at {said.test.red} ({said.proposal.minutes:.1f} min)"


RULES: tuple[Rule, ...] = (
    no_forbidden_load, no_forbidden_supply, possible, no_ohms_on_electronics, no_meter_on_a_dead_module, not_again, command_before_listening,
    quick_plug_first, in_the_order_of_hands, no_hot_parts_by_hand, command_first,
)  # fmt: skip


@dataclass
class Played:
    """One circuit's result: proposals seen, (rule, what) with how often, minutes, and the first steps in words."""

    circuit: str
    proposals: int = 0
    minutes: float = 0.0
    broken: Counter[tuple[str, str]] = field(default_factory=Counter)
    first: Counter[str] = field(default_factory=Counter)


def play(name: str, faults: int, steps: int, seed: int) -> Played:
    """Follow Sondar on one circuit under faults drawn from the trade's list, and hold every proposal against the rules."""
    circuit = Circuit(load_circuit_text(library_circuits()[name]))
    rng = np.random.default_rng([seed, *name.encode()])
    listed = troubles(circuit)
    weights = np.array([trouble.weight for trouble in listed])
    result = Played(name)
    predictor = Predictor(circuit, instruments=tuple(INSTRUMENTS))
    for _ in range(faults):
        trouble = listed[int(rng.choice(len(listed), p=weights / weights.sum()))]
        vehicle = SimulatedVehicle(
            RealVehicle(circuit.document, trouble.paths), seed=int(rng.integers(1 << 30)), changes=trouble.draw(rng),
            behind=[trouble.behind] if trouble.behind in circuit.faults else [],
        )  # fmt: skip
        situation = Situation(circuit.rest_setup(), instruments=tuple(INSTRUMENTS))
        readings: list[Reading] = []
        for _ in range(steps):
            judged = judge(predictor, readings, situation)
            if judged.ranking.settled or not judged.ranking.proposals:
                break
            proposal = judged.ranking.proposals[0]
            done = tuple(reading.test for reading in readings)
            said = Said(circuit, proposal, situation.setup, done, frozenset(INSTRUMENTS))
            result.proposals += 1
            result.minutes += proposal.minutes
            if not done:
                result.first[f"{proposal.test.instrument} {proposal.test.red} · {proposal.test.setup.describe()}"] += 1
            for rule in RULES:
                result.broken.update((rule.__name__, what) for what in rule(said))
            test = proposal.test
            value, word = vehicle.measure(test.instrument, test.red, test.black, test.setup)
            readings.append(Reading(str(len(readings)), test, value, word))
            opened = situation.opened | reached_by(circuit, test) | (situation.setup.unplugged ^ test.setup.unplugged)
            situation = replace(situation, setup=made_in(circuit, situation.setup, test), opened=opened)
    return result


def _played(task: tuple[str, int, int, int]) -> Played:
    return play(*task)


def main() -> None:
    """Print what was broken, by rule and circuit."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--faults", type=int, default=20)
    parser.add_argument("--steps", type=int, default=10)
    parser.add_argument("--seed", type=int, default=5)
    parser.add_argument("--circuit", action="append")
    parser.add_argument("--first", action="store_true")
    asked = parser.parse_args()
    names = asked.circuit or list(library_circuits())
    begun = time.monotonic()
    with multiprocessing.get_context("spawn").Pool(2, maxtasksperchild=4) as pool:
        found = list(pool.imap_unordered(_played, [(name, asked.faults, asked.steps, asked.seed) for name in names]))
    for result in sorted(found, key=lambda item: item.circuit):
        for (rule, what), count in sorted(result.broken.items()):
            print(f"{result.circuit}: {rule}: {what} ({count} times)")
        if asked.first:
            print(f"{result.circuit} begins: {dict(result.first)}")
    proposals = sum(result.proposals for result in found)
    broken = Counter[str]()
    for result in found:
        for (rule, _), count in result.broken.items():
            broken[rule] += count
    print(
        f"{proposals} proposals, {len(found)} circuits, {sum(r.minutes for r in found):.0f} minutes; {time.monotonic() - begun:.0f} s"
    )
    for rule in RULES:
        print(f"  {broken[rule.__name__]:4d}  {(rule.__doc__ or '').splitlines()[0]}")


if __name__ == "__main__":
    main()
