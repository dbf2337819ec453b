"""Powered probe that runs a part: supply applied to it, or ground applied in place of a low-side driver."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Sequence
from typing import ClassVar

import numpy as np

from sondar.core.circuit.document.fields import behind
from sondar.core.circuit.families import LowSideDriver
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import PROBE_TRIPS_A, Circuit
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Array, Instrument, Observation, Population, Solved, Test
from sondar.core.instruments.functional_check import (
    INOPERATIVE,
    OPERATES,
    OPERATION_SOFT_WORDS,
    OPERATION_SYNONYMS,
    WEAK,
    operation_words,
)
from sondar.core.solving.driving import Drive, driven_part, driven_setup, probe_branch

TRIPS = "trips"


class AppliedProbe(Instrument):
    """Runs a part for a second or two; only with one plug open and nothing commanded.

    Supply never goes into a harness, a reference, a signal or a module; ground only to a pin that the module itself would ground.
    """

    drive: ClassVar[Drive]
    minutes = 0.6
    words = (OPERATES, WEAK, INOPERATIVE, TRIPS)
    synonyms = {**OPERATION_SYNONYMS, "tripped": TRIPS, "breaker": TRIPS}
    soft_words = OPERATION_SOFT_WORDS
    figures = False
    no_contact = INOPERATIVE
    caution = (
        "Powered probe: never on a reference, a signal or a module's driver line, never on an airbag circuit. "
        "What it runs can move at once."
    )

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        circuit = access.circuit
        rest = circuit.rest_setup(setup.temperature_c)
        if len(setup.unplugged) != 1 or any(value != rest[name] for name, value in setup.controls if name != "key"):
            return ()
        return (pair for pair in self.pairs(access, setup) if driven_part(circuit, setup, self.drive, *pair) is not None)

    @abstractmethod
    def pairs(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        """Points at the open plug where the probe may go."""

    def quantity(self, circuit: Circuit, test: Test) -> None:
        return None

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        return Observation(words=np.concatenate([self._words(population, test) for test in tests], axis=2))

    def _words(self, population: Population, test: Test) -> Array:
        """(S, H, 1, 4) words of one test; the probe's own breaker opens on too much current."""
        run = driven_part(population.circuit, test.setup, self.drive, test.red, test.black)
        if run is None:
            raise UnknownReferenceError("point from which a part can be run", test.red, [])
        acts = run[1]
        setup = driven_setup(test.setup, self.drive, test.red, test.black)
        waves = population.solve([], [acts.branch, probe_branch(self.drive)], setup)
        amps = waves.mean([points.flow_amps for points in waves.states])
        noticed = operation_words(amps[:, :, :1], [acts], population.blocked([acts.branch]))
        trips = (np.abs(amps[:, :, 1:]) > PROBE_TRIPS_A).astype(float)[..., None]
        return np.concatenate([noticed * (1.0 - trips), trips], axis=-1)

    def _watched(self, circuit: Circuit, test: Test) -> str:
        run = driven_part(circuit, test.setup, self.drive, test.red, test.black)
        return f" and watch {circuit.parts[run[0]].name(run[0])}: it {run[1].verb}" if run else ""


class AppliedGround(AppliedProbe):
    """Ground in place of the module's driver: the load, its supply and its wire are proved at once."""

    id = "applied-ground"
    title = "Powered probe, ground applied"
    drive = "ground"

    def pairs(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        circuit = access.circuit
        connector = next(iter(setup.unplugged))
        for cavity, target in circuit.document.connectors[connector].cavities.items():
            owner = circuit.parts[behind(target)[0].split(".")[0]] if target else None
            if isinstance(owner, LowSideDriver):
                yield f"{connector}.{cavity}", access.black

    def where(self, circuit: Circuit, test: Test) -> str:
        return f"Apply ground to {circuit.point(test.red).title}{self._watched(circuit, test)}. A second or two at a time."


class AppliedSupply(AppliedProbe):
    """Supply and ground on a part through its own open plug: the part alone."""

    id = "applied-supply"
    title = "Powered probe, supply applied"
    drive = "supply"

    def pairs(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        circuit = access.circuit
        connector = next(iter(setup.unplugged))
        spec = circuit.document.connectors[connector]
        if spec.inline or spec.restraint:
            return
        for red, black in access.cavity_pairs(connector, [f"{connector}.{cavity}/c" for cavity in spec.cavities]):
            owners = {
                ref.split(".")[0]
                for point in (red, black)
                for ref in behind(spec.cavities[point.split(".", 1)[1].removesuffix("/c")])
            }
            sealed = any(circuit.parts[owner].module is not None for owner in owners)
            acts = any(circuit.parts[owner].acts(owner, setup) is not None for owner in owners)
            if acts and not sealed and all(circuit.parts[owner].takes_steady_supply for owner in owners):
                yield red, black

    def where(self, circuit: Circuit, test: Test) -> str:
        red, black = circuit.point(test.red).title, circuit.point(test.black).title
        return f"Apply supply to {red}, the probe's ground to {black}{self._watched(circuit, test)}. A second or two at a time."
