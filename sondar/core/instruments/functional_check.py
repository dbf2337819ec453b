"""Functional check: eyes, ears and hands at an actuator while it is commanded."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence

import numpy as np
import numpy.typing as npt
from scipy.special import ndtr

from sondar.core.circuit.model import Acts, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Array, Instrument, Observation, Population, Solved, Test

OPERATES, WEAK, INOPERATIVE = "operates", "weak", "inoperative"
OPERATION_SYNONYMS: Mapping[str, str] = {
    "acts": OPERATES, "works": OPERATES, "clicks": OPERATES, "click": OPERATES, "turns": OPERATES, "spins": OPERATES, "lights": OPERATES,
    "moves": OPERATES, "warms": OPERATES, "steps": OPERATES, "on": OPERATES, "slow": WEAK, "nothing": INOPERATIVE, "no click": INOPERATIVE,
    "dead": INOPERATIVE, "silent": INOPERATIVE, "off": INOPERATIVE, "intermittent": "comes and goes", "on and off": "comes and goes",
    "unsteady": "comes and goes",
}  # fmt: skip
OPERATION_SOFT_WORDS: Mapping[str, Mapping[str, float]] = {
    "comes and goes": {OPERATES: 0.35, WEAK: 0.4, INOPERATIVE: 0.25},
    "faint": {WEAK: 0.9, INOPERATIVE: 0.1},
}
MUCH_SLOWER, SEEN_S, SLOW_BLUR = 4.0, 0.7, 0.6
"""Times as slow, and seconds, from which half of all people call a movement weak or sluggish; spread of the logarithm."""
BLUR_DECADES = 0.06
"""Decades of current by which people differ in what they still notice, or call lively."""


def acting(circuit: Circuit, test: Test) -> Acts:
    """How a person notices that the part of a test acts.

    Raises:
        UnknownReferenceError: nobody sees, hears or feels it act.
    """
    found = circuit.parts[test.red].acts(test.red, test.setup) if test.red in circuit.parts else None
    if found is None:
        known = [ref for ref, part in circuit.parts.items() if part.acts(ref, test.setup) is not None]
        raise UnknownReferenceError("part that acts", test.red, known)
    return found


def operation_words(amps: Array, watched: Sequence[Acts], blocked: npt.NDArray[np.bool_]) -> Array:
    """(S, H, P, 3) what a person notices: currents (S, H, P) against what each part needs; ``blocked`` (H, P) act never."""
    full, weak = (np.array([getattr(acts, name) for acts in watched]) for name in ("full_a", "weak_a"))
    size = np.log10(np.maximum(np.abs(amps), 1e-9))
    notices = ndtr((size - np.log10(weak)) / BLUR_DECADES)
    lively = ndtr((size - np.log10(full)) / BLUR_DECADES) * notices
    free = ~blocked
    return np.stack([lively * free, (notices - lively) * free, 1.0 - notices * free], axis=-1)


def _sluggish(population: Population, part_id: str) -> Array:
    """(H,) chance that a person calls a part weak because it begins late or moves slowly: by how much, and whether eyes can see it."""
    part = population.circuit.parts[part_id]
    slower, later = population.timing(part_id, "lag_scale", math.prod), population.timing(part_id, "dead_s", sum)
    takes = part.lag_s * slower + later
    much = np.log(np.maximum(slower * (1.0 + later / max(part.lag_s + part.dead_s, 0.1)), 1.0) / MUCH_SLOWER) / SLOW_BLUR
    return np.asarray(ndtr(much) * ndtr(np.log(np.maximum(takes, 1e-3) / SEEN_S) / SLOW_BLUR) * ((slower > 1.0) | (later > 0.0)))


class FunctionalCheck(Instrument):
    """Does the part do what it is there for?"""

    id = "functional-check"
    title = "Functional check"
    minutes = 0.2
    words = (OPERATES, WEAK, INOPERATIVE)
    synonyms = OPERATION_SYNONYMS
    soft_words = OPERATION_SOFT_WORDS
    figures = False
    probes = False
    ordinary = True
    idle_word = INOPERATIVE

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        circuit = access.circuit
        if setup.controls == circuit.rest_setup().controls:
            return ()
        return ((ref, access.black) for ref in circuit.targets if self.looks_at(circuit, ref))

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        part = circuit.parts.get(ref)
        return part is not None and not part.hot and part.acts(ref, circuit.rest_setup()) is not None

    def quantity(self, circuit: Circuit, test: Test) -> str:
        return acting(circuit, test).branch

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        watched = [acting(population.circuit, test) for test in tests]
        branches = [acts.branch for acts in watched]
        by_peak = np.array([acts.by_peak for acts in watched])
        amps = np.where(by_peak, solved.peak_amps(branches), solved.amps(branches))
        words = operation_words(amps, watched, population.blocked(branches))
        sluggish = np.stack([_sluggish(population, test.red) for test in tests], axis=1)
        lively = words[..., 0]
        return Observation(words=np.stack([lively * (1.0 - sluggish), words[..., 1] + lively * sluggish, words[..., 2]], axis=-1))

    def where(self, circuit: Circuit, test: Test) -> str:
        acts = circuit.parts[test.red].acts(test.red, test.setup) if test.red in circuit.parts else None
        return f"Watch, listen and feel: {circuit.point(test.red).title}. Operating, it {acts.verb if acts else 'moves'}."
