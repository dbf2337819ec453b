"""Before the call: is something else at fault, too?

What leads is taken as found, and every other fault is put beside it, both solved as one change of the network. So a test that the first
fault makes blind is not proposed, and what the readings so far have already shown to be in order is not asked about again. The tests are
ranked as ever, in minutes: a second fault that is overlooked costs a second round after the repair.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief, update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, HypothesisSet, Suspect, cell_share
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Ranking
from sondar.core.diagnosis.ranking import evaluate, ranked_tests
from sondar.core.instruments.reading import Reading

SECOND_CAUSE = 0.15
"""Chance of a second cause beside one that is there (0.13 against 0.82 in the triage's prior)."""
BLUR = 0.05
"""Faults stand beside the first one at one or two severities; this share of a figure stands for those between."""
SETUPS = 8
"""Set-ups that are looked at, the quickest to make first."""
FIRST_CELLS = 3
"""Severities of the first fault that stand alone."""
ALTERNATIVES = 3
PAYS_FOR_SECOND = 0.4
"""A test for a second fault is proposed before the call from this saving per minute on: one test alone is good for a few of the many."""
LIKELY = 0.005
"""Severities that are this likely already are looked at whatever fault they are of."""
NEVER_UNDRAWN = 1e-6


ONE_PLACE = 8.0
"""By how much likelier a second fault is at the place of the first: a chafed loom has several wires, a wet plug several contacts."""


def one_place(circuit: Circuit, one: str, other: str) -> bool:
    """True if two units can be damaged by one event: contacts of one plug, wires between the same two, a wire and a contact at its end."""
    first, second = _plugs(circuit, one), _plugs(circuit, other)
    return bool(first & second) and (first == second or min(len(first), len(second)) == 1)


def _plugs(circuit: Circuit, unit: str) -> frozenset[str]:
    """Connectors that a wire ends in, or the one that a contact belongs to; none for anything else."""
    wire, connectors = circuit.document.wires.get(unit), circuit.document.connectors
    refs = (wire.from_, wire.to) if wire is not None else (unit,) if "." in unit else ()
    return frozenset(ref.split(".")[0] for ref in refs) & connectors.keys()


@dataclass(frozen=True)
class Beside:
    """What may be at fault beside what leads.

    Attributes:
        share: probability of any second fault. rows: hypotheses of the drawing that it may be, likeliest first, with their probability;
            first: the hypothesis that leads.
        ranking: which test would show it.
    """

    first: int
    share: float
    rows: tuple[tuple[int, float], ...]
    ranking: Ranking


def _others(hypotheses: HypothesisSet, units: frozenset[str]) -> list[int]:
    """Of each fault elsewhere its most frequent severity and its worst."""
    found: dict[int, None] = {}
    by_fault: dict[str, list[int]] = {}
    for index, suspect in enumerate(hypotheses.suspects[1:-1], start=1):
        if suspect.unit not in units:
            by_fault.setdefault(suspect.fault, []).append(index)
    for rows in by_fault.values():
        often = max(rows, key=lambda h: hypotheses.prior[h])
        graded = often not in (hypotheses.milder[often], hypotheses.worse[often])
        found[often], found[rows[-1] if graded else often] = None, None
    return list(found)


def _beside_first(circuit: Circuit, belief: Belief, first: list[int], others: list[int]) -> HypothesisSet:
    """The first fault alone, as *none*, at some severities, and each other fault beside it."""
    hypotheses = belief.hypotheses
    suspects, lead = hypotheses.suspects, first[0]
    alone = belief.now[first] / belief.now[first].sum() * (1.0 - SECOND_CAUSE)
    weights = np.zeros(len(suspects))
    rates: dict[str, float] = {}
    for suspect, share in zip(suspects[1:-1], hypotheses.prior[1:-1], strict=True):
        rates[suspect.fault] = rates.get(suspect.fault, 0.0) + float(share)
    for fault in {suspects[h].fault for h in others}:
        rows = [h for h in others if suspects[h].fault == fault]
        near = ONE_PLACE if one_place(circuit, suspects[lead].unit, suspects[rows[0]].unit) else 1.0
        weights[rows] = near * rates[fault] / len(rows)
    second = weights[others] / weights[others].sum() * SECOND_CAUSE
    made = [*(Suspect(NONE, "", NONE, NONE) for _ in first), *(suspects[h] for h in others)]
    everyone = (*made, Suspect(UNKNOWN, "", UNKNOWN, UNKNOWN, UNKNOWN))
    changes = [*(hypotheses.changes[h] for h in first), *((*hypotheses.changes[lead], *hypotheses.changes[h]) for h in others)]
    blown = np.array([*(hypotheses.blown[h] for h in first), *(hypotheses.blown[lead] | hypotheses.blown[h] for h in others)])
    prior = np.concatenate([alone, second, [NEVER_UNDRAWN]])
    units = tuple(dict.fromkeys(s.unit for s in everyone))
    member = np.array([[float(s.unit == unit) for unit in units] for s in everyone])
    itself = np.arange(len(changes))
    return HypothesisSet(
        everyone, tuple(changes), blown, prior / prior.sum(), units, member, itself, itself, cell_share(itself, itself)
    )


def beside(predictor: Predictor, belief: Belief, readings: Sequence[Reading], situation: Situation) -> Beside | None:
    """What may be at fault beside what leads, after all readings; None if nothing on the drawing leads or nothing else is on it."""
    hypotheses = belief.hypotheses
    lead = int(np.argmax(belief.now[:-1]))
    fault, unit = hypotheses.suspects[lead].fault, hypotheses.suspects[lead].unit
    if unit == NONE:
        return None
    same = [h for h in hypotheses.index(fault) if h != lead and belief.now[h] > 0.01 * belief.now[lead]]
    first = [lead, *sorted(same, key=lambda h: -belief.now[h])][:FIRST_CELLS]
    leading = [int(h) for h in np.flatnonzero(belief.now[:-1] > LIKELY) if hypotheses.suspects[h].unit not in (unit, NONE)]
    others = list(dict.fromkeys([*_others(hypotheses, frozenset({unit})), *leading]))
    if not others:
        return None
    key = ("second", *first, *others)
    second = predictor.of(key, lambda: _beside_first(predictor.circuit, belief, first, others), BLUR)
    measured = [reading for reading in readings if not reading.device.finding]
    found = update(second, measured)
    near = replace(situation, most_setups=SETUPS)
    ranking, _ = ranked_tests(second, found, near, ALTERNATIVES)
    shares = found.now[len(first) : -1]
    order = [int(i) for i in np.argsort(-shares)]
    return Beside(lead, float(shares.sum()), tuple((others[i], float(shares[i])) for i in order), ranking)


def asked(predictor: Predictor, belief: Belief, ranking: Ranking, found: Beside, situation: Situation) -> Ranking:
    """The ranking of a call that is due, put off while a test for a second fault saves more minutes than it takes."""
    paying = [p for p in found.ranking.proposals if p.saving_per_min >= PAYS_FOR_SECOND]
    shown = []
    for proposal in paying:
        here = evaluate(predictor, belief, situation, proposal.test)
        if here is not None:
            shown.append(replace(here, saving_min=proposal.saving_min))
    if not shown:
        return ranking
    others = [p for p in ranking.proposals if p.test not in {q.test for q in shown}]
    return replace(ranking, proposals=(*shown, *others), settled=False, reason="second", same_setup=())
