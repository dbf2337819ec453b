"""Instruments: from what is in the circuit to what a person sees.

Each instrument loads the circuit it measures, has an error and words of its own. The distribution of what it shows under
a hypothesis, over the spread of healthy vehicles and the meter's error, is a ``Display``.

Working scales: log10(ohms + 0.05 Ω) for an ohmmeter, the figure itself for every other, words only for lamps, the LED probe and
the senses. Layout (H, P): hypotheses × probe pairs. What pulses is seen as a set-up's instants (``Waves``): a voltmeter shows
their mean, an AC voltmeter what changes, a lamp their mean power.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt
from scipy.special import ndtr

from sondar.core.circuit.laws import lamp_current
from sondar.core.circuit.network import PROBE_TRIPS_A
from sondar.core.circuit.solver import OperatingPoints, Waves
from sondar.core.errors import UnknownReferenceError

Array = npt.NDArray[np.float64]
Kind = Literal[
    "volts", "ohms", "lamp", "ac", "hertz", "duty", "led", "amps", "senses", "scan", "top", "bottom", "source", "pull", "drive",
    "answers", "look", "wiggle", "swap", "clean", "gauge",
]  # fmt: skip
LOG_KINDS = ("ohms", "source")
"""Kinds whose working scale is log10 of ohms."""

FINDINGS = ("look", "wiggle", "swap", "clean", "gauge")
"""Kinds that find something out without any electrical quantity; what they show is in ``diagnosis.findings``."""

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

    @property
    def only_words(self) -> bool:
        """True if it shows no figure."""
        return self.kind in ("lamp", "led", "senses", "pull", "drive", "answers", *FINDINGS)

    @property
    def probes(self) -> bool:
        """True if it has leads that touch two points; else it looks at a part, a wire or a module's own value."""
        return self.kind not in ("amps", "senses", "scan", "answers", *FINDINGS)


VOLTMETER = Instrument("voltmeter", "Voltmeter", "volts", "V", 0.4, ("bouncing",), 0.005, 0.02)
OHMMETER = Instrument("ohmmeter", "Ohmmeter", "ohms", "Ω", 0.5, ("OL", "volts present"), 0.008, 0.2)
LAMP_5W = Instrument("lamp-5w", "Test lamp 5 W", "lamp", "", 0.4, ("bright", "dim", "off"), rated_w=5.0)
LAMP_21W = Instrument("lamp-21w", "Test lamp 21 W", "lamp", "", 0.4, ("bright", "dim", "off"), rated_w=21.0)
AC_VOLTMETER = Instrument("ac-voltmeter", "AC voltmeter", "ac", "V", 0.4, (), 0.01, 0.03)
FREQUENCY = Instrument("frequency", "Frequency meter", "hertz", "Hz", 0.5, ("no signal",), 0.005, 1.0)
DUTY = Instrument("duty", "Duty meter", "duty", "%", 0.5, ("no signal",), 0.01, 1.0)
LED_PROBE = Instrument("led-probe", "LED probe", "led", "", 0.3, ("supply", "ground", "both", "neither"))
CLAMP = Instrument("clamp", "Current clamp", "amps", "A", 0.5, (), 0.02, 0.05)
SENSES = Instrument("senses", "Eyes, ears, hands", "senses", "", 0.2, ("acts", "weak", "nothing"))
SCAN_VALUE = Instrument("scan-value", "Scan tool value", "scan", "V", 0.3, (), 0.01, 0.05)
SCOPE_TOP = Instrument("scope-top", "Oscilloscope, top level", "top", "V", 0.8, (), 0.02, 0.1)
SCOPE_BOTTOM = Instrument("scope-bottom", "Oscilloscope, bottom level", "bottom", "V", 0.8, (), 0.02, 0.1)
FEED_TEST = Instrument("feed-test", "Powered probe, feed test", "source", "Ω", 0.4, ("no supply",), 0.03, 0.03)
WEAK_PULL = Instrument("weak-pull", "Powered probe, weak pull", "pull", "", 0.4, ("held high", "pulled low", "between", "floating"))
PROBE_GROUND = Instrument("probe-ground", "Powered probe, ground on", "drive", "", 0.6, ("acts", "weak", "nothing", "trips"))
PROBE_SUPPLY = Instrument("probe-supply", "Powered probe, supply on", "drive", "", 0.6, ("acts", "weak", "nothing", "trips"))
ANSWERS = Instrument("answers", "Scan tool asks", "answers", "", 0.5, ("answers", "no answer"))
LOOK = Instrument("look", "Look closely", "look", "", 0.7, ("damaged", "sound"))
WIGGLE = Instrument("wiggle", "Wiggle while watching", "wiggle", "", 1.0, ("reacts", "steady"))
SWAP = Instrument("swap", "Known-good part in its place", "swap", "", 2.0, ("cured", "unchanged"))
CLEAN = Instrument("clean", "Clean and check again", "clean", "", 4.0, ("cured", "unchanged"))
GAUGE = Instrument("gauge", "Independent gauge", "gauge", "", 3.0, ("agrees", "differs"))

