"""What a vehicle notices about itself under every fault: codes that set, symptoms that show, modules that do not answer.

Physics only, no judging: triage predicts with it, and the simulated vehicle behaves by it. Every limit of the document is
compared with the solved voltage or current in its own set-up, everything plugged in. Near a limit vehicles differ, so the
answer is a probability: the normal distribution function of the distance, in units of the spread.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.special import ndtr

from sondar.core.circuit.document.fields import Condition, Observation
from sondar.core.circuit.model import Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.fuses import blown_fuses
from sondar.core.solving.solver import SetupSolver, changed_branches

Array = npt.NDArray[np.float64]

SPREAD_FLOOR = 0.06
SPREAD_SHARE = 0.02
"""Spread of a monitored quantity among vehicles: 60 mV (or mA) and 2 % of the limit."""


@dataclass(frozen=True, eq=False)
class Observables:
    """Probability of each observation under each hypothesis, everything plugged in.

    Attributes:
        codes, symptoms, modules: names of the columns; ``modules`` lists those that can fail to answer.
        code: (H, C) the condition of the code is met and its module is alive to store it.
        symptom: (H, Y). silent: (H, M) the module does not answer.
    """

    codes: tuple[str, ...]
    symptoms: tuple[str, ...]
    modules: tuple[str, ...]
    code: Array
    symptom: Array
    silent: Array

    @property
    def matrix(self) -> Array:
        """(H, C + Y + M) all of it, in this order."""
        return np.concatenate([self.code, self.symptom, self.silent], axis=1)


def observe(
    circuit: Circuit,
    hypotheses: Sequence[tuple[Change, ...]],
    faults: Sequence[str],
    temperature_c: float = 20.0,
    blown: npt.NDArray[np.bool_] | None = None,
) -> Observables:
    """Solve each watched set-up once for all hypotheses and read every limit from it.

    Args:
        hypotheses: branch changes, one tuple each; several faults at once are simply all their changes.
        faults: per hypothesis the fault ids it contains, joined by ``+``; for the purely mechanical ones.
        blown: (H, n_fuses) fuses opened, if already known.
    """
    document = circuit.document
    if blown is None:
        blown = blown_fuses(circuit, hypotheses, temperature_c)
    answering = {name: module.answers for name, module in document.modules.items() if module.answers}
    conditions = [c for item in (*document.codes.values(), *document.symptoms.values()) for c in item.sets]
    conditions += [c for wanted in answering.values() for c in wanted]
    met = _solve_conditions(circuit, conditions, hypotheses, blown, temperature_c)
    present = [set(names.split("+")) for names in faults]

    def any_of(item: Observation) -> Array:
        missed = np.ones(len(hypotheses))
        for condition in item.sets:
            missed = missed * (1.0 - met[id(condition)])
        for index, names in enumerate(present):
            if names & set(item.faults):
                missed[index] = 0.0
        result: Array = 1.0 - missed
        return result

    silent = {name: 1.0 - np.prod([met[id(c)] for c in wanted], axis=0) for name, wanted in answering.items()}
    alive = {name: 1.0 - silent[name] if name in silent else np.ones(len(hypotheses)) for name in document.modules}
    empty = np.zeros((len(hypotheses), 0))
    raised = {name: any_of(item) * alive[item.module] for name, item in document.codes.items()}
    code = [raised[name] * _tested(item.unless, raised, len(hypotheses)) for name, item in document.codes.items()]
    symptom = [any_of(item) for item in document.symptoms.values()]
    return Observables(
        tuple(document.codes), tuple(document.symptoms), tuple(silent),
        np.stack(code, axis=1) if code else empty,
        np.stack(symptom, axis=1) if symptom else empty,
        np.stack(list(silent.values()), axis=1) if silent else empty,
    )  # fmt: skip


def answer_chance(
    circuit: Circuit, module: str, hypotheses: Sequence[tuple[Change, ...]], blown: npt.NDArray[np.bool_], temperature_c: float
) -> Array:
    """Probability (H,) that a module answers a scan tool, everything plugged in."""
    wanted = circuit.document.modules[module].answers
    met = _solve_conditions(circuit, wanted, hypotheses, blown, temperature_c)
    chance: Array = np.prod([met[id(c)] for c in wanted], axis=0)
    return chance


def _tested(unless: Sequence[str], raised: dict[str, Array], count: int) -> Array:
    """Probability (H,) that none of the codes is set that would keep a monitor from running."""
    free = np.ones(count)
    for name in unless:
        free = free * (1.0 - raised.get(name, np.zeros(count)))
    return free


def _solve_conditions(
    circuit: Circuit,
    conditions: Sequence[Condition],
    hypotheses: Sequence[tuple[Change, ...]],
    blown: npt.NDArray[np.bool_],
    temperature_c: float,
) -> dict[int, Array]:
    """Probability (H,) that each condition is met, by the condition's identity."""
    by_setup: dict[Setup, list[Condition]] = {}
    for condition in conditions:
        by_setup.setdefault(circuit.setup(condition.when, frozenset(), temperature_c), []).append(condition)
    met: dict[int, Array] = {}
    for setup, wanted in by_setup.items():
        pairs = {c.measures: (circuit.node(c.measures[0]), circuit.node(c.measures[1])) for c in wanted if c.measures is not None}
        flows = list(dict.fromkeys(c.flows for c in wanted if c.flows is not None))
        solver = SetupSolver(circuit, setup, list(pairs.values()), samples=1, flows=flows, paths=changed_branches(hypotheses))
        points = solver.solve(hypotheses, blown)
        column = {key: index for index, key in enumerate(pairs)}
        for condition in wanted:
            if condition.measures is not None:
                value = points.volts[0, :, column[condition.measures]]
            else:
                value = np.abs(points.flow_amps[0, :, flows.index(condition.flows or "")])
            limit = condition.above if condition.above is not None else condition.below
            assert limit is not None
            spread = SPREAD_FLOOR + SPREAD_SHARE * abs(limit)
            distance = value - limit if condition.above is not None else limit - value
            met[id(condition)] = ndtr(distance / spread)
    return met
