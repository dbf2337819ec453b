"""Blind worlds: vehicles that are only half as the document says, and a technician who does what is proposed until it ends.

Hidden faults come from ``catalogue`` (the trade's list, not Sondar's), at strengths anywhere on their range; batteries, temperatures,
meters and descriptions are disturbed. Worlds:

    a  as described, strengths of the middle of each range   b  strengths anywhere on their range
    c  battery 10.8 to 15 V, parts at −10 to 40 °C (not measured), meter gain ±1 %, leads 0 to 0.5 Ω, one decimal
    d  description wrong: coils ±20 %, pull-ups ±30 %, wires ×0.3 to 3, drivers ×3; faults smaller than that do not count
    e  things off the drawing: added loads, bridges across plugs, crossed harnesses, wrong parts
    f  two faults      g  intermittent      h  healthy vehicles of b to d

Run: ``./run bench worlds`` (``--worlds abch --cases 1000 --seed 5``, ``--quick``); two processes.
"""

from __future__ import annotations

import argparse
import itertools
import json
import multiprocessing
import time
from collections import Counter, defaultdict
from dataclasses import dataclass, field, replace

import numpy as np
from scipy.stats import beta

from benchmarks.catalogue import Trouble, between_neighbours, off_the_drawing, troubles
from benchmarks.technician import InFileOrder, Outcome, by_plan, calibration, follow_vehicle
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.model import Branch, Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import SondarError
from sondar.core.instruments import INSTRUMENTS, ORDINARY, displays, sensible_tests
from sondar.core.instruments.base import Population
from sondar.core.solving.fuses import blown_fuses
from sondar.simulators.vehicle import Conditions, SimulatedVehicle

TOOLS = (*ORDINARY, "live-data", "module-communication", "ac-voltmeter", "frequency", "duty", "thermometer", "new-fuse")
PROVOKING = ("wiggle-test", "heat-test", "cold-test", "visual-inspection")
AT_HAND = {"g": (*TOOLS, *PROVOKING), "e": (*TOOLS, "visual-inspection")}
"""Tools of worlds in which more than meters is needed: what is off the drawing is looked for, what comes and goes is provoked."""

TOLD_PRESENT = 0.5
"""What a technician makes of a complaint that comes and goes."""

LIMIT = 40
DISTURBED = "cd"
CASES = {"a": 1000, "b": 600, "c": 1000, "d": 600, "e": 600, "f": 600, "g": 600, "h": 1000}
SEEN_BEYOND_ERROR = 2.0
"""A fault counts if an instrument at hand shows it by this many of its error bounds."""


class RealVehicle(Circuit):
    """A circuit with paths that are not in its drawing."""

    def __init__(self, document: CircuitDocument, paths: tuple[tuple[str, str, str], ...] = ()) -> None:
        super().__init__(document)
        self.paths = paths

    def branches(self, setup: Setup) -> list[Branch]:
        return super().branches(setup) + [
            Branch(name, name, self.node(a), self.node(b))
            for name, a, b in self.paths
            if not (b.endswith("/c") and b.split(".")[0] in setup.unplugged)  # exchanged cavities come apart with their plug
        ]


@dataclass(frozen=True)
class World:
    """One vehicle of a world, ready to be measured.

    Attributes:
        units: one set per fault of it; any unit of the set is right. each: its changes, per fault.
        battery_v: key off; None where it is as described.
        presence: share of the readings in which an intermittent fault is there; provoked: what brings it out for certain.
    """

    world: str
    circuit: str
    kinds: tuple[str, ...]
    units: tuple[frozenset[str], ...]
    each: tuple[tuple[Change, ...], ...]
    document: CircuitDocument
    paths: tuple[tuple[str, str, str], ...]
    conditions: Conditions
    seed: int
    bound: str = "always"
    presence: float = 1.0
    provoked: str = ""
    battery_v: float | None = field(default=None)

    @property
    def changes(self) -> tuple[Change, ...]:
        """Of all faults together."""
        return tuple(itertools.chain.from_iterable(self.each))

    def without(self, units: frozenset[str]) -> World:
        """The vehicle after the repair of some units."""
        left = [index for index, own in enumerate(self.units) if not own & units]
        return replace(
            self,
            kinds=tuple(self.kinds[i] for i in left),
            units=tuple(self.units[i] for i in left),
            each=tuple(self.each[i] for i in left),
        )


