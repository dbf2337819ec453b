"""What a solved set-up has at its probes: operating points, and how they change over the switching states."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Change

Array = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
Pair = tuple[str, str]
Hypothesis = tuple[Change, ...]

SAMPLES = 13
"""Vehicles by which tolerances are spread, the nominal one included."""


@dataclass(frozen=True, eq=False)
class Slopes:
    """How operating points move along C directions (see ``parameters.Directions``): (H, P, C), (H, P, C) and (H, n_flows, C)."""

    volts: Array
    ohms: Array
    flow_amps: Array


@dataclass(frozen=True, eq=False)
class OperatingPoints:
    """What an ideal instrument finds between each probe pair.

    Attributes:
        volts: (S, H, P) open-circuit voltage, red against black.
        ohms: (S, H, P) Thévenin resistance at the operating point.
        fuse_amps: (S, H, n_fuses) current through each fuse.
        coil_amps: (S, H, n_contacts) current of the coil behind each relay contact.
        flow_amps: (S, H, n_flows) current through each branch asked for.
        settled: (H,) False where no state of the relay contacts agrees with the coil currents: the relay chatters.
        slopes: where it was asked for, with one sample.
    """

    volts: Array
    ohms: Array
    fuse_amps: Array
    coil_amps: Array
    flow_amps: Array
    settled: Mask
    slopes: Slopes | None = None

    def of_pairs(self, pairs: Sequence[int]) -> OperatingPoints:
        """The same for some of the probe pairs."""
        return OperatingPoints(
            self.volts[:, :, pairs], self.ohms[:, :, pairs], self.fuse_amps, self.coil_amps, self.flow_amps, self.settled
        )

    def moved(self) -> OperatingPoints:
        """The nominal vehicle followed by one vehicle per direction, moved along it by one unit."""
        assert self.slopes is not None
        slopes = self.slopes
        steps = [np.moveaxis(array, -1, 0) for array in (slopes.volts, slopes.ohms, slopes.flow_amps)]
        volts, ohms, amps = (np.concatenate([np.zeros((1, *step.shape[1:])), step]) for step in steps)
        return self._displaced(volts, ohms, amps)

    def at(self, weights: Array) -> OperatingPoints:
        """Vehicles (N, …), each moved along all directions at once; ``weights`` (N, H, C)."""
        assert self.slopes is not None
        slopes = self.slopes
        step = [np.einsum("hpc,nhc->nhp", array, weights) for array in (slopes.volts, slopes.ohms, slopes.flow_amps)]
        return self._displaced(*step)

    def _displaced(self, volts: Array, ohms: Array, flow_amps: Array) -> OperatingPoints:
        """Voltages and currents move in a straight line, Thévenin resistances in their logarithm, so that they stay positive."""
        relative = np.clip(ohms / np.maximum(self.ohms, 1e-12), -4.0, 4.0)
        return OperatingPoints(
            self.volts + volts,
            self.ohms * np.exp(relative),
            self.fuse_amps,
            self.coil_amps,
            self.flow_amps + flow_amps,
            self.settled,
        )


@dataclass(frozen=True, eq=False)
class Waves:
    """What a set-up has over time: the operating points of every switching state, and their shares of the time.

    Attributes:
        states: one if nothing pulses. shares: sum to 1.
        pulses: which parts are in their high phase in each state. frequency_hz: of every part that pulses.
    """

    states: tuple[OperatingPoints, ...]
    shares: tuple[float, ...]
    pulses: tuple[dict[str, bool], ...]
    frequency_hz: dict[str, float]

    def of_pairs(self, pairs: Sequence[int]) -> Waves:
        """The same for some of the probe pairs."""
        return Waves(tuple(p.of_pairs(pairs) for p in self.states), self.shares, self.pulses, self.frequency_hz)

    def moved(self) -> Waves:
        """One vehicle per direction in place of slopes, see ``OperatingPoints.moved``."""
        return replace(self, states=tuple(points.moved() for points in self.states))

    def at(self, weights: Array) -> Waves:
        """Vehicles moved along all directions, see ``OperatingPoints.at``."""
        return replace(self, states=tuple(points.at(weights) for points in self.states))

    def mean(self, values: Sequence[Array]) -> Array:
        """Mean over time of one array per state."""
        total: Array = sum(share * value for share, value in zip(self.shares, values, strict=True))  # type: ignore[assignment]
        return total


def steady(points: OperatingPoints) -> Waves:
    """Operating points that do not change with time."""
    return Waves((points,), (1.0,), ({},), {})
