"""Codes and symptoms tied to a circuit by a person: what sets them follows from what they say and from the circuit.

A code that says *low* or *high* sets when the module's input for it is near the end of its range; any other code, and a symptom, can
come from every fault of the circuit but the battery's.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

from sondar.core.circuit.network import Circuit
from sondar.core.word_match import words_of

NEAR_END = 0.05
"""Share of the input's supply within which a signal counts as too low or too high."""
ALIKE = 0.6
"""Share of the words that a code's part and a circuit's title have in common, from which it is offered."""
NOBODYS = ("battery",)
"""Families whose faults belong to the whole vehicle and not to one circuit's code."""


def tied_code(
    circuit: Circuit, title: str, part: str, kind: Literal["electrical", "rationality", "system"], manner: str
) -> dict[str, Any] | None:
    """A code's entry in the circuit's file; None if no module of the circuit could store it.

    Args:
        part: what the code is about, in words: where a module has several inputs, the one that is called so. manner: ``low``, ``high``, …
    """
    modules = list(circuit.document.modules)
    if not modules:
        return None
    found: dict[str, Any] = {"title": title, "module": modules[0], "kind": kind}
    port = _input_for(circuit, part) if manner in ("low", "high") else ""
    if port:
        supply = float(getattr(circuit.parts[port], "supply_v", 5.0))
        limit = {"below": round(NEAR_END * supply, 3)} if manner == "low" else {"above": round((1.0 - NEAR_END) * supply, 3)}
        found["module"] = getattr(circuit.parts[port], "module", "") or modules[0]
        found["sets"] = [{"when": {"key": "on"}, "measures": [f"{port}.pin", f"{port}.gnd"], **limit}]
    else:
        found["faults"] = faults_of(circuit)
    return found


def tied_symptom(circuit: Circuit, title: str) -> dict[str, Any]:
    """A symptom's entry in the circuit's file."""
    return {"title": title, "faults": faults_of(circuit)}


def faults_of(circuit: Circuit) -> list[str]:
    """Every fault of a circuit but those of the battery."""
    spared = {name for name, part in circuit.document.parts.items() if part.family in NOBODYS}
    return [name for name, fault in circuit.faults.items() if fault.part not in spared]


def _input_for(circuit: Circuit, part: str) -> str:
    """The input of a module that a code is about: the one with most words in common, the first of equals; empty if there is none."""
    ports = [name for name, one in circuit.document.parts.items() if one.family == "module_input"]
    wanted = set(words_of(part))
    return max(
        ports, key=lambda name: (len(wanted & set(words_of(circuit.document.parts[name].title))), -ports.index(name)), default=""
    )


def with_ties(
    data: dict[str, Any], codes: Mapping[str, Mapping[str, Any]], symptoms: Mapping[str, Mapping[str, Any]]
) -> dict[str, Any]:
    """A circuit file with codes and symptoms added; what it has of the same name stays."""
    found = dict(data)
    for section, ties in (("codes", codes), ("symptoms", symptoms)):
        if ties:
            found[section] = {**ties, **(data.get(section) or {})}
    return found


def likely_codes(codes: Sequence[tuple[str, Sequence[str], str]], template: str, title: str, most: int = 8) -> list[str]:
    """Codes that are probably about a circuit: those of its kind of which a name has most words of its title.

    Args:
        codes: (code, names of what it is about, typical circuit) of every code held.
    """
    wanted = set(words_of(title))
    scored = []
    for code, names, of in codes:
        if of == template or not template:
            share = max(len(words & wanted) / max(1, len(words | wanted)) for words in (set(words_of(name)) for name in names))
            scored.append((-share, code))
    return [code for share, code in sorted(scored) if share <= -ALIKE][:most]