def disturbed_battery(document: CircuitDocument, volts: float, rng: np.random.Generator) -> CircuitDocument:
    """A battery at another voltage, key off; a charger or the alternator keeps it above 13.2 V with the engine running."""
    name, battery = next((n, p) for n, p in document.parts.items() if p.family == "battery")
    running = max(volts, float(rng.uniform(13.2, 15.0)))
    changed = battery.model_copy(update={"rest_v": volts, "on_v": volts - float(rng.uniform(0.0, 0.4)), "run_v": running})
    return document.model_copy(update={"parts": {**document.parts, name: changed}})


def wrongly_described(document: CircuitDocument, rng: np.random.Generator) -> CircuitDocument:
    """The vehicle as it really is, where the document has typical figures."""

    def about(share: float) -> float:
        return float(rng.uniform(1.0 - share, 1.0 + share))

    parts = {}
    for name, part in document.parts.items():
        update: dict[str, float] = {}
        for coil in ("coil_ohm", "resistance_ohm") if part.family != "bus_end" else ():
            if hasattr(part, coil):
                update[coil] = getattr(part, coil) * about(0.2)
        if hasattr(part, "pull_ohm"):
            update["pull_ohm"] = part.pull_ohm * about(0.3)
        if hasattr(part, "on_ohm"):
            update["on_ohm"] = part.on_ohm * float(3.0 ** rng.uniform(-1.0, 1.0))
        parts[name] = part.model_copy(update=update)
    wires = {
        name: wire.model_copy(update={"length_m": wire.length_m * float(10.0 ** rng.uniform(np.log10(0.3), np.log10(3.0)))})
        for name, wire in document.wires.items()
    }
    return document.model_copy(update={"parts": parts, "wires": wires})


def any_conditions(rng: np.random.Generator) -> Conditions:
    """A workshop, a yard or a winter street, and a meter that has been dropped."""
    return Conditions(
        float(rng.uniform(-10.0, 40.0)), float(rng.uniform(0.99, 1.01)), float(rng.uniform(0.99, 1.01)), float(rng.uniform(0.0, 0.5)),
        1 if rng.random() < 0.5 else -1,
    )  # fmt: skip


def is_masked(case: World) -> bool:
    """True if one of two faults shows nothing that the other does not show alone."""
    described, vehicle = Circuit(case.document), RealVehicle(case.document, case.paths)
    first, second = case.each
    return not (is_seen(described, vehicle, second, 20.0, beside=first) and is_seen(described, vehicle, first, 20.0, beside=second))


def is_seen(
    described: Circuit, vehicle: RealVehicle, changes: tuple[Change, ...], temperature_c: float, beside: tuple[Change, ...] = ()
) -> bool:
    """True if some instrument at hand shows the fault, beyond its own error and beyond what the wrong description does.

    ``beside`` is another fault of the vehicle: then it is what a fault adds to that.
    """
    ways = [beside, (*beside, *changes)]
    blown = blown_fuses(vehicle, ways, temperature_c)
    apart = [frozenset[str](), *(frozenset({c}) for c, spec in described.document.connectors.items() if not spec.restraint)]
    tools = frozenset(TOOLS)
    for unplugged in apart:
        for state in described.usual_states():
            setup = Setup(state, unplugged, temperature_c)
            tests = sensible_tests(described, setup, tools)
            if not tests:
                continue
            found = displays(Population(vehicle, setup, ways, blown, [None, None], samples=1), tests)
            nominal = displays(Population(described, setup, [()], blown_fuses(described, [()]), [None], samples=1), tests)
            for name, shown in found.items():
                if (np.abs(shown.words[1] - shown.words[0]).max(axis=-1, initial=0.0) > 0.5).any():
                    return True
                if not shown.instrument.figures:
                    continue
                bound = np.sqrt(3.0) * shown.sd[0]
                moved = np.abs(shown.mean[1] - shown.mean[0])
                figures = shown.words[:2].sum(axis=-1).max(axis=0) < 0.5
                disturbed = np.abs(shown.mean[0] - nominal[name].mean[0])
                if (figures & (moved > SEEN_BEYOND_ERROR * bound) & (moved > disturbed)).any():
                    return True
    return False


