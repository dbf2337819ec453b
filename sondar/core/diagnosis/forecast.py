"""What one test shows under every hypothesis, as a straight line in everything that nobody knows exactly.

A figure is mean + slope·θ + noise, with θ standard normal: tolerances of parts, the battery's charge, the temperature of the parts, the
meter's gain and zero, its leads, and how severe the fault is within its cell of the grid. What θ two readings share they share for
good: a reading at the battery calibrates all others, the same reading twice counts once (GUM 5.2; Särkkä, *Bayesian Filtering and
Smoothing*, 2013, ch. 4). Words are asked again of the instrument at the θ that the readings have left possible.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.hypotheses import HypothesisSet, cell_share
from sondar.core.instruments import INSTRUMENTS, instrument
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test
from sondar.core.limits.condition import limit_test
from sondar.core.solving.operating_points import Waves
from sondar.core.solving.parameters import TEMPERATURE, parameter_names, sample_matrix
from sondar.core.solving.solver import solve_waves

Array = npt.NDArray[np.float64]

SEVERITY, SECOND_SEVERITY = "severity", "severity of the second"
"""Parameters of where a fault, and the second of two, lies within its cell of the grid; every hypothesis has its own."""

VOLT_GAIN, VOLT_ZERO, OHM_GAIN, LEADS = "meter: volts, gain", "meter: volts, zero", "meter: ohms, gain", "meter: leads"
METER_GAIN_SD, METER_ZERO_SD_V = 0.006, 0.008
"""A workshop's meter has been dropped and its calibration forgotten: gain to about 1 %, zero to 15 mV."""

METER_NOISE_SHARE = 0.9
"""Share of a meter's error bound, as a rectangular distribution, that changes from reading to reading."""

LEADS_MEAN_OHM, LEADS_SD_OHM = 0.15, 0.15
"""Test leads and the touch of the tips, before anybody has held them together."""

DRIFT_V = 0.03
"""Standard deviation by which a battery drifts between readings."""

PREDICTED = "predicted"
"""Source of limits that Sondar worked out itself: they tell nothing that it does not know."""

LIMIT_SDS = 1.7
"""Published limits lie this many standard deviations from their middle, as those of a rectangular distribution do."""

THETA_SAMPLES = 9
"""Vehicles by which the chance of a word is averaged, the nominal one not included."""


@dataclass(frozen=True, eq=False)
class Parameters:
    """Names of θ, in the order of every slope, with the prior standard deviation of those that are not in units of their own."""

    names: tuple[str, ...]
    network: tuple[str, ...]
    temperature_sd: float

    def index(self, name: str) -> int:
        """Column of a parameter."""
        return self.names.index(name)


def parameters_of(circuit: Circuit, states: Sequence[tuple[tuple[str, str], ...]], temperature_sd: float) -> Parameters:
    """Everything that any set-up of a circuit depends on, and everything that its instruments share."""
    found: dict[str, None] = {}
    for controls in states:
        for _, instant in circuit.phases(circuit.setup(dict(controls))):
            found.update(dict.fromkeys(parameter_names(circuit, circuit.branches(instant))))
    meters = [VOLT_GAIN, VOLT_ZERO, OHM_GAIN, LEADS]
    meters += [f"meter: {name}" for name, device in INSTRUMENTS.items() if device.figures and not device.accuracy_of]
    limits = [
        f"limit: {name}"
        for name, limit in circuit.document.limits.items()
        if limit.source != PREDICTED and None not in (limit.min, limit.max)
    ]
    return Parameters((*found, *meters, *limits, SEVERITY), tuple(found), temperature_sd)


