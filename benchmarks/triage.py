"""Triage on seeded vehicles with one to three causes: is the first thing proposed a true cause?

Each vehicle's codes come from the physics with all its faults at once; now and then a code is lost or an old one is left over.
Peer: chasing the circuit of the first code, in code order. Two measures, the same for both. *Named*: what is named (a circuit's
own parts, or a shared section) holds a true cause. *Circuit*: a true cause lies anywhere in the circuit that is opened,
everything it shares included; beside it, how many parts that circuit has against how many the named section has.
Run: ``./run bench triage`` (``--cases 240 --seed 3``).
"""

from __future__ import annotations

import argparse
from dataclasses import dataclass

import numpy as np

from sondar.circuit_files import library_network, library_vehicles
from sondar.core.circuit.model import Change
from sondar.core.solving.monitors import observe
from sondar.core.triage.answer import triage
from sondar.core.triage.evidence import Evidence, SeenCode
from sondar.core.triage.model import TriageModel

LOST = 0.04
LEFT_OVER = 0.05
CAUSES = (0.6, 0.3, 0.1)


@dataclass(frozen=True)
class Case:
    """One vehicle: what is wrong (rows of the model's list) and what its modules say."""

    causes: tuple[int, ...]
    evidence: Evidence


def draw(model: TriageModel, count: int, rng: np.random.Generator) -> list[Case]:
    """Vehicles whose faults set at least one code or silence a module; two faults of one part are not drawn."""
    usable = np.flatnonzero((model.observables.code > 0.5).any(axis=1) | (model.observables.silent > 0.5).any(axis=1))
    rates = model.rates[usable] / model.rates[usable].sum()
    document = model.circuit.document
    cases: list[Case] = []
    while len(cases) < count:
        number = int(rng.choice([1, 2, 3], p=CAUSES))
        rows = tuple(int(r) for r in rng.choice(usable, size=number, replace=False, p=rates))
        if len({model.listed[r][0].part for r in rows}) < number:
            continue
        changes: tuple[Change, ...] = tuple(c for r in rows for c in model.listed[r][1].changes)
        seen = observe(model.circuit, [(), changes], ["", "+".join(model.listed[r][0].id for r in rows)])
        silent = {m for m, p in zip(seen.modules, seen.silent[1], strict=True) if p > rng.random()}
        codes = [c for c, p in zip(seen.codes, seen.code[1], strict=True) if p > rng.random() and rng.random() > LOST]
        for name, code in document.codes.items():
            follow = max([chance for cause, chance in code.follows.items() if cause in codes], default=0.0)
            if name not in codes and code.module not in silent and rng.random() < follow:
                codes.append(name)
        old = [
            c for c in document.codes if c not in codes and document.codes[c].module not in silent and rng.random() < LEFT_OVER / 5
        ]
        if not codes and not silent:
            continue
        listed = [SeenCode(document.codes[c].module, c) for c in codes] + [SeenCode(document.codes[c].module, c, 0.5) for c in old]
        read = frozenset(document.modules) - silent
        cases.append(Case(rows, Evidence(tuple(listed), read, frozenset(silent))))
    return cases


def in_code_order(model: TriageModel, case: Case) -> str:
    """The peer: the circuit of the first code; with no code but a silent module, that module's supply circuit."""
    codes = sorted(c.code for c in case.evidence.codes)
    return next(
        (name for code in codes for name, d in model.vehicle.circuits.items() if code in d.codes),
        next((name for name in model.vehicle.circuits if "modules" in name), ""),
    )


@dataclass(frozen=True)
class Row:
    """How one case went, for both policies."""

    causes: int
    named: bool
    circuit: bool
    said: float
    parts: int
    peer_named: bool
    peer_circuit: bool
    peer_parts: int
    in_three: float
    count_right: bool


def judge(model: TriageModel, case: Case) -> Row:
    """Triage one case and compare with its causes."""
    view = triage(model, case.evidence)
    true = {model.sections[r].id for r in case.causes}
    parts = [model.listed[r][0].part for r in case.causes]

    def holds(circuit: str) -> bool:
        return any(circuit in model.vehicle.owners[part] for part in parts)

    first, peer = view.candidates[0], in_code_order(model, case)
    size = {key: sum(s.id == key for s in model.vehicle.sections.values()) for key in {first.id}}
    return Row(
        len(case.causes), first.id in true, holds(first.open_circuit), first.probability, size[first.id], f"circuit:{peer}" in true,
        holds(peer), sum(peer in owners for owners in model.vehicle.owners.values()),
        len(true & {c.id for c in view.candidates[:3]}) / len(true), (view.several_share > 0.5) == (len(true) > 1),
    )  # fmt: skip


def main() -> None:
    """Print the shares."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cases", type=int, default=240)
    parser.add_argument("--seed", type=int, default=3)
    arguments = parser.parse_args()
    rng = np.random.default_rng(arguments.seed)
    rows: list[Row] = []
    for name in library_vehicles():
        model = TriageModel(library_network(name))
        rows += [judge(model, case) for case in draw(model, arguments.cases // 2, rng)]
    print(f"{len(rows)} vehicles, seed {arguments.seed}; Sondar / code order")
    for causes in (1, 2, 3, None):
        part = [row for row in rows if causes in (None, row.causes)]
        label = f"{causes} cause{'s' if causes > 1 else ''}" if causes else "all"

        def mean(field: str, part: list[Row] = part) -> float:
            return float(np.mean([getattr(row, field) for row in part]))

        print(
            f"{label:>9}: n {len(part):3d}  named {mean('named'):.0%} / {mean('peer_named'):.0%} (said {mean('said'):.0%})  "
            f"circuit {mean('circuit'):.0%} / {mean('peer_circuit'):.0%}  parts to search {mean('parts'):.0f} / {mean('peer_parts'):.0f}  "
            f"causes among first three {mean('in_three'):.0%}  one-or-several right {mean('count_right'):.0%}"
        )


if __name__ == "__main__":
    main()