def draw_one(world: str, name: str, document: CircuitDocument, rng: np.random.Generator) -> World:
    """A vehicle of a world on one circuit; drawn again until its faults can be seen at all."""
    described = Circuit(document)
    listed, neighbours = troubles(described), list(between_neighbours(described))
    while True:
        disturb = rng.choice(["b", "c", "d"]) if world == "h" else world
        true, volts = document, None
        conditions = any_conditions(rng) if disturb == "c" else Conditions()
        if disturb == "c":
            volts = float(rng.uniform(10.8, 15.0))
            true = disturbed_battery(document, volts, rng)
        if disturb == "d":
            true = wrongly_described(document, rng)
        chosen = _chosen(world, listed, neighbours, described, rng)
        each = tuple(trouble.draw(_middle(rng) if world == "a" else rng) for trouble in chosen)
        paths = tuple(path for trouble in chosen for path in trouble.paths)
        comes_and_goes = world == "g"
        presence = float(rng.uniform(0.1, 0.9)) if comes_and_goes else 1.0
        provoked = str(rng.choice(["wiggled", "hot", "cold"])) if comes_and_goes else ""
        made = World(
            world, name, tuple(t.kind for t in chosen), tuple(t.units for t in chosen), each, true, paths, conditions,
            int(rng.integers(1 << 30)), "sometimes" if comes_and_goes else "always", presence, provoked, volts,
        )  # fmt: skip
        vehicle = RealVehicle(true, paths)
        warm = conditions.temperature_c if conditions.temperature_c is not None else 20.0
        try:
            if all(is_seen(described, vehicle, changes, warm) for changes in each):
                return made
        except SondarError:
            continue


class _Middle:
    """Draws the middle of every range, for vehicles as described."""

    def __init__(self, rng: np.random.Generator) -> None:
        self._rng = rng

    def uniform(self, low: float, high: float) -> float:
        return low + (high - low) * float(self._rng.choice([0.2, 0.5, 0.8]))

    def choice(self, items: object) -> object:
        return self._rng.choice(items)  # type: ignore[call-overload]


def _middle(rng: np.random.Generator) -> np.random.Generator:
    return _Middle(rng)  # type: ignore[return-value]


def _chosen(
    world: str, listed: list[Trouble], neighbours: list[Trouble], described: Circuit, rng: np.random.Generator
) -> list[Trouble]:
    def pick(items: list[Trouble]) -> Trouble:
        weights = np.array([t.weight for t in items])
        return items[int(rng.choice(len(items), p=weights / weights.sum()))]

    if world == "h":
        return []
    if world == "e":
        by_kind = defaultdict(list)
        for trouble in off_the_drawing(described):
            by_kind[trouble.kind].append(trouble)
        return [pick(by_kind[str(rng.choice(sorted(by_kind)))])]
    if world == "f":
        first = pick(listed)
        while (second := pick(listed)).units & first.units:
            pass
        return [first, second]
    return [pick(neighbours if neighbours and rng.random() < 0.08 else listed)]


@dataclass(frozen=True)
class Result:
    """A vehicle and how it ended.

    Attributes:
        fixed: minutes of the fixed order where it was followed too. masked: one of two faults hides the other.
        second: after the repair of the first of two faults, whether the other was then named; None where nothing was left.
    """

    case: World
    outcome: Outcome
    fixed: float | None = None
    masked: bool = False
    second: bool | None = None


