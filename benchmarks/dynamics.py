"""Parts that follow too slowly or too late, with recordings and without: from a sampled signal to the called unit.

Vehicles are drawn outside the engine's list: time constants and dead times anywhere on a range, healthy ones spread by a seventh; a motor
runs at constant speed to its stop in half of the vehicles and follows in first order in the others, which the engine does not know. Their
signals are simulated here, sampled unevenly at 6 to 25 Hz, quantised and noisy; features are read off them as a recording's are, and what
they say is taken as a reading. Half of the troubles are of time, a third are those of the trade's list (``catalogue``), the rest are healthy.

Run: ``./run bench dynamics`` (``--cases 320 --seed 3``); two processes.
"""

from __future__ import annotations

import argparse
import json
import multiprocessing
from collections import Counter, defaultdict
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from benchmarks.catalogue import troubles
from benchmarks.technician import Outcome, by_plan, follow_vehicle
from benchmarks.worlds import TOOLS, RealVehicle, is_seen, lower_bound, upper_bound
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.document.fields import CircuitDocument, Response
from sondar.core.circuit.families import DcMotor
from sondar.core.circuit.model import Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import ResponseDelay, ResponseTime
from sondar.core.instruments.base import Population
from sondar.core.instruments.response import STILL, before_command, response_of
from sondar.core.recordings.model import Channel, Lane
from sondar.core.recordings.offered import Feature, features
from sondar.simulators.vehicle import Conditions, SimulatedVehicle

Array = npt.NDArray[np.float64]
RECORDED = (ResponseTime.id, ResponseDelay.id)
SPREAD = 0.14
"""Relative standard deviation of time constants and dead times among good parts."""
BEFORE_S, LONGEST_S = 1.0, 25.0
STEP_S = 0.002
"""Step by which a signal is integrated."""


@dataclass(frozen=True)
class Timing:
    """How one part of a vehicle's chain moves: seconds before it begins, its time constant, and whether at constant speed."""

    dead_s: float
    lag_s: float
    runs: bool


@dataclass(frozen=True)
class Vehicle:
    """One vehicle: what is wrong with it and how its parts move."""

    circuit: str
    kind: str
    units: tuple[frozenset[str], ...]
    changes: tuple[Change, ...]
    timing: dict[str, Timing]
    seed: int


class RecordedVehicle(SimulatedVehicle):
    """A vehicle whose live data are recorded while it is commanded; what is read off the recording is the reading."""

    def __init__(self, real: Circuit, drawn: Vehicle) -> None:
        parts = {change.branch if change.branch in real.parts else change.branch.rsplit(".", 1)[0] for change in drawn.changes}
        places = [next(f.id for f in real.faults.values() if f.part == part) for part in sorted(parts & set(real.parts))]
        super().__init__(real, [], drawn.seed, drawn.changes, places, Conditions())
        self._timing = drawn.timing
        self._hands = np.random.default_rng(drawn.seed + 17)
        self._recorded: dict[Setup, list[Feature]] = {}
        self.half_width = 0.0

    def measure(self, device_id: str, red: str, black: str, setup: Setup) -> tuple[float | None, str | None]:
        self.half_width = 0.0
        response = response_of(self.circuit, red, setup) if device_id in RECORDED else None
        if response is None:
            return super().measure(device_id, red, black, setup)
        if setup not in self._recorded:
            self._recorded[setup] = self._record(response, setup)
        kinds = {feature.kind: feature for feature in self._recorded[setup]}
        if "no movement" in kinds:
            return None, STILL
        found = kinds.get("lag" if device_id == ResponseTime.id else "dead")
        if found is None or found.estimate is None:
            raise UnknownReferenceError("feature of a recording", red, [])
        self.half_width = 1.96 * found.estimate.sd
        return max(0.0, found.estimate.value), None

    def _record(self, response: Response, setup: Setup) -> list[Feature]:
        before, after = (self._volts(response, s) for s in (before_command(self.circuit, response, setup), setup))
        shares, chain_s = {}, 0.0
        for part_id in response.chain:
            part, timing = self.circuit.parts[part_id], self._timing[part_id]
            speed = self._speed(part_id, part, setup) if isinstance(part, DcMotor) else 1.0
            shares[part_id] = Timing(timing.dead_s, timing.lag_s / max(speed, 0.02), timing.runs)
            chain_s += timing.dead_s + shares[part_id].lag_s
        rng = self._hands
        end = min(LONGEST_S, max(4.0, 6.0 * chain_s))
        rate = float(rng.uniform(6.0, 25.0))
        t = np.sort(
            np.arange(0.0, BEFORE_S + end, 1.0 / rate)
            + rng.uniform(-0.15, 0.15, size=len(np.arange(0.0, BEFORE_S + end, 1.0 / rate))) / rate
        )
        moved = np.interp(t - BEFORE_S, *_followed(list(shares.values()), end), left=0.0)
        volts = before + (after - before) * moved + rng.normal(0.0, float(rng.uniform(0.002, 0.012)), size=len(t))
        digit = float(rng.choice([0.005, 0.01, 0.02]))
        channel = Channel("Signal", "V", t, np.round(volts / digit) * digit)
        lane = Lane("Command", ((0.0, "rest"), (BEFORE_S, "moved")), True)
        return features(channel, [lane], float(t[0]), float(t[-1]))

    def _solved(self, setup: Setup, pair: tuple[str, str], flows: list[str]) -> tuple[float, float]:
        population = Population(self.circuit, setup, [self._changes], self._blown, samples=1, deviates=self._deviates)
        waves = population.solve([pair], flows)
        volts = waves.mean([points.volts[:, :, 0] for points in waves.states])[0, 0]
        amps = waves.mean([points.flow_amps[:, :, 0] for points in waves.states])[0, 0] if flows else 0.0
        return float(volts), float(amps)

    def _volts(self, response: Response, setup: Setup) -> float:
        return self._solved(setup, (self.circuit.node(f"{response.input}.pin"), self.circuit.node(f"{response.input}.gnd")), [])[0]

    def _speed(self, part_id: str, motor: DcMotor, setup: Setup) -> float:
        """Back-electromotive force at the motor as a share of that at rated voltage, the usual supply taken as 12.2 V."""
        node = self.circuit.node
        volts, amps = self._solved(setup, (node(f"{part_id}.armature"), node(f"{part_id}.2")), [f"{part_id}.brushes"])
        return (abs(volts) - abs(amps) * motor.armature_ohm) / (12.2 - motor.rated_a * motor.armature_ohm)


