"""The network of a set-up and a fault as a SPICE netlist, so that any circuit simulator can check it.

Relay contacts become current-controlled switches, curves become behavioural sources with the same published formula:
the simulator finds the operating point by its own method.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from sondar.core.circuit.families.supply import Fuse
from sondar.core.circuit.model import CHASSIS, OPEN_OHM, Branch, Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.changes import LEAST_OHM
from sondar.core.solving.ports import LEAK_SIEMENS


def netlist(
    circuit: Circuit,
    setup: Setup,
    changes: Sequence[Change] = (),
    blown: Sequence[str] = (),
    loads: Sequence[tuple[str, str, float]] = (),
    emf_v: dict[str, float] | None = None,
    started: Collection[str] = (),
) -> tuple[list[str], dict[str, str]]:
    """Netlist lines (without title and analysis) and the simulator's name of each node.

    Args:
        changes: the fault, as branch changes.
        blown: ids of fuses that have opened.
        loads: (red node, black node, ohms) of instruments connected.
        emf_v: source voltages to use instead of nominal ones, by branch id.
        started: contacts that conducted before the fault: a relay that feeds its own coil stays as it was.
    """
    names = {CHASSIS: "0"}
    lines: list[str] = []
    by_branch = {change.branch: change for change in changes}
    coils: dict[str, str] = {}
    branches = circuit.branches(setup)
    wanted_coils = {b.contact.coil for b in branches if b.contact is not None}

    def node(name: str) -> str:
        return names.setdefault(name, f"n{len(names)}")

    for index, branch in enumerate(branches):
        a, b = node(branch.a), node(branch.b)
        change = by_branch.get(branch.id)
        tag = f"{index}"
        if branch.curve is not None:
            lines += _curve_lines(branch, change, tag, a, b)
            continue
        emf = _emf(branch, change) if emf_v is None else emf_v.get(branch.id, _emf(branch, change))
        if branch.contact is not None:
            if emf:
                lines.append(f"Vc{tag} {a} x{tag} {emf!r}")
                a = f"x{tag}"
            coil = by_branch.get(branch.contact.coil)
            held = coil is not None and coil.blocks
            lines += _contact_lines(branch, change, tag, a, b, branch.id in started, held)
            continue
        ohm = _changed(branch.resistance_ohm, change)
        if branch.id in blown and isinstance(circuit.parts[branch.part], Fuse):
            ohm += OPEN_OHM
        if ohm == float("inf"):
            continue
        if branch.id in wanted_coils:
            coils[branch.id] = f"Vs{tag}"
            lines.append(f"Vs{tag} {a} c{tag} 0")
            a = f"c{tag}"
        if emf:
            lines += [f"V{tag} {a} e{tag} {emf!r}", f"R{tag} e{tag} {b} {ohm!r}"]
        else:
            lines.append(f"R{tag} {a} {b} {ohm!r}")
    lines = [line.replace(f"@coil:{coil}@", source) for line in lines for coil, source in [_coil_of(line, coils)]]
    for red, black, ohm in loads:
        lines.append(f"Rload{len(lines)} {node(red)} {node(black)} {ohm!r}")
    lines += [f"Rleak{i} {name} 0 {1 / LEAK_SIEMENS!r}" for i, name in enumerate(n for n in names.values() if n != "0")]
    return lines, names


def _emf(branch: Branch, change: Change | None) -> float:
    if change is not None and change.emf_v is not None and branch.emf_v:
        return change.emf_v
    return branch.emf_v * (1.0 if change is None or change.emf_scale is None else change.emf_scale)


def _changed(ohm: float, change: Change | None) -> float:
    if change is None:
        return ohm
    if change.set_ohm is not None:
        return change.set_ohm
    if change.add_ohm is not None:
        return max(ohm + change.add_ohm, LEAST_OHM)
    return ohm * change.scale if change.scale is not None else ohm


def _coil_of(line: str, coils: dict[str, str]) -> tuple[str, str]:
    if "@coil:" not in line:
        return "", ""
    coil = line.split("@coil:")[1].split("@")[0]
    return coil, coils[coil]


HELD_A = 1e9
"""Current that no coil has: what carries the contact is kept from moving."""


def _contact_lines(branch: Branch, change: Change | None, tag: str, a: str, b: str, started: bool, held: bool) -> list[str]:
    assert branch.contact is not None
    if change is not None and change.set_ohm is not None:
        return [f"R{tag} {a} {b} {change.set_ohm!r}"]
    closed, opened = _changed(branch.contact.closed_ohm, change), _changed(branch.contact.open_ohm, change)
    # |coil current| through a behavioural source, so that polarity does not matter, into a voltage-controlled switch.
    threshold = HELD_A if held else branch.contact.pull_in_a
    at_rest = branch.contact.closed_at_rest
    on, off = (opened, closed) if at_rest else (closed, opened)
    return [
        f"Bc{tag} k{tag} 0 V=abs(i(@coil:{branch.contact.coil}@))",
        f"S{tag} {a} {b} k{tag} 0 relay{tag} {'on' if started != at_rest else 'off'}",
        f".model relay{tag} sw(vt={threshold!r} vh=0 ron={on!r} roff={off!r})",
    ]


def _curve_lines(branch: Branch, change: Change | None, tag: str, a: str, b: str) -> list[str]:
    assert branch.curve is not None
    p = list(branch.curve.parameters)
    lines = []
    if change is not None and change.curve_parameters is not None:
        for position, value in change.curve_parameters:
            p[position] = value
    if change is not None and change.set_ohm is not None:
        lines.append(f"Rx{tag} {a} {b} {change.set_ohm!r}")
    v = f"v({a},{b})" if b != "0" else f"v({a})"
    if branch.curve.kind == "lamp":
        cold2 = (p[1] * p[2]) ** 2
        rise = (p[1] ** 2 - cold2) / p[0] ** 0.9
        expression = f"{v}/sqrt({cold2!r}+{rise!r}*pow(abs({v})+1e-12,0.9))"
    elif branch.curve.kind == "motor":
        spare = f"max(abs({v})-{p[0] * p[2]!r},0)"
        back = f"2*{spare}/(1+sqrt(1+{4 * p[1] * p[0]!r}*{spare}))"
        expression = f"sgn({v})*(abs({v})-{back})/{p[0]!r}"
    elif branch.curve.kind == "sink":
        expression = f"{p[0]!r}*tanh({v}/{p[1]!r})"
    else:
        expression = f"{v}/{p[2]!r} + ({v}>{p[0]!r} ? ({v}-{p[0]!r})/{p[1]!r} : 0)"
    return [*lines, f"B{tag} {a} {b} I={expression}"]
