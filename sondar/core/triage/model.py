"""From codes, symptoms and silent modules to which circuit to test first: one cause or several, and which.

Model. Every fault of the joined network predicts which codes set, which symptoms show and which modules stay silent
(``monitors``). A *cause set* of none to three faults predicts by noisy-or (Pearl, 1988): an observation is missing only if every
cause fails to make it and nothing else does. Exact Bayes over the sets, faults with the same predictions taken together as one
*signature*; sets of three are grown from the best signatures.

    P(observed | S) = 1 − (1 − leak) · Π_{f in S} (1 − p_f)

A code that is there but is only history may stem from an earlier time: its likelihood is mixed with "unrelated". A code that is
not there counts only if its module was read, by the chance that its monitor has run.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Point, Setup
from sondar.core.circuit.vehicle import Section, VehicleNetwork
from sondar.core.diagnosis.base_rates import base_rates
from sondar.core.diagnosis.hypotheses import suspect_id
from sondar.core.solving.fuses import blown_fuses
from sondar.core.solving.monitors import Observables, observe
from sondar.core.solving.solver import SetupSolver
from sondar.core.triage.evidence import Evidence
from sondar.core.triage.prior_factors import fault_factors

Array = npt.NDArray[np.float64]
Ints = npt.NDArray[np.intp]

COUNT_PRIOR = (0.02, 0.82, 0.13, 0.03)
"""Prior of no, one, two, three causes present when a vehicle comes in."""
CODE_LEAK = 0.004
"""A code sets for a reason outside the drawing."""
HISTORY_LEAK = 0.25
SILENT_LEAK = 0.01
SYMPTOM_LEAK = 0.02
RAN = 0.92
"""Chance that a monitor whose module was read has run, when the status does not say."""
RAN_UNTESTED = 0.1
SEES = 0.97
"""Chance that a met condition leaves its code."""
MENTIONED = 0.35
"""Chance that the customer mentions a symptom that is there."""
OFFERED = 0.8
"""The same when the symptom was asked for."""
TRIPLES_FROM = 36


@dataclass(frozen=True, eq=False)
class Posterior:
    """What the evidence leaves.

    Attributes:
        fault: (F,) probability that each (fault, severity) is among the causes.
        count: (4,) probability of none, one, two, three causes.
        best: fault indices of the most probable set, one per cause (the likeliest of its signature).
        best_share: its probability.
    """

    fault: Array
    count: Array
    best: tuple[int, ...]
    best_share: float


class TriageModel:
    """One vehicle network, its faults and what each makes the vehicle notice. Computed once, shared by jobs."""

    def __init__(self, vehicle: VehicleNetwork, temperature_c: float = 20.0) -> None:
        self.vehicle = vehicle
        self.circuit = vehicle.network
        self.temperature_c = temperature_c
        self.listed = [(fault, severity) for fault in self.circuit.faults.values() for severity in fault.severities]
        self.rates = base_rates(self.circuit, [fault for fault, _ in self.listed], [severity.weight for _, severity in self.listed])
        self.sections: list[Section] = [vehicle.section_of(fault) for fault, _ in self.listed]

    @cached_property
    def observables(self) -> Observables:
        """Predictions of every (fault, severity)."""
        return observe(
            self.circuit, [s.changes for _, s in self.listed], [f.id for f, _ in self.listed], self.temperature_c, self.blown
        )

    @cached_property
    def blown(self) -> npt.NDArray[np.bool_]:
        """(F, n_fuses) fuses that each fault has opened."""
        return blown_fuses(self.circuit, [s.changes for _, s in self.listed], self.temperature_c)

    @cached_property
    def split_points(self) -> list[Point]:
        """Where a probe goes without parting anything."""
        black = self.circuit.node(self.circuit.black_reference)
        return [p for p in self.circuit.points.values() if p.when == "any" and p.node != black]

    @cached_property
    def split_solvers(self) -> list[tuple[Setup, float, SetupSolver]]:
        """Set-ups in which the splitting check may be made, the minutes to get there, and the solved network in each."""
        black = self.circuit.node(self.circuit.black_reference)
        pairs = [(p.node, black) for p in self.split_points]
        return [(setup, minutes, SetupSolver(self.circuit, setup, pairs, samples=1)) for setup, minutes in self._split_setups()]

    def prepare(self) -> None:
        """Everything that a first triage would otherwise wait for."""
        self.posterior(Evidence(symptoms=frozenset(self.observables.symptoms[:1])))
        for _, _, solver in self.split_solvers:
            solver.solve([()], self.blown[:1] & False)

    @cached_property
    def shows(self) -> npt.NDArray[np.bool_]:
        """(F,) True for faults that make the vehicle notice anything at all."""
        return np.asarray((self.observables.matrix > 0.3).any(axis=1))

    # -- belief -------------------------------------------------------------------------------------

    def posterior(self, evidence: Evidence) -> Posterior:
        """Exact over none, one and two causes; three causes from the best signatures."""
        factors = fault_factors(self.circuit, evidence.answers)
        rates = self.rates * np.array([factors[f.id] for f, _ in self.listed]) * np.where(self.shows, 1.0, 0.05)
        rates = rates / rates.sum()
        present, absent, leak = self._likelihoods(evidence)
        predicted = self.observables.matrix
        signatures, member = np.unique(np.round(predicted, 1), axis=0, return_inverse=True)
        member = member.ravel()
        share = np.bincount(member, rates, len(signatures))
        missing = np.log1p(
            -np.minimum(np.stack([predicted[member == s].mean(axis=0) for s in range(len(signatures))]), 0.999) * SEES
        )
        base = np.log1p(-leak)

        def score(sets: Ints) -> Array:
            """Log likelihood of cause sets, (N, n) indices of signatures."""
            none = base + missing[sets].sum(axis=1) if sets.shape[1] else base[None, :]
            q = 1.0 - np.exp(none)
            result: Array = np.log(np.clip(present * q + absent * (1.0 - q), 1e-12, None)).sum(axis=1)
            return result

        n = len(signatures)
        singles = np.arange(n)[:, None]
        single_log = score(singles)
        pairs = np.array(list(itertools.combinations_with_replacement(range(n), 2)), dtype=np.intp)
        pair_log = score(pairs)
        pair_prior = share[pairs].prod(axis=1) * np.where(pairs[:, 0] == pairs[:, 1], 1.0, 2.0)
        levels: list[tuple[Ints, Array]] = [
            (np.zeros((1, 0), dtype=np.intp), np.log(COUNT_PRIOR[0]) + score(np.zeros((1, 0), dtype=np.intp))),
            (singles, np.log(COUNT_PRIOR[1]) + np.log(share) + single_log),
            (pairs, np.log(COUNT_PRIOR[2]) + np.log(pair_prior) + pair_log),
        ]
        promise = levels[1][1].copy()
        np.maximum.at(promise, pairs[:, 0], levels[2][1])
        np.maximum.at(promise, pairs[:, 1], levels[2][1])
        top = np.sort(np.argsort(-promise)[:TRIPLES_FROM])
        triples = np.array(list(itertools.combinations(top, 3)), dtype=np.intp).reshape(-1, 3)
        if len(triples):
            triple_prior = 6.0 * share[triples].prod(axis=1)
            levels.append((triples, np.log(COUNT_PRIOR[3]) + np.log(triple_prior) + score(triples)))
        peak = max(float(logs.max()) for _, logs in levels)
        weights = [np.exp(logs - peak) for _, logs in levels]
        total = sum(float(w.sum()) for w in weights)
        count = np.zeros(4)
        signature = np.zeros(n)
        for (sets, _), weight in zip(levels, weights, strict=True):
            count[sets.shape[1]] += weight.sum() / total
            for column in range(sets.shape[1]):
                # A pair of one signature holds it twice and counts once: two alike causes are one diagnosis.
                first = np.ones(len(sets)) if column == 0 else (sets[:, column] != sets[:, column - 1]).astype(float)
                signature += np.bincount(sets[:, column], weight * first / total, n)
        level = int(np.argmax([w.max() for w in weights]))
        best = levels[level][0][int(np.argmax(weights[level]))]
        likeliest = tuple(int(np.argmax(np.where(member == s, rates, -1.0))) for s in dict.fromkeys(best.tolist()))
        return Posterior(signature[member] * rates / share[member], count, likeliest, float(weights[level].max() / total))

    def _likelihoods(self, evidence: Evidence) -> tuple[Array, Array, Array]:
        """Per observation: likelihood if it is made, if it is not, and the chance it is made by nothing listed."""
        seen = {code.code: code for code in evidence.codes}
        document = self.circuit.document
        present, absent, leak = [], [], []
        for name in self.observables.codes:
            code = document.codes[name]
            upset = [chance for cause, chance in code.follows.items() if cause in seen]
            leak.append(max([CODE_LEAK, *upset]))
            if name in seen:
                stale = 1.0 - seen[name].weight
                present.append(1.0)
                absent.append(HISTORY_LEAK * stale * 2.0 if stale else 0.0)
            else:
                ran = RAN if evidence.read is not None and code.module in evidence.read else 0.0
                if evidence.read is None and evidence.codes:
                    ran = (
                        RAN
                        if code.module in {c.module for c in evidence.codes} or not any(c.module for c in evidence.codes)
                        else 0.5
                    )
                if name in evidence.untested:
                    ran = RAN_UNTESTED
                present.append(1.0 - ran)
                absent.append(1.0)
        for name in self.observables.symptoms:
            leak.append(SYMPTOM_LEAK)
            if name in evidence.symptoms:
                present.append(1.0)
                absent.append(0.0)
            else:
                present.append(1.0 - (OFFERED if name in evidence.denied else MENTIONED))
                absent.append(1.0)
        for name in self.observables.modules:
            leak.append(SILENT_LEAK)
            asked = name in evidence.silent or (evidence.read is not None and name in evidence.read)
            present.append(1.0 if name in evidence.silent or not asked else 0.02)
            absent.append(0.0 if name in evidence.silent else 1.0)
        return np.array(present), np.array(absent), np.array(leak)

    def _split_setups(self) -> list[tuple[Setup, float]]:
        """Key on, and key on with each control moved that a code watches; with the minutes to get there."""
        rest = self.circuit.setup({"key": "on"}, frozenset(), self.temperature_c)
        found = {rest: 0.2}
        for code in self.circuit.document.codes.values():
            for condition in code.sets:
                setup = self.circuit.setup(condition.when, frozenset(), self.temperature_c)
                minutes = sum(
                    self.circuit.document.controls[name].minutes
                    for name, value in condition.when.items()
                    if name in self.circuit.document.controls and value != self.circuit.controls[name][0]
                )
                found.setdefault(setup, 0.2 + minutes)
        return list(found.items())[:8]


def triage_prior(model: TriageModel, posterior: Posterior, circuit_id: str) -> dict[str, float]:
    """Belief of the triage about one circuit's faults, ``Suspect.id`` -> probability, to start its diagnosis with."""
    own = model.vehicle.circuits[circuit_id]
    sections = {part for part, owners in model.vehicle.owners.items() if own.id in owners}
    return {
        suspect_id(fault, severity): float(p)
        for (fault, severity), p in zip(model.listed, posterior.fault, strict=True)
        if fault.part in sections
    }


def symptom_menu(vehicle: VehicleNetwork) -> Mapping[str, tuple[str, list[str]]]:
    """Symptom key -> its title and the circuits that can cause it, for a job without a code."""
    found: dict[str, tuple[str, list[str]]] = {}
    for circuit_id, document in vehicle.circuits.items():
        for key, symptom in document.symptoms.items():
            found.setdefault(key, (symptom.title, []))[1].append(circuit_id)
    return found
