"""From codes, symptoms and silent modules to what to chase first: one cause or several, and which.

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
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Point, Setup
from sondar.core.circuit.monitors import Observables, observe
from sondar.core.circuit.solver import SetupSolver, blown_fuses
from sondar.core.circuit.vehicle import Stretch, VehicleNetwork
from sondar.core.codes import evidence_weight
from sondar.core.diagnosis.intake import Answers, fault_factors, reasons
from sondar.core.diagnosis.triage_views import (
    ChaseView,
    CodeLink,
    SplitCheck,
    SplitOutcome,
    TriageView,
)

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
KIND_ORDER = {"electrical": 0, "rationality": 1, "system": 2}
SPLIT_GAP_V = 0.6
SPLIT_FROM = 40
LISTED = 6
LISTED_ABOVE = 0.004
IDLE_BELOW = 0.06
"""A candidate that explains nothing of what is known is listed only above this."""


@dataclass(frozen=True)
class SeenCode:
    """A code that is stored. ``weight`` 1: it speaks of now; 0.5: as likely of an earlier time."""

    module: str
    code: str
    weight: float = 1.0

    @classmethod
    def of_status(cls, module: str, code: str, status: int | None) -> SeenCode:
        """Weight from the status byte."""
        return cls(module, code, evidence_weight(status))


@dataclass(frozen=True)
class Evidence:
    """Everything known before the first reading.

    Attributes:
        codes: stored codes.
        read: modules that answered and whose codes are all listed; None if only a list of codes is known (typed or pasted),
            which says less about the absent ones.
        silent: modules that did not answer.
        untested: codes whose status says not tested since clearing.
        symptoms: keys seen; ``denied`` were asked for and are not there.
        answers: the intake.
    """

    codes: tuple[SeenCode, ...] = ()
    read: frozenset[str] | None = None
    silent: frozenset[str] = frozenset()
    untested: frozenset[str] = frozenset()
    symptoms: frozenset[str] = frozenset()
    denied: frozenset[str] = frozenset()
    answers: Answers = field(default_factory=Answers)

    @property
    def is_empty(self) -> bool:
        """True when there is nothing to triage from."""
        return not (self.codes or self.silent or self.symptoms)


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
        self.rates = np.array([fault.rate * severity.weight for fault, severity in self.listed])
        self.stretches: list[Stretch] = [vehicle.stretch_of(fault) for fault, _ in self.listed]

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
        self.triage(Evidence(symptoms=frozenset(self.observables.symptoms[:1])))

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
                # A pair of one signature holds it twice and counts once: two alike causes are one chase.
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

    # -- what it means ------------------------------------------------------------------------------

    def triage(self, evidence: Evidence) -> TriageView:
        """The ordered chase list with its reasons, and the check that would split the candidates."""
        posterior = self.posterior(evidence)
        chases = self._chases(evidence, posterior)
        return TriageView(
            chases=chases[:LISTED],
            none_share=float(posterior.count[0]), one_share=float(posterior.count[1]),
            several_share=float(posterior.count[2:].sum()),
            sentence=self._sentence(evidence, posterior, chases),
            unexplained=self._unexplained(evidence),
            split=self._split(posterior),
            leanings=reasons(self.circuit, evidence.answers),
        )  # fmt: skip

    def _chases(self, evidence: Evidence, posterior: Posterior) -> list[ChaseView]:
        seen = {c.code for c in evidence.codes}
        names = self.observables.codes
        matrix = self.observables.code
        groups: dict[str, list[int]] = {}
        for index, stretch in enumerate(self.stretches):
            groups.setdefault(stretch.id, []).append(index)
        made = []
        for stretch_id, rows in groups.items():
            share = posterior.fault[rows]
            probability = float(min(share.sum(), 1.0))
            if probability < LISTED_ABOVE:
                continue
            stretch = self.stretches[rows[0]]
            expected = share @ matrix[rows] / share.sum()
            symptoms = share @ self.observables.symptom[rows] / share.sum()
            silent = share @ self.observables.silent[rows] / share.sum()
            explains = [CodeLink(code=n, share=float(p)) for n, p in zip(names, expected, strict=True) if n in seen and p > 0.3]
            explains += self._followers(seen, {link.code for link in explains})
            missing = [
                CodeLink(code=n, share=float(p)) for n, p in zip(names, expected, strict=True)
                if n not in seen and p > 0.5 and self._was_read(n, evidence)
            ]  # fmt: skip
            units: dict[str, float] = {}
            for row in rows:
                unit = self.listed[row][0].unit
                units[unit] = units.get(unit, 0.0) + float(posterior.fault[row])
            leading = sorted(units, key=lambda u: -units[u])[:3]
            made.append(
                ChaseView(
                    id=stretch_id, title=stretch.title, circuits=list(stretch.circuits), shared=len(stretch.circuits) > 1,
                    probability=probability, explains=explains, should_have_set=missing,
                    shows=[n for n, p in zip(self.observables.symptoms, symptoms, strict=True) if n in evidence.symptoms and p > 0.3],
                    silences=[n for n, p in zip(self.observables.modules, silent, strict=True) if n in evidence.silent and p > 0.3],
                    units=[self.circuit.units[u].title for u in leading],
                    open_circuit=self._bench_circuit(stretch, seen | evidence.symptoms), reason="",
                )
            )  # fmt: skip
        if not evidence.is_empty:
            made = [c for c in made if c.explains or c.shows or c.silences or c.probability > IDLE_BELOW]
        made.sort(key=lambda c: -self._urgency(c))
        return [chase.model_copy(update={"reason": self._reason(chase, evidence)}) for chase in made]

    def _urgency(self, chase: ChaseView) -> float:
        """Probability first; of near equals electrical codes before rationality before system, and more explained before less."""
        kinds = [KIND_ORDER[self.circuit.document.codes[link.code].kind] for link in chase.explains]
        return chase.probability * (1.0 + 0.02 * len(chase.explains)) * (1.0 - 0.05 * min(kinds, default=0))

    def _was_read(self, code: str, evidence: Evidence) -> bool:
        module = self.circuit.document.codes[code].module
        return code not in evidence.untested and (bool(evidence.codes) if evidence.read is None else module in evidence.read)

    def _bench_circuit(self, stretch: Stretch, seen: set[str]) -> str:
        """Of the circuits that share it, the one with most of what is seen: there the bench finds most to measure."""

        def shown(circuit: str) -> int:
            document = self.vehicle.circuits[circuit]
            return len(seen & {*document.codes, *document.symptoms})

        return min(stretch.circuits, key=lambda c: (-shown(c), c))

    def _followers(self, seen: set[str], explained: set[str]) -> list[CodeLink]:
        """Codes that those explained may have upset."""
        codes = self.circuit.document.codes
        found = {}
        for name in sorted(seen - explained):
            chances = [chance for cause, chance in codes[name].follows.items() if cause in explained] if name in codes else []
            if chances:
                found[name] = max(chances)
        return [CodeLink(code=name, share=chance, follows=True) for name, chance in found.items()]

    def _reason(self, chase: ChaseView, evidence: Evidence) -> str:
        total = len({c.code for c in evidence.codes})
        parts = []
        if total:
            explained = len(chase.explains)
            parts.append(
                f"explains {explained} of {total} code{'s' if total > 1 else ''}" if explained else "explains none of the codes"
            )
        titles = self.circuit.document.symptoms
        parts += [f"would show as: {titles[s].title.lower()}" for s in chase.shows]
        parts += [f"would silence {m}" for m in chase.silences]
        if chase.should_have_set:
            codes = ", ".join(link.code for link in chase.should_have_set[:3])
            parts.append(f"but {codes} should then be there too")
        elif total and chase.explains:
            parts.append("and no code is missing that it would set")
        return "; ".join(parts)

    def _sentence(self, evidence: Evidence, posterior: Posterior, chases: Sequence[ChaseView]) -> str:
        if evidence.is_empty:
            return "Nothing to go by yet: read the codes or say what is noticed."
        if not chases or posterior.count[0] > 0.5:
            return "Nothing on this vehicle's drawings need be wrong now: the codes may tell of an earlier time."
        one, several = float(posterior.count[1]), float(posterior.count[2:].sum())
        first = chases[0]
        n = len({c.code for c in evidence.codes})
        what = f"all {n} codes" if n > 1 else "it"
        if one >= several and (n <= 1 or len(first.explains) == n):
            return f"One cause explains {what} best: {first.title}."
        if one >= several:
            return f"Probably one cause, {first.title}; some codes look like its followers or like history."
        return f"More than one cause is likely. Begin with {first.title}: it explains most."

    def _unexplained(self, evidence: Evidence) -> list[str]:
        """Codes that no circuit of this vehicle knows."""
        return [c.code for c in evidence.codes if c.code not in self.circuit.document.codes]

    # -- the cheapest check that splits the candidates --------------------------------------------------

    def _split(self, posterior: Posterior) -> SplitCheck | None:
        order = np.argsort(-posterior.fault)[:SPLIT_FROM]
        weight = posterior.fault[order] / posterior.fault[order].sum()
        labels = [self.stretches[i].id for i in order]
        clusters = {name: index for index, name in enumerate(dict.fromkeys(labels))}
        if len(clusters) < 2:
            return None
        member = np.zeros((len(order), len(clusters)))
        member[np.arange(len(order)), [clusters[label] for label in labels]] = 1.0
        now = float(((weight @ member) ** 2).sum())
        if now > 0.95:
            return None
        hypotheses = [self.listed[i][1].changes for i in order]
        points, blown = self.split_points, self.blown[order]
        best: tuple[float, SplitCheck] | None = None
        titles = {self.stretches[i].id: self.stretches[i].title for i in order}
        for setup, minutes, solver in self.split_solvers:
            volts = solver.solve(hypotheses, blown).volts[0]  # (H, P)
            for column, point in enumerate(points):
                groups = _gap_groups(volts[:, column])
                if groups.max() == 0:
                    continue
                table = np.stack([(weight * (groups == g)) @ member for g in range(groups.max() + 1)])
                chance = table.sum(axis=1)
                after = float((table**2 / np.maximum(chance, 1e-12)[:, None]).sum())
                worth = (after - now) / (point.access_min + minutes + 0.5)
                if best is None or worth > best[0] * 1.0001:
                    outcomes = _outcomes(volts[:, column], groups, table, [titles[name] for name in clusters])
                    check = SplitCheck(
                        point=point.ref, title=point.title, setup=self._moved(setup), controls=dict(setup.controls),
                        minutes=point.access_min + minutes + 0.5, certainty_now=now, certainty_after=after, outcomes=outcomes,
                    )  # fmt: skip
                    best = (worth, check)
        return best[1] if best is not None and best[1].certainty_after > now + 0.03 else None

    def _moved(self, setup: Setup) -> str:
        """The set-up in words, controls at rest left out."""
        rest = self.circuit.rest_setup()
        moved = Setup(tuple(pair for pair in setup.controls if pair[0] == "key" or rest[pair[0]] != pair[1]))
        return moved.describe()

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


def _outcomes(volts: Array, groups: Ints, table: Array, titles: Sequence[str]) -> list[SplitOutcome]:
    """Ranges of a splitting check and where each points; neighbours that point to the same are one."""
    found: list[SplitOutcome] = []
    for group, row in enumerate(table):
        chance, to = float(row.sum()), titles[int(np.argmax(row))]
        if chance < 0.01:
            continue
        low, high = float(volts[groups == group].min()), float(volts[groups == group].max())
        if found and found[-1].points_to == to:
            last = found.pop()
            low, chance = last.low, chance + last.probability
        found.append(SplitOutcome(low=low, high=high, probability=chance, points_to=to))
    return found


def _gap_groups(values: Array) -> Ints:
    """Group numbers of values that lie within the gap of each other, ascending."""
    order = np.argsort(values)
    step = np.diff(values[order]) > SPLIT_GAP_V
    groups = np.empty(len(values), dtype=np.intp)
    groups[order] = np.concatenate([[0], np.cumsum(step)])
    return groups


def carried_weights(model: TriageModel, posterior: Posterior, circuit_id: str) -> dict[str, float]:
    """Belief of the triage about one circuit's faults, ``fault|severity`` -> probability, to start its bench with."""
    own = model.vehicle.circuits[circuit_id]
    stretches = {part for part, owners in model.vehicle.owners.items() if own.id in owners}
    return {
        f"{fault.id}|{severity.label}": float(p)
        for (fault, severity), p in zip(model.listed, posterior.fault, strict=True)
        if fault.part in stretches
    }


def symptom_menu(vehicle: VehicleNetwork) -> Mapping[str, tuple[str, list[str]]]:
    """Symptom key -> its title and the circuits that can cause it, for a job without a code."""
    found: dict[str, tuple[str, list[str]]] = {}
    for circuit_id, document in vehicle.circuits.items():
        for key, symptom in document.symptoms.items():
            found.setdefault(key, (symptom.title, []))[1].append(circuit_id)
    return found
