"""Figures that nobody knows: ranges and *unknown* in a circuit file, narrowed down by readings."""

from __future__ import annotations

import math

import pytest

from sondar.circuit_files import CircuitFileError, library_circuits, load_circuit_text
from sondar.core.circuit.families.doubts import USUAL, as_range
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.expectations import learned_outlooks
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading


def with_coil(ohms: str) -> Circuit:
    text = library_circuits()["tessel-purge-valve"]
    assert "coil_ohm: 26" in text
    return Circuit(load_circuit_text(text.replace("coil_ohm: 26", f"coil_ohm: {ohms}")))


def coil_test(circuit: Circuit) -> Test:
    return Test("ohmmeter", "X51.1/c", "X51.2/c", Setup(circuit.rest_setup().controls, frozenset({"X51"})))


@pytest.mark.parametrize("written", ["17 to 35", "17–35", "{min: 17, max: 35}", '"17 Ω to 35 Ω"'])
def test_a_range_is_read_as_its_geometric_middle_and_a_spread(written: str) -> None:
    part = with_coil(written).parts["Y6"]
    assert part.coil_ohm == pytest.approx(math.sqrt(17 * 35))  # type: ignore[attr-defined]
    assert part.doubts == {"coil_ohm": pytest.approx(math.log(35 / 17) / math.sqrt(12))}


def test_unknown_is_what_is_usual() -> None:
    part = with_coil("unknown").parts["Y6"]
    low, high = USUAL["coil_ohm"]
    assert part.coil_ohm == pytest.approx(math.sqrt(low * high))  # type: ignore[attr-defined]


@pytest.mark.parametrize(("written", "message"), [
    ("35 to 17", "smaller figure first"), ("0 to 5", "above 0"), ("1 to 1M", "at most"), ("17 to many", "many"),
])  # fmt: skip
def test_a_range_that_cannot_be_meant_is_named(written: str, message: str) -> None:
    with pytest.raises(CircuitFileError) as caught:
        with_coil(written)
    assert message in str(caught.value)
    assert "coil_ohm" in str(caught.value)


def test_the_readers_own_field_is_refused() -> None:
    with pytest.raises(CircuitFileError, match="give the range at the figure"):
        with_coil("26, doubts: {moon: 1}")


def test_what_is_no_range_stays_what_it_is() -> None:
    assert as_range("coil_ohm", 26) is None
    assert as_range("coil_ohm", "4k7") is None
    with pytest.raises(ValueError, match="usual"):
        as_range("price", "unknown")


@pytest.mark.parametrize("ohms", [18.0, 26.0, 34.0])
def test_a_coil_anywhere_in_its_range_accuses_nobody_and_is_then_known(ohms: float) -> None:
    circuit = with_coil("17 to 35")
    predictor = Predictor(circuit)
    test = coil_test(circuit)
    before = update(predictor, [])
    after = update(predictor, [Reading("1", test, ohms, None, 0.05)])
    coil = after.hypotheses.units.index("Y6")
    assert after.units()[coil] < before.units()[coil] + 0.05
    # From the vehicle's own coil the same reading follows much more closely the next time.
    again = update(predictor, [Reading("1", test, ohms, None, 0.05), Reading("2", test, ohms, None, 0.05)])
    assert again.expected[1].sd < 0.5 * again.expected[0].sd
    assert 10.0 ** again.expected[1].mean - 0.5 == pytest.approx(ohms, rel=0.1)


def test_a_shorted_winding_is_still_found_outside_the_range() -> None:
    circuit = with_coil("17 to 35")
    predictor = Predictor(circuit)
    after = update(predictor, [Reading("1", coil_test(circuit), 3.0, None, 0.05)])
    assert after.units()[after.hypotheses.units.index("Y6")] > 0.8


def test_what_a_measured_coil_teaches_moves_the_prediction_of_the_running_circuit() -> None:
    """With the coil at 18 Ω instead of 24 Ω its current is a third larger."""
    circuit = with_coil("unknown")
    predictor = Predictor(circuit, instruments=("voltmeter", "ohmmeter", "current-clamp"))
    on = next(state for state in circuit.usual_states() if dict(state).get("key") == "on")
    clamp = [
        (predictions, index)
        for predictions in [predictor.setup(Setup(on))]
        for index, test in enumerate(predictions.tests)
        if test.instrument == "voltmeter"
    ]
    assert clamp
    learned = update(predictor, [Reading("1", coil_test(circuit), 18.0, None, 0.05)])
    assert learned_outlooks(predictor, learned, clamp[:1])
    mean, variance = learned.filters[0].along(_direction(predictor, "Y6: coil_ohm"))
    assert variance[0, 0] < 0.05
    assert mean[0, 0] < 0.0, "below the middle of what is usual"


def _direction(predictor: Predictor, name: str):  # type: ignore[no-untyped-def]
    import numpy as np

    direction = np.zeros((1, len(predictor.parameters.names)))
    direction[0, predictor.parameters.index(name)] = 1.0
    return direction