def run_circuit(task: tuple[str, dict[str, int], int, int]) -> list[Result]:
    """All cases of one circuit."""
    name, counts, seed, compare = task
    document = load_circuit_text(library_circuits()[name])
    rows = []
    for world, count in counts.items():
        predictor = Predictor(Circuit(document), instruments=AT_HAND.get(world, TOOLS))
        rng = np.random.default_rng([seed, ord(world), *name.encode()])
        for index in range(count):
            case = draw_one(world, name, document, rng)
            present = TOLD_PRESENT if world == "g" else 1.0
            outcome = follow_vehicle(predictor, case_vehicle(case), case.units, by_plan, LIMIT, present=present)
            found = Result(case, outcome)
            if world == "a" and index < compare:
                fixed = follow_vehicle(predictor, case_vehicle(case), case.units, InFileOrder(predictor), 2000)
                found = replace(found, fixed=fixed.minutes)
            if world == "f":
                left = case.without(frozenset(outcome.called))
                found = replace(found, masked=is_masked(case))
                if outcome.right and left.units:
                    again = follow_vehicle(predictor, case_vehicle(left), left.units, by_plan, LIMIT)
                    found = replace(found, second=again.right)
            rows.append(found)
    return rows


def case_vehicle(case: World) -> SimulatedVehicle:
    """The vehicle of a case, its own tolerances and meter drawn from the case's seed."""
    real = RealVehicle(case.document, case.paths)
    parts = {change.branch if change.branch in real.parts else change.branch.rsplit(".", 1)[0] for change in case.changes}
    places = [next(f.id for f in real.faults.values() if f.part == part) for part in sorted(parts & set(real.parts))]
    return SimulatedVehicle(
        real, [], case.seed, case.changes, places, case.conditions, bound=case.bound, presence=case.presence, provoked=case.provoked
    )  # fmt: skip


def upper_bound(count: int, total: int) -> float:
    """Upper end of the one-sided 95 % interval of a share (Clopper and Pearson, Biometrika 26, 1934)."""
    return 1.0 if count >= total else float(beta.ppf(0.95, count + 1, total - count))


def lower_bound(count: int, total: int) -> float:
    """Lower end of the one-sided 95 % interval of a share (Clopper and Pearson)."""
    return 0.0 if count == 0 else float(beta.ppf(0.05, count, total - count + 1))


def table(rows: list[Result]) -> dict[str, object]:
    """Figures of one world."""
    n = len(rows)
    outcomes = [row.outcome for row in rows]
    wrong = sum(o.condemns and not o.right for o in outcomes)
    right = sum(o.right for o in outcomes)
    inconclusive = sum(not o.condemns and not o.cleared for o in outcomes)
    classes = [len(o.called) for o in outcomes if o.condemns]
    found: dict[str, object] = {
        "cases": n,
        "right unit or class": f"{right / n:.2%} (≥ {lower_bound(right, n):.2%})",
        "wrong at 95 %": f"{wrong / n:.2%} (≤ {upper_bound(wrong, n):.2%})",
        "inconclusive": f"{inconclusive / n:.2%}",
        "no fault found": f"{sum(o.cleared for o in outcomes) / n:.2%}",
        "right or inconclusive": f"{sum(o.right or not (o.condemns or o.cleared) for o in outcomes) / n:.2%}",
        "a wrong pair named": f"{sum(o.wrong_pair for o in outcomes) / n:.2%}",
        "mean minutes": round(float(np.mean([o.minutes for o in outcomes])), 2),
        "mean readings": round(float(np.mean([o.readings for o in outcomes])), 2),
    }
    if classes:
        found["class, mean and p95"] = (round(float(np.mean(classes)), 2), float(np.percentile(classes, 95)))
    compared = [(row.outcome.minutes, row.fixed) for row in rows if row.fixed is not None]
    if compared:
        found["minutes ÷ fixed order"] = round(sum(m for m, _ in compared) / sum(f for _, f in compared), 3)
    apart = [all(units & row.outcome.said for units in row.case.units) for row in rows if row.case.world == "f" and not row.masked]
    if apart:
        found["both named, where neither masks the other"] = f"{sum(apart)} of {len(apart)}, {sum(apart) / len(apart):.2%}"
    second = [row.second for row in rows if row.second is not None]
    if second:
        found["the second named after the repair of the first"] = f"{sum(second)} of {len(second)}, {sum(second) / len(second):.2%}"
    return found


