"""The trace of a pulsing line against levels worked out by hand, and of a steady one."""

from __future__ import annotations

import pytest

from sondar.circuit_files import library_circuits
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.waveform import PERIODS, waveform_of
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.wording.labels import fault_title
from tests.conftest import circuit_of


def test_a_purge_valve_at_half_is_drawn_with_its_duty_and_levels() -> None:
    circuit = circuit_of(library_circuits()["tessel-purge-valve"])
    predictor = Predictor(circuit)
    setup = circuit.setup({"key": "run", "purge": "half"})
    test = Test("voltmeter", "X51.2", circuit.black_reference, setup)
    seen = waveform_of(predictor, update(predictor, []), test)
    assert seen.frequency_hz == 20.0
    times, volts = zip(*seen.healthy, strict=True)
    assert times[-1] == pytest.approx(PERIODS * 50.0)
    assert min(volts) < 1.0, "pulled down by the driver"
    assert max(volts) == pytest.approx(14.1, abs=0.4), "released: the feed through the coil"
    mean = sum((b[0] - a[0]) * (a[1] + b[1]) / 2 for a, b in zip(seen.healthy, seen.healthy[1:], strict=False)) / times[-1]
    assert mean == pytest.approx(float(predictor.display_of(test).nominal[0, 0]), abs=0.05), "what a voltmeter shows is its mean"


def test_the_leading_suspect_has_a_trace_of_its_own() -> None:
    circuit = circuit_of(library_circuits()["tessel-purge-valve"])
    predictor = Predictor(circuit)
    setup = circuit.setup({"key": "run", "purge": "half"})
    dead = Reading("1", Test("voltmeter", "X51.2", circuit.black_reference, setup), 0.02, None)
    seen = waveform_of(predictor, update(predictor, [dead]), dead.test)
    assert max(v for _, v in seen.suspect) < 1.0
    assert fault_title(predictor.circuit, seen.suspected)


def test_what_does_not_pulse_is_a_line() -> None:
    circuit = circuit_of(library_circuits()["ambient-temperature"])
    predictor = Predictor(circuit)
    test = Test("voltmeter", "X31.1", circuit.black_reference, circuit.setup({"key": "on"}))
    seen = waveform_of(predictor, update(predictor, []), test)
    assert seen.frequency_hz == 0.0
    assert len({v for _, v in seen.healthy}) == 1