def _followed(chain: list[Timing], end: float) -> tuple[Array, Array]:
    """(times, share of the way) of the last part of a chain after a command at 0."""
    t = np.arange(0.0, end + STEP_S, STEP_S)
    seen = np.ones_like(t)
    for part in chain:
        delayed = np.interp(t - part.dead_s, t, seen, left=0.0)
        if part.lag_s <= 0.0:
            seen = delayed
            continue
        out, now = np.empty_like(t), 0.0
        for index, wanted in enumerate(delayed):
            # At constant speed 63 % of the way takes lag_s.
            step = 0.632 * STEP_S / part.lag_s if part.runs else (wanted - now) * STEP_S / part.lag_s
            now = min(float(wanted), now + step) if part.runs else now + step
            out[index] = now
        seen = out
    return t, seen


def draw(name: str, document: CircuitDocument, rng: np.random.Generator) -> Vehicle:
    """A vehicle of a circuit; drawn again until its fault shows at all."""
    described = Circuit(document)
    chain = list(dict.fromkeys(part_id for response in document.responses.values() for part_id in response.chain))
    timing = {}
    for part_id in chain:
        part = described.parts[part_id]
        timing[part_id] = Timing(
            part.dead_s * float(np.exp(SPREAD * rng.standard_normal())), part.lag_s * float(np.exp(SPREAD * rng.standard_normal())),
            isinstance(part, DcMotor) and rng.random() < 0.5,
        )  # fmt: skip
    seed, luck = int(rng.integers(1 << 30)), rng.random()
    if luck < 0.15:
        return Vehicle(name, "healthy", (), (), timing, seed)
    if luck < 0.5:
        listed = troubles(described)
        weights = np.array([trouble.weight for trouble in listed])
        while True:
            trouble = listed[int(rng.choice(len(listed), p=weights / weights.sum()))]
            changes = trouble.draw(rng)
            if not trouble.paths and is_seen(described, RealVehicle(document), changes, 20.0):
                return Vehicle(name, trouble.kind, (trouble.units,), changes, timing, seed)
    total = sum(described.parts[part_id].lag_s for part_id in chain)
    while True:
        part_id = str(rng.choice([p for p in chain if described.parts[p].lag_s]))
        part, own = described.parts[part_id], timing[part_id]
        moves = bool(getattr(part, "moves", ""))
        unit = frozenset({f"{part_id}@system" if moves else part_id})
        if moves and rng.random() < 0.45:
            late = float(np.exp(rng.uniform(np.log(0.25), np.log(4.0))))
            if late > 4.0 * part.dead_s:
                return Vehicle(name, "late", (unit,), (), {**timing, part_id: Timing(own.dead_s + late, own.lag_s, own.runs)}, seed)
            continue
        times = float(np.exp(rng.uniform(np.log(2.5), np.log(22.0))))
        if own.lag_s * (times - 1.0) > 1.2 * total:  # less than this is within what good parts differ by
            return Vehicle(name, "slow", (unit,), (), {**timing, part_id: Timing(own.dead_s, own.lag_s * times, own.runs)}, seed)