def main() -> None:
    """Run and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--worlds", default="abcdefgh")
    parser.add_argument("--cases", type=int, default=0, help="cases per world; the full numbers if left out")
    parser.add_argument("--share", type=float, default=1.0, help="share of the full numbers of cases")
    parser.add_argument("--quick", action="store_true", help="70 cases per world")
    parser.add_argument("--seed", type=int, default=5)
    parser.add_argument("--compare", type=int, default=0, help="cases per circuit of world a followed in the fixed order too")
    parser.add_argument("--circuits", default="", help="only these, separated by commas")
    parser.add_argument("--list", action="store_true", help="print every case that is not right")
    arguments = parser.parse_args()
    names = [n for n in library_circuits() if not arguments.circuits or n in arguments.circuits.split(",")]
    tasks = []
    for position, name in enumerate(names):
        counts = {}
        for world in arguments.worlds:
            total = 70 if arguments.quick else arguments.cases or round(arguments.share * CASES[world])
            counts[world] = total // len(names) + (position < total % len(names))
        tasks.append((name, counts, arguments.seed, arguments.compare))
    started = time.perf_counter()
    rows: list[Result] = []
    with multiprocessing.get_context("spawn").Pool(2, maxtasksperchild=1) as pool:
        for done in pool.imap_unordered(run_circuit, tasks, chunksize=1):
            rows += done
            for case, outcome in [(row.case, row.outcome) for row in done] if arguments.list else []:
                bad = outcome.condemns or outcome.cleared if case.world == "e" else True
                if not outcome.right and bad and not (case.world == "h" and outcome.cleared):
                    print(describe(case, outcome), flush=True)
    by_world = defaultdict(list)
    for row in rows:
        by_world[row.case.world].append(row)
    for world in sorted(by_world):
        print(world, json.dumps(table(by_world[world]), ensure_ascii=False))
    pooled = [
        (row.outcome.certainty, row.outcome.right)
        for row in rows
        if row.case.world in "abcd" and row.outcome.called and row.outcome.called[0] not in (NONE, UNKNOWN)
    ]
    if pooled:
        print("calibration a to d", json.dumps(calibration(pooled)))
    for world in sorted(by_world):
        kinds: dict[str, Counter[str]] = defaultdict(Counter)
        for case, outcome in ((row.case, row.outcome) for row in by_world[world]):
            state = "right" if outcome.right else "wrong" if outcome.condemns else "cleared" if outcome.cleared else "open"
            kinds[" + ".join(sorted(case.kinds)) if world != "f" else "two faults"][state] += 1
        print(world, "by kind:", "; ".join(f"{k} {dict(v)}" for k, v in sorted(kinds.items()) if v["right"] < sum(v.values())))
    print(f"{time.perf_counter() - started:.0f} s, {len(INSTRUMENTS)} instruments known, {len(TOOLS)} at hand")


def describe(case: World, outcome: Outcome) -> str:
    """One line about a case."""
    units = " & ".join("/".join(sorted(u)) for u in case.units)
    changes = " ".join(f"{c.branch}{c.key}" for c in case.changes)
    state = f"{'+'.join(outcome.called)} {outcome.certainty:.3f}"
    battery = "" if case.battery_v is None else f" {case.battery_v:.1f} V {case.conditions.temperature_c:.0f} °C"
    mark = "right" if outcome.right else "WRONG" if outcome.condemns else "cleared" if outcome.cleared else "open"
    what = f"{case.world} {case.circuit} [{'; '.join(case.kinds)}] {units}: {changes}{battery} {case.bound}"
    return f"{what} -> {mark} {state} after {outcome.readings} ({case.seed})"


if __name__ == "__main__":
    main()