INSTRUMENTS = {
    item.id: item
    for item in (
        VOLTMETER, OHMMETER, LAMP_5W, LAMP_21W, SENSES, LOOK, ANSWERS, SCAN_VALUE, CLAMP, LED_PROBE, FEED_TEST, WEAK_PULL, PROBE_GROUND,
        PROBE_SUPPLY, AC_VOLTMETER, FREQUENCY, DUTY, SCOPE_TOP, SCOPE_BOTTOM, WIGGLE, SWAP, CLEAN, GAUGE,
    )
}  # fmt: skip
ORDINARY = (VOLTMETER.id, OHMMETER.id, LAMP_5W.id, LAMP_21W.id, SENSES.id)
"""What every workshop has at hand."""

SIGNAL_V = 0.5
"""Least swing in volts that a frequency or duty meter triggers on."""
LED_LOAD_OHM, LED_MIDDLE_V, LED_HIGH_V, LED_LOW_V = 2.2e3, 6.0, 8.0, 3.5
"""Two light-emitting diodes from the tip to supply and ground through resistors: Thévenin equivalent, and where each lights."""

FEED_TEST_OHM, FEED_TEST_LEAST_V, FEED_TEST_MOST_OHM = 13.5, 2.0, 1e3
"""A feed test draws about 1 A at 13.5 V; below 2 V left under that load, or above 1 kΩ, it reports no supply."""

PULL_OHM, PULL_HIGH_V, PULL_LOW_V, PULL_FLOATS_OHM = 1e4, 7.0, 1.0, 5e4
"""A weak pull of 10 kΩ to either rail in turn (at most 1.4 mA): what follows both pulls floats, what follows neither is held."""

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
    if kind in LOG_KINDS:
        result: Array = np.log10(np.maximum(number, 0.0) + LOG_OFFSET_OHM)
        return result
    return number


def from_working(kind: Kind, value: float) -> float:
    """Back from the working scale to SI."""
    return max(0.0, 10.0**value - LOG_OFFSET_OHM) if kind in LOG_KINDS else value


def is_live(points: OperatingPoints) -> npt.NDArray[np.bool_]:
    """Where (S, H, P) an ohmmeter would meet voltage that spoils its figure."""
    return np.asarray(np.abs(points.volts) * LIVE_LOAD_OHM / (LIVE_LOAD_OHM + points.ohms) > LIVE_V)


def loaded(points: OperatingPoints, load_ohm: float) -> Array:
    """Voltage (S, H, P) with a resistance connected."""
    return np.asarray(points.volts * (load_ohm / (load_ohm + points.ohms)))


def display(device: Instrument, waves: Waves) -> Display:
    """What an instrument with leads shows at every probe pair under every hypothesis."""
    if device.kind == "volts":
        return _voltmeter(device, waves)
    if device.kind == "ohms":
        return _ohmmeter(device, waves.instants[0])
    if device.kind == "ac":
        return _figure(device, alternating(device, waves))
    if device.kind in ("hertz", "duty"):
        value, none = frequency(device, waves) if device.kind == "hertz" else duty(device, waves)
        return _figure(device, value, none[..., None])
    if device.kind == "led":
        return _words(device, led(waves))
    if device.kind in ("top", "bottom"):
        return _figure(device, level(device, waves))
    if device.kind == "source":
        ohms, none = source(waves.instants[0])
        return _resistance(device, ohms, none[..., None])
    if device.kind == "pull":
        return _words(device, weak_pull(waves.instants[0]))
    share = waves.mean([lamp_power_share(device, points) for points in waves.instants])
    return _lamp(device, share)


