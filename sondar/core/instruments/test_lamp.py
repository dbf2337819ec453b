"""Test lamps: they load the wire, which a meter does not, and so find the resistance that a meter cannot see."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cache

import numpy as np
import numpy.typing as npt
from scipy.ndimage import map_coordinates
from scipy.special import ndtr

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Array, Instrument, Observation, Population, Solved, Test, probes_sentence
from sondar.core.solving.curves import lamp_current
from sondar.core.solving.operating_points import Waves

RATED_V = 13.5
COLD_RATIO = 0.1
BRIGHT_SHARE, DIM_SHARE = 0.5, 0.02
"""Shares of rated power where a filament passes for bright, and where it still glows visibly."""

BLUR_DECADES = 0.12
"""Decades of power by which people differ in calling a filament bright."""

NEWTON_STEPS = 8

SAME_SHARE, LEAST_OHM = 1e-4, 0.1
"""Share of a voltage and of a resistance, and ohms beside it, within which a lamp shows what it shows without a fault."""

LEAST_V, LEAST_OHM_SHARE = 0.02, 0.01
ACROSS: Array = np.linspace(np.log(LEAST_V), np.log(1000.0), 320)
BEHIND: Array = np.linspace(np.log(LEAST_OHM_SHARE), np.log(1e6), 380)
"""Grid of the table of power: logarithms of the open voltage plus ``LEAST_V``, and of the resistance behind it as a multiple of the lamp's
hot resistance plus ``LEAST_OHM_SHARE``. Between the lines of the grid the power is within half a percent, far less than eyes can tell."""


@cache
def _level_table() -> Array:
    """(across, behind) decimal logarithm of the share of its rated power that a lamp takes behind a resistance."""
    supply, ohm = (np.exp(ACROSS) - LEAST_V)[:, None], (np.exp(BEHIND) - LEAST_OHM_SHARE)[None, :]
    share: Array = np.log10(np.maximum(power_share_of(supply, np.maximum(ohm, 0.0)), 1e-9))
    return share


def power_share_of(supply: Array, ohm: Array) -> Array:
    """Share of its rated power that a lamp takes at an open voltage behind a resistance, given as a multiple of its hot resistance.

    The lamp's current is concave in voltage, so Newton's second and later steps rise monotonically to the root; as a resistor of its hot
    resistance it would have a little more voltage.
    """
    rated, hot, cold = np.float64(RATED_V), np.float64(1.0), np.float64(COLD_RATIO)
    volts = supply / (1.0 + ohm)
    for _ in range(NEWTON_STEPS):
        current, slope = lamp_current(volts, rated, hot, cold)  # type: ignore[arg-type]
        volts = volts - (volts - supply + ohm * current) / (1.0 + ohm * slope)
    current, _ = lamp_current(volts, rated, hot, cold)  # type: ignore[arg-type]
    return volts * current / RATED_V**2


class TestLamp(Instrument):
    """A filament lamp on two probes, of ``rated_w`` at 13.5 V."""

    __test__ = False  # not a pytest class

    rated_w: float
    words = ("bright", "dim", "off")
    synonyms = {
        "on": "bright", "full": "bright", "d": "dim", "glow": "dim", "glows": "dim", "dark": "off", "none": "off", "flicker": "flickers",
        "flickering": "flickers", "intermittent": "comes and goes", "on and off": "comes and goes", "unsteady": "comes and goes",
    }  # fmt: skip
    soft_words = {
        "flickers": {"dim": 0.55, "bright": 0.3, "off": 0.15},
        "faint": {"dim": 0.9, "off": 0.1},
        "comes and goes": {"bright": 0.4, "dim": 0.3, "off": 0.3},
    }
    figures = False
    no_contact = "off"
    ordinary = True

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        return access.loads(setup)

    def why_not(self, access: Access, test: Test) -> str:
        if not access.may_load(test.red, test.black):
            line = access.line_of(test.red) or access.line_of(test.black)
            what = f"overload the {line} here" if line else "put supply where none belongs"
            return f"A test lamp would {what}. Use the voltmeter."
        return super().why_not(access, test)

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        circuit = population.circuit
        waves = solved.at([(circuit.point(t.red).node, circuit.point(t.black).node) for t in tests])
        differs = _differs(waves)
        found = self._words(waves, differs)
        words = np.empty((found.shape[0], *differs.shape, len(self.words)))
        words[:] = found[:, None, : len(tests)]  # as in the healthy circuit, whose places come first
        words[:, differs] = found
        return Observation(words=words)

    def _words(self, waves: Waves, where: npt.NDArray[np.bool_]) -> Array:
        """(S, N, 3) chance of each word at the N places (H, P) asked for."""
        levels = [self.power_level(points.volts[:, where], points.ohms[:, where]) for points in waves.states]
        level = levels[0] if len(levels) == 1 else np.log10(waves.mean([10.0**one for one in levels]))
        words = np.empty((*level.shape, len(self.words)))
        bright, dim, off = (words[..., column] for column in range(len(self.words)))
        ndtr((level - np.log10(BRIGHT_SHARE)) / BLUR_DECADES, out=bright)
        ndtr((np.log10(DIM_SHARE) - level) / BLUR_DECADES, out=off)
        np.subtract(1.0 - bright, off, out=dim)
        return words

    def power_level(self, volts: Array, ohms: Array) -> Array:
        """Decimal logarithm of the share of rated power of the lamp on the Thévenin equivalents at the probes, from the table."""
        hot_ohm = RATED_V**2 / self.rated_w
        across = np.log(np.abs(volts) + LEAST_V)
        behind = np.log(ohms / hot_ohm + LEAST_OHM_SHARE)
        at = np.stack([(across - ACROSS[0]) / (ACROSS[1] - ACROSS[0]), (behind - BEHIND[0]) / (BEHIND[1] - BEHIND[0])])
        # The curve of a lamp of another power is the same, with all resistances scaled: one table serves all.
        return np.asarray(map_coordinates(_level_table(), at, order=1, mode="nearest"))

    def where(self, circuit: Circuit, test: Test) -> str:
        return probes_sentence(circuit, test)


class SmallTestLamp(TestLamp):
    """5 W, for supplies and grounds of small loads."""

    id = "lamp-5w"
    title = "Test lamp 5 W"
    rated_w = 5.0


class LargeTestLamp(TestLamp):
    """21 W, about 1.6 A: for supplies and grounds that carry a real load."""

    id = "lamp-21w"
    title = "Test lamp 21 W"
    rated_w = 21.0


def _differs(waves: Waves) -> npt.NDArray[np.bool_]:
    """(H, P) where some vehicle has something else at a pair than without a fault; the healthy circuit itself counts as different."""
    found = np.zeros(waves.states[0].volts.shape[1:], dtype=bool)
    found[0] = True
    for points in waves.states:
        for seen, least in ((points.volts, LEAST_V), (points.ohms, LEAST_OHM)):
            healthy = seen[:, :1]
            found |= (np.abs(seen - healthy) > SAME_SHARE * (np.abs(healthy) + least)).any(axis=0)
    return found
