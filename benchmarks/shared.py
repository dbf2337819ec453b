"""The update of shared uncertainty against a direct Monte Carlo of the same model.

Vehicles are drawn from the prior of every parameter and solved exactly, one by one; the likelihood of a few readings together is their
mean over the vehicles. The filter works it out from the slopes at the nominal vehicle. Compared: the natural logarithm of the evidence
of three or four readings, and what is expected of the last one after the others.
Run: ``./run bench shared`` (``--vehicles 20000``).
"""

from __future__ import annotations

import argparse
import json

import numpy as np

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.forecast import METER_GAIN_SD, METER_ZERO_SD_V
from sondar.core.diagnosis.learning import Filter, density_of, normal_density
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.instruments.voltmeter import INPUT_OHM
from sondar.core.solving.solver import SetupSolver

CASES: dict[str, tuple[dict[str, str], dict[str, float]]] = {
    "radiator-fan-relay": ({"key": "on", "fan": "on"}, {"BAT.pos": 11.48, "X20.1": 10.85, "X3.85": 0.06}),
    "tessel-purge-valve": ({"key": "on"}, {"BAT.pos": 13.1, "X51.1": 13.06, "X51.2": 13.07}),
    "tern-washer-pump": ({"key": "on"}, {"BAT.pos": 12.9, "X80.1": 0.01}),
}
"""Per circuit the controls and what a voltmeter shows, one point after the other."""


def evidence(predictor: Predictor, readings: list[Reading]) -> tuple[float, float]:
    """Logarithm of the likelihood of all readings of a healthy vehicle, and what is expected of the last after the others."""
    filter_ = Filter.before_any(len(predictor.hypotheses.suspects) - 1, len(predictor.parameters.names))
    total, expected = 0.0, 0.0
    for reading in readings:
        assert reading.value is not None
        forecast = predictor.forecast(reading.test).read_as(reading.value)
        mean, variance = filter_.expected(forecast)
        density, surprise, variance = density_of(reading, forecast, mean, variance)
        total, expected = total + float(np.log(density[0])), float(mean[0])
        filter_ = filter_.learn(forecast, surprise, variance, np.ones(len(mean)))
    return total, expected


def by_sampling(predictor: Predictor, readings: list[Reading], vehicles: int, seed: int) -> tuple[float, float]:
    """The same by drawing vehicles; no slopes and no filter."""
    circuit, setup = predictor.circuit, readings[0].test.setup
    pairs = [(circuit.point(r.test.red).node, circuit.point(r.test.black).node) for r in readings]
    rng = np.random.default_rng(seed)
    names = predictor.parameters.network
    likelihood, volts = np.ones(vehicles), np.zeros((vehicles, len(readings)))
    for index in range(vehicles):
        deviates = {name: float(rng.standard_normal()) for name in names}
        # A wide spread is skewed in life and a straight line here: the same straight line for both.
        warm = setup.__class__(
            setup.controls, setup.unplugged, setup.temperature_c + predictor.temperature_sd * deviates["temperature"]
        )
        points = SetupSolver(circuit, warm, pairs, 1, deviates).solve([()])
        volts[index] = points.volts[0, 0] * INPUT_OHM / (INPUT_OHM + points.ohms[0, 0])
    gain, zero = rng.standard_normal((2, vehicles))
    for column, reading in enumerate(readings):
        assert reading.value is not None
        forecast = predictor.forecast(reading.test).read_as(reading.value)
        shown = volts[:, column] + METER_GAIN_SD * reading.value * gain + METER_ZERO_SD_V * zero
        variance = forecast.noise[0] ** 2 + forecast.drift[0] ** 2 + reading.resolution**2 / 3.0
        before, likelihood = likelihood, likelihood * normal_density(reading.value - shown, np.full(vehicles, variance))
    return float(np.log(likelihood.mean())), float(before @ shown / before.sum())


def main() -> None:
    """Run and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--vehicles", type=int, default=20000)
    arguments = parser.parse_args()
    for name, (controls, shown) in CASES.items():
        predictor = Predictor(Circuit(load_circuit_text(library_circuits()[name])))
        setup = predictor.circuit.setup(controls)
        readings = [Reading(p, Test("voltmeter", p, "BAT.neg", setup), v, None, 0.005) for p, v in shown.items()]
        ours, theirs = evidence(predictor, readings), by_sampling(predictor, readings, arguments.vehicles, 3)
        print(json.dumps({
            "circuit": name, "log evidence, filter and sampled": [round(ours[0], 3), round(theirs[0], 3)],
            "last reading expected, filter and sampled": [round(ours[1], 4), round(theirs[1], 4)], "vehicles": arguments.vehicles,
        }))  # fmt: skip


if __name__ == "__main__":
    main()
