"""Instruments: from what is in the circuit to what a person sees.

Each instrument loads the circuit it measures, has an error and words of its own. The distribution of what it shows under
a hypothesis, over the spread of healthy vehicles and the meter's error, is a ``Display``.

Working scales: volts for a voltmeter, log10(ohms + 0.05 Ω) for an ohmmeter, words only for a lamp. Layout (H, P):
hypotheses × probe pairs.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt
from scipy.special import ndtr

from sondar.core.circuit.laws import lamp_current
from sondar.core.circuit.solver import OperatingPoints
from sondar.core.errors import UnknownReferenceError

Array = npt.NDArray[np.float64]
Kind = Literal["volts", "ohms", "lamp"]

FLOATING_OHM = 1e6
"""Thévenin resistance above which a 10 MΩ meter's own load shifts the value by 10 %: people see it wander."""

LOG_OFFSET_OHM = 0.05
LIVE_V = 0.05
LIVE_LOAD_OHM = 1e6
"""Voltage across the ohmmeter's own input above which its figure means nothing; leakage through 1 GΩ is not enough."""


@dataclass(frozen=True)
class Instrument:
    """Something to measure with.

    Attributes:
        kind: what it shows.
        minutes: time for one reading with the points at hand.
        error_share, error_floor: error bound as share of the reading plus a floor in SI units (counts, leads).
        load_ohm: input resistance of a voltmeter.
        rated_w: power of a test lamp at 13.5 V.
        words: what it can show besides a number.
    """

    id: str
    title: str
    kind: Kind
    unit: str
    minutes: float
    words: tuple[str, ...]
    error_share: float = 0.0
    error_floor: float = 0.0
    load_ohm: float = 1e7
    rated_w: float = 0.0
    ceiling_ohm: float = 4e7


VOLTMETER = Instrument("voltmeter", "Voltmeter", "volts", "V", 0.4, ("bouncing",), 0.005, 0.02)
OHMMETER = Instrument("ohmmeter", "Ohmmeter", "ohms", "Ω", 0.5, ("OL", "volts present"), 0.008, 0.2)
LAMP_5W = Instrument("lamp-5w", "Test lamp 5 W", "lamp", "", 0.4, ("bright", "dim", "off"), rated_w=5.0)
LAMP_21W = Instrument("lamp-21w", "Test lamp 21 W", "lamp", "", 0.4, ("bright", "dim", "off"), rated_w=21.0)

INSTRUMENTS = {item.id: item for item in (VOLTMETER, OHMMETER, LAMP_5W, LAMP_21W)}

LAMP_RATED_V = 13.5
LAMP_COLD_RATIO = 0.1
BRIGHT_SHARE = 0.5
DIM_SHARE = 0.02
"""Shares of rated power where a filament passes for bright, and where it still glows visibly."""

FLOATING_WORD_SHARE = 0.6
FLOATING_SPREAD_V = 0.6
"""On a floating point people report 'bouncing' a bit more often than a figure, and the figure is anything small."""


def instrument(name: str) -> Instrument:
    """The instrument of that id.

    Raises:
        UnknownReferenceError: not one of ``INSTRUMENTS``.
    """
    if name not in INSTRUMENTS:
        raise UnknownReferenceError("instrument", name, list(INSTRUMENTS))
    return INSTRUMENTS[name]


@dataclass(frozen=True, eq=False)
class Display:
    """Distribution of what an instrument shows.

    Attributes:
        mean, sd: (H, P) of the numeric part, in the working scale.
        words: (H, P, n_words) probability of each word; the rest is numeric.
        nominal: (H, P) SI value for the nominal vehicle (a lamp's share of rated power).
        floating: (H, P) share of vehicles in which the point floats.
    """

    instrument: Instrument
    mean: Array
    sd: Array
    words: Array
    nominal: Array
    floating: Array

    def at(self, pair: int) -> Display:
        """The same for one probe pair, keeping the pair axis with length 1."""
        one = slice(pair, pair + 1)
        return Display(
            self.instrument, self.mean[:, one], self.sd[:, one], self.words[:, one], self.nominal[:, one], self.floating[:, one]
        )


def working(kind: Kind, value: npt.ArrayLike) -> Array:
    """SI value in the instrument's working scale."""
    number = np.asarray(value, dtype=float)
    if kind == "ohms":
        result: Array = np.log10(np.maximum(number, 0.0) + LOG_OFFSET_OHM)
        return result
    return number