def alternating(device: Instrument, waves: Waves) -> Array:
    """Root mean square (S, H, P) of what changes, in volts."""
    seen = [loaded(points, device.load_ohm) for points in waves.instants]
    middle = waves.mean(seen)
    return np.asarray(np.sqrt(waves.mean([(v - middle) ** 2 for v in seen])))


def frequency(device: Instrument, waves: Waves) -> tuple[Array, Array]:
    """Hertz (S, H, P) of the part that moves the point most, and 1 where the swing is too small to trigger on."""
    seen = [loaded(points, device.load_ohm) for points in waves.instants]
    hertz, most = np.zeros_like(seen[0]), np.zeros_like(seen[0])
    for part, value in waves.hertz.items():
        high = [i for i, pulses in enumerate(waves.pulses) if pulses.get(part)]
        low = [i for i, pulses in enumerate(waves.pulses) if pulses.get(part) is False]
        swing = np.abs(_mean_over(waves, seen, high) - _mean_over(waves, seen, low))
        hertz, most = np.where(swing > most, value, hertz), np.maximum(swing, most)
    return hertz, (most < SIGNAL_V).astype(float)


def duty(device: Instrument, waves: Waves) -> tuple[Array, Array]:
    """Percent of the time (S, H, P) above the middle of the swing, and 1 where the swing is too small to trigger on."""
    seen = np.stack([loaded(points, device.load_ohm) for points in waves.instants])
    top, bottom = seen.max(axis=0), seen.min(axis=0)
    above = waves.mean([(v > 0.5 * (top + bottom)).astype(float) for v in seen])
    return 100.0 * above, (top - bottom < SIGNAL_V).astype(float)


def level(device: Instrument, waves: Waves) -> Array:
    """Highest or lowest voltage (S, H, P) of all instants: what a trace shows as its top or bottom."""
    seen = np.stack([loaded(points, device.load_ohm) for points in waves.instants])
    found: Array = seen.max(axis=0) if device.kind == "top" else seen.min(axis=0)
    return found


def source(points: OperatingPoints) -> tuple[Array, Array]:
    """Source resistance (S, H, P) that a feed test works out, voltage sag ÷ test current, and 1 where it reports no supply."""
    left = np.abs(loaded(points, FEED_TEST_OHM))
    return points.ohms, ((left < FEED_TEST_LEAST_V) | (points.ohms > FEED_TEST_MOST_OHM)).astype(float)


def weak_pull(points: OperatingPoints) -> Array:
    """What a weak pull finds (S, H, P, word): held high, pulled low, between, floating."""
    floats = points.ohms > PULL_FLOATS_OHM
    high, low = points.volts > PULL_HIGH_V, points.volts < PULL_LOW_V
    return np.stack([high & ~floats, low & ~floats, ~high & ~low & ~floats, floats], axis=-1).astype(float)


def driven(
    device: Instrument, amps: Array, full_a: Array, weak_a: Array, blocked: npt.NDArray[np.bool_], probe_amps: Array
) -> Display:
    """What a person notices of a part that a powered probe runs: as ``senses``, and the probe's own breaker (S, H, P) currents."""
    shown = senses(device, amps, full_a, weak_a, blocked).words
    trips = _mean_of_vehicles((np.abs(probe_amps) > PROBE_TRIPS_A).astype(float))[..., None]
    words = np.concatenate([shown * (1.0 - trips), trips], axis=-1)
    zero = np.zeros(words.shape[:2])
    return Display(device, zero, zero + 1.0, words, words.argmax(axis=-1).astype(float), zero)


def found_words(device: Instrument, chance: Array) -> Display:
    """Display of a finding: chance (H, P) of the instrument's first word; the second has the rest."""
    words = np.stack([chance, 1.0 - chance], axis=-1)
    zero = np.zeros(chance.shape)
    return Display(device, zero, zero + 1.0, words, (chance < 0.5).astype(float), zero)


def _mean_over(waves: Waves, values: list[Array], which: list[int]) -> Array:
    total = sum(waves.shares[i] for i in which)
    found: Array = sum(waves.shares[i] / total * values[i] for i in which)  # type: ignore[assignment]
    return found


def led(waves: Waves) -> Array:
    """Which diodes light (S, H, P, word): supply, ground, both (pulses), neither."""
    at = [(p.volts * LED_LOAD_OHM + LED_MIDDLE_V * p.ohms) / (LED_LOAD_OHM + p.ohms) for p in waves.instants]
    high = np.any([v > LED_HIGH_V for v in at], axis=0)
    low = np.any([v < LED_LOW_V for v in at], axis=0)
    return np.stack([high & ~low, low & ~high, high & low, ~high & ~low], axis=-1).astype(float)