def run_circuit(task: tuple[str, int, int]) -> list[tuple[Vehicle, Outcome, Outcome]]:
    """All cases of one circuit, with recordings and without."""
    name, count, seed = task
    document = load_circuit_text(library_circuits()[name])
    with_them = Predictor(Circuit(document), instruments=(*TOOLS, *RECORDED))
    without = Predictor(Circuit(document), instruments=TOOLS)
    rng = np.random.default_rng([seed, *name.encode()])
    found = []
    for _ in range(count):
        drawn = draw(name, document, rng)
        ways = [
            follow_vehicle(predictor, RecordedVehicle(RealVehicle(document), drawn), drawn.units, by_plan, 40)
            for predictor in (with_them, without)
        ]
        found.append((drawn, ways[0], ways[1]))
    return found


def is_right(drawn: Vehicle, outcome: Outcome) -> bool:
    """The unit at fault is in the class that is called; of a healthy vehicle no fault is found."""
    return outcome.right if drawn.units else outcome.cleared


def figures(outcomes: list[tuple[Vehicle, Outcome]]) -> dict[str, object]:
    """Shares of one way of working."""
    n = len(outcomes)
    right = sum(is_right(drawn, outcome) for drawn, outcome in outcomes)
    wrong = sum(outcome.condemns and not outcome.right for _, outcome in outcomes)
    undecided = sum(not (outcome.condemns or outcome.cleared) for _, outcome in outcomes)
    return {
        "cases": n,
        "right": f"{right / n:.1%} (≥ {lower_bound(right, n):.1%})",
        "wrong at 95 %": f"{wrong / n:.2%} (≤ {upper_bound(wrong, n):.2%})",
        "no conclusion": f"{undecided / n:.1%}",
        "minutes": round(float(np.mean([outcome.minutes for _, outcome in outcomes])), 1),
        "readings": round(float(np.mean([outcome.readings for _, outcome in outcomes])), 1),
    }


def described(drawn: Vehicle, outcome: Outcome) -> str:
    """One case in a line."""
    timing = {part: (round(t.dead_s, 2), round(t.lag_s, 2)) for part, t in drawn.timing.items()}
    units = [sorted(units) for units in drawn.units]
    return f"{drawn.circuit} {drawn.kind} {units} {timing} {drawn.changes} -> {outcome.called} {outcome.certainty:.3f} after {outcome.readings}"


def main() -> None:
    """Run and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--cases", type=int, default=320)
    parser.add_argument("--seed", type=int, default=3)
    parser.add_argument("--list", action="store_true", help="print every case that is not right")
    arguments = parser.parse_args()
    names = [name for name, text in library_circuits().items() if load_circuit_text(text).responses]
    tasks = [(name, -(-arguments.cases // len(names)), arguments.seed) for name in names]
    rows: list[tuple[Vehicle, Outcome, Outcome]] = []
    with multiprocessing.get_context("spawn").Pool(2, maxtasksperchild=1) as pool:
        for done in pool.imap_unordered(run_circuit, tasks, chunksize=1):
            rows += done
            for drawn, outcome, _ in done if arguments.list else []:
                if not is_right(drawn, outcome):
                    print(described(drawn, outcome), flush=True)
    of_time = [row for row in rows if row[0].kind in ("slow", "late")]
    for title, chosen in (("all", rows), ("of time", of_time), ("others", [row for row in rows if row not in of_time])):
        print(title, "with recordings", json.dumps(figures([(v, o) for v, o, _ in chosen]), ensure_ascii=False))
        print(title, "without", json.dumps(figures([(v, o) for v, _, o in chosen]), ensure_ascii=False))
    kinds: dict[str, Counter[str]] = defaultdict(Counter)
    for drawn, outcome, _ in rows:
        kinds[drawn.kind]["right" if is_right(drawn, outcome) else "wrong" if outcome.condemns else "open"] += 1
    print({kind: dict(count) for kind, count in sorted(kinds.items()) if set(count) != {"right"}})


if __name__ == "__main__":
    main()
