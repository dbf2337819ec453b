"""What a solved set-up has at its probes: operating points, and how they change over the switching states."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

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
class OperatingPoints:
    """What an ideal instrument finds between each probe pair.

    Attributes:
        volts: (S, H, P) open-circuit voltage, red against black.
        ohms: (S, H, P) Thévenin resistance at the operating point.
        fuse_amps: (S, H, n_fuses) current through each fuse.
        coil_amps: (S, H, n_contacts) current of the coil behind each relay contact.
        flow_amps: (S, H, n_flows) current through each branch asked for.
        settled: (H,) False where no state of the relay contacts agrees with the coil currents: the relay chatters.
    """

    volts: Array
    ohms: Array
    fuse_amps: Array
    coil_amps: Array
    flow_amps: Array
    settled: Mask

    def of_pairs(self, pairs: Sequence[int]) -> OperatingPoints:
        """The same for some of the probe pairs."""
        return OperatingPoints(
            self.volts[:, :, pairs], self.ohms[:, :, pairs], self.fuse_amps, self.coil_amps, self.flow_amps, self.settled
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

    def mean(self, values: Sequence[Array]) -> Array:
        """Mean over time of one array per state."""
        total: Array = sum(share * value for share, value in zip(self.shares, values, strict=True))  # type: ignore[assignment]
        return total


def steady(points: OperatingPoints) -> Waves:
    """Operating points that do not change with time."""
    return Waves((points,), (1.0,), ({},), {})
