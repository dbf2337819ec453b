"""What the customer and a look at the vehicle say, as evidence: factors on how likely each fault is before any reading.

The factors are coarse on purpose (×1.5 … ×5): hearsay moves a prior, measurements decide. Each carries its reason in words.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from sondar.core.circuit.families import Contact, Wire
from sondar.core.circuit.model import CHASSIS, Fault, Group
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.base_rates import GROUP_SHARES

CONDITIONS = {
    "always": "all the time",
    "sometimes": "comes and goes",
    "cold": "only cold",
    "hot": "only warm",
    "wet": "rain or after washing",
    "bumps": "bumps and bends",
    "load": "under load",
    "start": "when starting",
}
ENVIRONMENTS = {
    "salt": "salt or spray",
    "water": "water inside",
    "rodents": "rodent damage",
    "accident": "accident repaired",
    "offroad": "rough ground",
}
FLAT_BATTERY_V, GOOD_BATTERY_V = 11.9, 12.4


@dataclass(frozen=True)
class Answers:
    """What was learnt at the door.

    Attributes:
        conditions, environments: keys of ``CONDITIONS`` and ``ENVIRONMENTS``.
        recent_work: ids of parts that were replaced or worked on.
        battery_v: terminal voltage, key off; None if not measured.
        reproduced: True or False once it was tried.
        group_shares: the workshop's own percentages of what comes in, by whose it is; empty for those of ``base_rates``.
    """

    conditions: frozenset[str] = frozenset()
    environments: frozenset[str] = frozenset()
    recent_work: frozenset[str] = frozenset()
    battery_v: float | None = None
    reproduced: bool | None = None
    group_shares: Mapping[Group, float] = field(default_factory=dict)


@dataclass(frozen=True)
class PriorFactor:
    """One answer's effect: which faults it raises or lowers, by what factor, and why."""

    reason: str
    factor: float
    applies: Callable[[Fault], bool]


def prior_factors(circuit: Circuit, answers: Answers) -> list[PriorFactor]:
    """Every answer that says something about this circuit."""

    def is_wiring(fault: Fault) -> bool:
        return fault.group == "wiring"

    def is_wire(fault: Fault) -> bool:
        return isinstance(circuit.parts[fault.part], Wire)

    def is_exposed(fault: Fault) -> bool:
        part = circuit.parts[fault.part]
        if isinstance(part, Contact):
            return circuit.document.connectors[part.connector].exposed
        return bool(getattr(part, "exposed", False))

    def is_series(fault: Fault) -> bool:
        return "series" in fault.traits

    def is_open(fault: Fault) -> bool:
        return "open" in fault.traits

    total = sum(answers.group_shares.values())
    found = [
        PriorFactor("the workshop's own figures for what fails", share / total / GROUP_SHARES[group], _is_of(group))
        for group, share in answers.group_shares.items()
        if group in GROUP_SHARES
    ]
    found += [
        PriorFactor(f"{ENVIRONMENTS[key]}: {text}", factor, test)
        for key, text, factor, test in (
            ("salt", "exposed wiring and contacts corrode", 2.5, lambda f: is_wiring(f) and is_exposed(f)),
            ("salt", "contacts and grounds corrode", 1.5, lambda f: is_wiring(f) and is_series(f) and not is_exposed(f)),
            ("water", "wiring and plugs", 2.5, is_wiring),
            ("rodents", "wires bitten through", 5.0, is_wire),
            ("accident", "wiring pinched or not connected", 2.0, is_wiring),
            ("offroad", "wiring shaken and torn", 1.5, lambda f: is_wiring(f) and is_open(f)),
        )
        if key in answers.environments
    ]
    found += [
        PriorFactor(f"{CONDITIONS[key]}: {text}", factor, test)
        for key, text, factor, test in (
            ("wet", "damp paths and corroded contacts", 2.5, lambda f: is_wiring(f) and (is_exposed(f) or "leak" in f.traits)),
            ("bumps", "loose contacts and broken strands", 2.5, lambda f: is_wiring(f) and is_open(f)),
            ("load", "series resistance shows under load", 2.0, is_series),
            ("cold", "parts that change with temperature", 1.8, lambda f: f.group != "wiring" and not is_open(f)),
            ("hot", "parts that fail warm", 1.8, lambda f: f.group != "wiring"),
            ("start", "weak supply while cranking", 3.0, lambda f: f.part == circuit.battery),
        )
        if key in answers.conditions
    ]
    near = neighbours(circuit, answers.recent_work)
    if near:
        found.append(
            PriorFactor("recent work: what was touched there", 3.0, lambda f: f.part in near and f.part not in answers.recent_work)
        )
        found.append(
            PriorFactor(
                "recent work: a new part can be bad, or the wrong one",
                3.0,
                lambda f: f.part in answers.recent_work or f.unit in answers.recent_work,
            )
        )
    if answers.battery_v is not None and answers.battery_v < FLAT_BATTERY_V:
        found.append(PriorFactor(f"battery at {answers.battery_v:.1f} V", 6.0, lambda f: f.part == circuit.battery))
    if answers.battery_v is not None and answers.battery_v >= GOOD_BATTERY_V:
        found.append(PriorFactor(f"battery at {answers.battery_v:.1f} V", 0.3, lambda f: f.part == circuit.battery))
    return found


def _is_of(group: str) -> Callable[[Fault], bool]:
    return lambda fault: fault.group == group


def neighbours(circuit: Circuit, parts: Sequence[str] | frozenset[str]) -> frozenset[str]:
    """Parts, wires and contacts within reach of the work: joined to it, in its connector, or at the wire's other end."""
    reached = {p for p in parts if p in circuit.parts or p in circuit.document.connectors or p in circuit.document.modules}
    if not reached:
        return frozenset()
    reached |= {i for i, part in circuit.parts.items() if part.module in reached}
    touching: dict[str, set[str]] = {}
    for branch in circuit.branches(circuit.rest_setup()):
        for node in (branch.a, branch.b):
            if node != CHASSIS:
                touching.setdefault(node, set()).add(branch.part)
    for _ in range(2):  # the plug at the part, then the wire behind the plug
        reached |= {p for parts_at in touching.values() if parts_at & reached for p in parts_at}
        plugs = {part.connector for p in reached if isinstance(part := circuit.parts.get(p), Contact)}
        reached |= {i for i, part in circuit.parts.items() if isinstance(part, Contact) and part.connector in plugs}
    return frozenset(p for p in reached if p in circuit.parts)


def fault_factors(circuit: Circuit, answers: Answers) -> dict[str, float]:
    """Fault id -> product of the factors that apply to it."""
    applied = prior_factors(circuit, answers)
    factors = {}
    for fault in circuit.faults.values():
        factor = 1.0
        for leaning in applied:
            if leaning.applies(fault):
                factor *= leaning.factor
        factors[fault.id] = factor
    return factors


def reasons(circuit: Circuit, answers: Answers) -> list[str]:
    """The answers that count here, in words."""
    return list(dict.fromkeys(leaning.reason for leaning in prior_factors(circuit, answers)))
