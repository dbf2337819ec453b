"""Which parts of a circuit answer a command: those that a person sees, hears or feels act in its position and not at rest."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Population, Test
from sondar.core.instruments.displays import observations
from sondar.core.instruments.functional_check import INOPERATIVE, FunctionalCheck
from sondar.core.solving.fuses import blown_fuses

NOTICED: Mapping[str, str] = {"It moves": "operates", "It clicks": "operates", "Weak": "weak", "Nothing": "inoperative"}
"""What a person says after a command -> word of the functional check; other answers say nothing about the part."""


def set_up_for(circuit: Circuit, control: str, position: str, requires: Mapping[str, str]) -> dict[str, str]:
    """Controls of a circuit in which a command is given: its position, and what it requires, as far as the circuit has that."""
    wanted = {**requires, control: position}
    return {name: value for name, value in wanted.items() if value in circuit.controls.get(name, ())}


def parts_that_answer(circuit: Circuit, control: str, position: str, requires: Mapping[str, str]) -> list[str]:
    """Parts of a sound circuit that act when it is commanded, and did not before; none if the circuit has no such control."""
    if position not in circuit.controls.get(control, ()):
        return []
    on = set_up_for(circuit, control, position, requires)
    rest = {name: value for name, value in on.items() if name != control}
    device = instrument(FunctionalCheck.id)
    watched = [ref for ref in circuit.targets if device.looks_at(circuit, ref)]
    active, idle = _inoperative(circuit, watched, circuit.setup(on)), _inoperative(circuit, watched, circuit.setup(rest))
    return [ref for ref, acts, acted in zip(watched, active, idle, strict=True) if not acts and acted]


def _inoperative(circuit: Circuit, parts: list[str], setup: Setup) -> list[bool]:
    """For each part whether nothing would be noticed of it in a set-up."""
    watched = [ref for ref in parts if circuit.parts[ref].acts(ref, setup) is not None]
    device = instrument(FunctionalCheck.id)
    tests = [Test(device.id, ref, circuit.black_reference, setup) for ref in watched]
    silent = dict.fromkeys(parts, True)
    if tests:
        population = Population(circuit, setup, [()], blown_fuses(circuit, [()]), samples=1, deviates={})
        [(_, seen)] = observations({device.id: device}, population, tests).values()
        assert seen.words is not None
        words = np.argmax(seen.words[0, 0], axis=-1)
        silent |= {ref: device.words[int(word)] == INOPERATIVE for ref, word in zip(watched, words, strict=True)}
    return [silent[ref] for ref in parts]