@dataclass(frozen=True, eq=False)
class Forecast:
    """One test under every hypothesis of the drawing.

    Attributes:
        mean: (H,) figure in the working scale at the nominal vehicle; slope: (H, D); noise: (H,) the meter's error that changes from
            reading to reading; drift: (H,) what the battery's drift between readings adds to it.
        wander: (H,) by how much a figure wanders that floats; half the time it stands still.
    """

    test: Test
    parameters: Parameters
    hypotheses: HypothesisSet
    mean: Array
    slope: Array
    noise: Array
    wander: Array
    drift: Array
    _population: Population
    _waves: Waves | None
    _words: Array

    @property
    def nodes(self) -> frozenset[str]:
        """Nodes that the probes touch, or the one thing that is looked at."""
        circuit = self._population.circuit
        if not self.device.probes:
            return frozenset({self.test.red})
        return frozenset({circuit.point(self.test.red).node, circuit.point(self.test.black).node})

    @property
    def device(self) -> Instrument:
        """The instrument of the test."""
        return instrument(self.test.instrument)

    def read_as(self, value: float) -> Forecast:
        """The same with the meter's errors at the figure that it does show, which is the same under every hypothesis."""
        count = len(self.mean)
        slope = self.slope.copy()
        noise = _meter(self.device, self.parameters, np.full(count, value), slope)
        return replace(self, slope=slope, noise=noise)

    def words(self, theta: Array | None = None) -> Array:
        """(H, W) chance of each word; ``theta`` (N, H, D) are possible values of the parameters."""
        if theta is None or self._waves is None or not self.device.words:
            return self._words
        inside = theta[:, :, : len(self.parameters.network)]
        seen = observe(self._population, self._waves.at(inside), self.test)
        assert seen.words is not None
        return blended(np.clip(seen.words[:, :, 0].mean(axis=0), 0.0, 1.0), self.hypotheses)


def observe(population: Population, waves: Waves, test: Test) -> Observation:
    """What the instrument of one test shows in vehicles that are already solved."""
    device = instrument(test.instrument)
    wanted = device.quantity(population.circuit, test)
    pairs = {wanted: 0} if isinstance(wanted, tuple) else {}
    flows = {wanted: 0} if isinstance(wanted, str) else {}
    return device.observe(population, Solved(waves, pairs, flows), [test])


def blended(words: Array, hypotheses: HypothesisSet) -> Array:
    """Words (H, …) of a graded fault, which stands for everything halfway to its neighbours."""
    milder, worse = hypotheses.milder, hypotheses.worse
    graded = (milder != np.arange(len(milder))) | (worse != np.arange(len(milder)))
    own = np.where(graded, 0.5, 1.0).reshape(-1, *([1] * (words.ndim - 1)))
    return np.asarray(own * words + (1.0 - own) * 0.5 * (words[milder] + words[worse]))


def cell_slope(values: Array, milder: npt.NDArray[np.intp], worse: npt.NDArray[np.intp], share: Array) -> Array:
    """(H, …) change of a figure per standard deviation of a fault's severity within its cell; ``milder``, ``worse`` are the next cells.

    A severity spread evenly over its cell spreads what is shown over the cell's width, ``share`` of the difference between its
    neighbours: standard deviation width / √12 (GUM type B).
    """
    return np.asarray((values[worse] - values[milder]) * share.reshape(-1, *([1] * (values.ndim - 1))) / np.sqrt(12.0))