def from_working(kind: Kind, value: float) -> float:
    """Back from the working scale to SI."""
    return max(0.0, 10.0**value - LOG_OFFSET_OHM) if kind == "ohms" else value


def is_live(points: OperatingPoints) -> npt.NDArray[np.bool_]:
    """Where (S, H, P) an ohmmeter would meet voltage that spoils its figure."""
    return np.asarray(np.abs(points.volts) * LIVE_LOAD_OHM / (LIVE_LOAD_OHM + points.ohms) > LIVE_V)


def display(device: Instrument, points: OperatingPoints) -> Display:
    """What ``device`` shows at every probe pair under every hypothesis."""
    if device.kind == "volts":
        return _voltmeter(device, points)
    if device.kind == "ohms":
        return _ohmmeter(device, points)
    return _lamp(device, points)


def _moments(values: Array) -> tuple[Array, Array]:
    body = values[1:] if values.shape[0] > 1 else values
    return body.mean(axis=0), body.var(axis=0)


def _voltmeter(device: Instrument, points: OperatingPoints) -> Display:
    shown = points.volts * (device.load_ohm / (device.load_ohm + points.ohms))
    mean, spread = _moments(shown)
    # GUM type B: an error bound is a rectangular distribution of standard deviation bound / √3.
    meter = (device.error_share * np.abs(mean) + device.error_floor) / np.sqrt(3.0)
    floating = (points.ohms > FLOATING_OHM).mean(axis=0)
    sd = np.sqrt(spread + meter**2 + (floating * FLOATING_SPREAD_V) ** 2)
    words = (FLOATING_WORD_SHARE * floating)[..., None]
    return Display(device, mean, sd, words, shown[0], floating)


def _ohmmeter(device: Instrument, points: OperatingPoints) -> Display:
    scale = working("ohms", points.ohms)
    mean, spread = _moments(scale)
    ohms = 10.0**mean
    meter = (device.error_share * ohms + device.error_floor) / np.sqrt(3.0) / (ohms * np.log(10.0))
    over = (points.ohms > device.ceiling_ohm).mean(axis=0)
    live = is_live(points).mean(axis=0)
    words = np.stack([over * (1.0 - live), live], axis=-1)
    return Display(device, mean, np.sqrt(spread + meter**2), words, points.ohms[0], np.zeros_like(mean))


def lamp_power_share(device: Instrument, points: OperatingPoints) -> Array:
    """Share of rated power (S, H, P) of a test lamp on the Thévenin equivalent at the probes."""
    hot = LAMP_RATED_V**2 / device.rated_w
    rated, hot_ohm, cold = np.float64(LAMP_RATED_V), np.float64(hot), np.float64(LAMP_COLD_RATIO)
    supply = np.abs(points.volts)
    volts = np.zeros_like(supply)
    for _ in range(8):  # the lamp's current is concave in voltage, so Newton from 0 rises monotonically to the root
        current, slope = lamp_current(volts, rated, hot_ohm, cold)  # type: ignore[arg-type]
        volts = volts - (volts - supply + points.ohms * current) / (1.0 + points.ohms * slope)
    current, _ = lamp_current(volts, rated, hot_ohm, cold)  # type: ignore[arg-type]
    share: Array = volts * current / device.rated_w
    return share


def _lamp(device: Instrument, points: OperatingPoints) -> Display:
    share = lamp_power_share(device, points)
    level = np.log10(np.maximum(share, 1e-9))
    blur = 0.12  # decades of power by which people differ in calling a filament bright
    at_least_dim = _mean_of_vehicles(ndtr((level - np.log10(DIM_SHARE)) / blur))
    bright = _mean_of_vehicles(ndtr((level - np.log10(BRIGHT_SHARE)) / blur))
    words = np.stack([bright, at_least_dim - bright, 1.0 - at_least_dim], axis=-1)
    zero = np.zeros_like(bright)
    return Display(device, zero, zero + 1.0, np.clip(words, 0.0, 1.0), share[0], zero)


def _mean_of_vehicles(values: Array) -> Array:
    mean: Array = values[1:].mean(axis=0) if values.shape[0] > 1 else values[0]
    return mean