def senses(device: Instrument, amps: Array, full_a: Array, weak_a: Array, blocked: npt.NDArray[np.bool_]) -> Display:
    """What a person notices of actuators: (S, H, P) currents against what each needs (P,); ``blocked`` (H, P) act never."""
    blur = 0.06  # decades by which people differ in what they still notice, or call lively
    size = np.log10(np.maximum(np.abs(amps), 1e-9))
    notices = ndtr((size - np.log10(weak_a)) / blur)
    lively = ndtr((size - np.log10(full_a)) / blur) * notices
    free = ~blocked
    words = np.stack([lively * free, (notices - lively) * free, 1.0 - notices * free], axis=-1)
    return _words(device, words)


def clamp(device: Instrument, amps: Array) -> Display:
    """What a current clamp shows around wires: (S, H, P) currents."""
    return _figure(device, amps)


def scan_value(device: Instrument, waves: Waves, valid: Array) -> Display:
    """What a module believes its input to be: the mean voltage at its pin, by its own converter and without a meter's load.

    Args:
        valid: (P, 3) least and most it believes, and what it shows in place of anything else.
    """
    return _figure(device, believed(waves, valid))


def believed(waves: Waves, valid: Array) -> Array:
    """Voltage (S, H, P) that a module shows, its substituted value where the true one is out of range."""
    volts = waves.mean([points.volts for points in waves.instants])
    low, high, instead = valid.T
    return np.where((volts < low) | (volts > high), instead, volts)


def _figure(device: Instrument, values: Array, words: Array | None = None) -> Display:
    """Display of a figure (S, H, P), with the chance of each word (S, H, P, n_words) if it has any."""
    mean, spread = _moments(values)
    meter = (device.error_share * np.abs(mean) + device.error_floor) / np.sqrt(3.0)
    chance = np.zeros((*mean.shape, len(device.words))) if words is None else _mean_of_vehicles(words)
    return Display(device, mean, np.sqrt(spread + meter**2), chance, values[0], np.zeros_like(mean))


def _words(device: Instrument, words: Array) -> Display:
    """Display of words (S, H, P, n_words) alone; the nominal value is the index of the word."""
    chance = np.clip(_mean_of_vehicles(words), 0.0, 1.0)
    zero = np.zeros(chance.shape[:2])
    return Display(device, zero, zero + 1.0, chance, words[0].argmax(axis=-1).astype(float), zero)


def _moments(values: Array) -> tuple[Array, Array]:
    body = values[1:] if values.shape[0] > 1 else values
    return body.mean(axis=0), body.var(axis=0)


def _voltmeter(device: Instrument, waves: Waves) -> Display:
    shown = waves.mean([loaded(points, device.load_ohm) for points in waves.instants])
    mean, spread = _moments(shown)
    # GUM type B: an error bound is a rectangular distribution of standard deviation bound / √3.
    meter = (device.error_share * np.abs(mean) + device.error_floor) / np.sqrt(3.0)
    floating = waves.mean([(points.ohms > FLOATING_OHM).mean(axis=0) for points in waves.instants])
    sd = np.sqrt(spread + meter**2 + (floating * FLOATING_SPREAD_V) ** 2)
    words = (FLOATING_WORD_SHARE * floating)[..., None]
    return Display(device, mean, sd, words, shown[0], floating)


def _ohmmeter(device: Instrument, points: OperatingPoints) -> Display:
    over = (points.ohms > device.ceiling_ohm).astype(float)
    live = is_live(points).astype(float)
    return _resistance(device, points.ohms, np.stack([over * (1.0 - live), live], axis=-1))


def _resistance(device: Instrument, ohms: Array, words: Array) -> Display:
    """Display of ohms (S, H, P) on the log scale, with the chance of each word (S, H, P, n_words)."""
    mean, spread = _moments(working(device.kind, ohms))
    middle = 10.0**mean
    meter = (device.error_share * middle + device.error_floor) / np.sqrt(3.0) / (middle * np.log(10.0))
    chance = words.mean(axis=0)
    return Display(device, mean, np.sqrt(spread + meter**2), chance, ohms[0], np.zeros_like(mean))


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


def _lamp(device: Instrument, share: Array) -> Display:
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