def forecast(circuit: Circuit, hypotheses: HypothesisSet, parameters: Parameters, test: Test, blur: float = 0.0) -> Forecast:
    """Work out one test; ``blur`` is a share of a figure that is added to what drifts between readings.

    Raises:
        UnknownReferenceError: unknown instrument or point.
    """
    device = instrument(test.instrument)
    circuit.point(test.red), circuit.point(test.black)
    faults = [circuit.faults.get(suspect.fault) for suspect in hypotheses.suspects[:-1]]
    count, width = len(faults), len(parameters.names)
    population = Population(circuit, test.setup, hypotheses.changes, hypotheses.blown, faults)
    wanted = device.quantity(circuit, test)
    waves: Waves | None = None
    if wanted is None:
        seen = device.observe(population, Solved(Waves((), (), (), {}), {}, {}), [test])
    else:
        pairs, flows = ([wanted], []) if isinstance(wanted, tuple) else ([], [wanted])
        waves = solve_waves(
            circuit, test.setup, pairs, hypotheses.changes, hypotheses.blown, flows=flows, parameters=parameters.network
        )
        seen = observe(population, waves.moved(), test)
    words = np.zeros((count, len(device.words)))
    if seen.words is not None:
        chance = seen.words[0] if waves is not None else device.display(seen).words
        words = blended(np.clip(chance[:, 0], 0.0, 1.0), hypotheses)
    mean, slope, noise = np.zeros(count), np.zeros((count, width)), np.ones(count)
    wander, drift = np.zeros(count), np.zeros(count)
    if seen.value is not None:
        figures = seen.value[:, :, 0]  # (1 + D, H)
        if device.accuracy_of == "ohms":
            figures = figures + LEADS_MEAN_OHM
        working = device.working(figures)
        mean = working[0]
        if len(working) == 1 + len(parameters.network):
            slope[:, : len(parameters.network)] = (working[1:] - working[0]).T
        slope[:, parameters.index(SEVERITY)] = cell_slope(mean, hypotheses.milder, hypotheses.worse, hypotheses.share)
        if hypotheses.second is not None:
            slope[:, parameters.index(SECOND_SEVERITY)] = cell_slope(mean, *hypotheses.second, cell_share(*hypotheses.second))
        noise = _meter(device, parameters, figures[0], slope)
        if seen.wander is not None:
            wander = seen.wander[:, 0]
        charge = [i for i, name in enumerate(parameters.network) if name.startswith(f"{circuit.battery} charg")]
        drift = np.hypot(DRIFT_V * np.abs(slope[:, charge]).sum(axis=1), blur * np.abs(mean))
        slope[:, parameters.network.index(TEMPERATURE)] += device.kelvin_per_kelvin
        slope[:, parameters.network.index(TEMPERATURE)] *= parameters.temperature_sd
        _widen_to_limits(circuit, test, device, parameters, slope)
    return Forecast(test, parameters, hypotheses, mean, slope, noise, wander, drift, population, waves, words)


def _meter(device: Instrument, parameters: Parameters, figures: Array, slope: Array) -> Array:
    """Fill in how the meter's own errors move its figure; returns what is left to chance, (H,) in the working scale."""
    if device.accuracy_of == "volts":
        slope[:, parameters.index(VOLT_GAIN)] = METER_GAIN_SD * figures
        slope[:, parameters.index(VOLT_ZERO)] = METER_ZERO_SD_V
        return np.asarray(METER_NOISE_SHARE * _bound(device, figures) / np.sqrt(3.0))
    if device.accuracy_of == "ohms":
        size = np.maximum(figures, 0.0)
        per_ohm = (device.working(size + 0.01) - device.working(size)) / 0.01
        slope[:, parameters.index(OHM_GAIN)] = METER_GAIN_SD * size * per_ohm
        slope[:, parameters.index(LEADS)] = device.working(size + LEADS_SD_OHM) - device.working(size)
        return np.asarray(METER_NOISE_SHARE * _bound(device, size) / np.sqrt(3.0) * per_ohm)
    error = _bound(device, figures) / np.sqrt(3.0)
    if device.log_scale:
        error = error * (device.working(figures + 0.01) - device.working(figures)) / 0.01
    slope[:, parameters.index(f"meter: {device.id}")] = device.error_stays * error
    return np.asarray(device.error_changes * error)


def _bound(device: Instrument, figures: Array) -> Array:
    return np.asarray(device.error_share * np.abs(figures) + device.error_floor)


def _widen_to_limits(circuit: Circuit, test: Test, device: Instrument, parameters: Parameters, slope: Array) -> None:
    """A published limit says how far healthy vehicles spread: what lies inside it accuses nobody."""
    for name, limit in circuit.document.limits.items():
        if f"limit: {name}" not in parameters.names or limit.instrument != test.instrument:
            continue
        other = limit_test(circuit, limit, test.setup.temperature_c)
        if {other.red, other.black} == {test.red, test.black} and other.setup == test.setup:
            assert limit.min is not None
            assert limit.max is not None
            low, high = device.working([limit.min, limit.max])
            slope[:, parameters.index(f"limit: {name}")] = 0.5 * (high - low) / LIMIT_SDS


def theta_samples(parameters: Parameters) -> Array:
    """(N, D) standard normal vehicles."""
    return sample_matrix(parameters.names, THETA_SAMPLES + 1, {}).T
