"""A circuit far beyond the usual size: fewer severities and set-ups are worked out, and the diagnosis is still right."""

from __future__ import annotations

from collections import Counter

import numpy as np
import pytest

from benchmarks.attacks import relay_box
from benchmarks.hidden_faults import Case, follow_plan
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis import hypotheses, predictions
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import candidate_setups
from sondar.core.solving import ports
from sondar.core.solving.solver import SetupSolver
from tests.conftest import circuit_of


@pytest.fixture(scope="module")
def boxes() -> Circuit:
    """Four relays, as if four were many."""
    return circuit_of(relay_box(4))


@pytest.fixture
def as_if_large(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(hypotheses, "MANY_LISTED", 900)
    monkeypatch.setattr(hypotheses, "MANY_SOLVED", 2000)
    monkeypatch.setattr(predictions, "MOST_CELLS", 3e5)


@pytest.mark.parametrize("text", ["relays", "fan"])
def test_sparse_and_dense_factors_give_the_same_voltages(
    boxes: Circuit, fan: Circuit, monkeypatch: pytest.MonkeyPatch, text: str
) -> None:
    circuit = boxes if text == "relays" else fan
    faults = [(), *(severity.changes for fault in circuit.faults.values() for severity in fault.severities[:2])]
    pairs = [(point.node, circuit.point(circuit.black_reference).node) for point in circuit.points.values()]

    def volts(sparse_from: int) -> tuple[np.ndarray, np.ndarray]:
        monkeypatch.setattr(ports, "SPARSE_FROM", sparse_from)
        found = SetupSolver(circuit, circuit.rest_setup(20.0), pairs, samples=1).solve(faults)
        return found.volts, found.ohms

    (sparse, sparse_ohm), (dense, dense_ohm) = volts(0), volts(10**6)
    assert np.abs(sparse - dense).max() < 1e-7
    assert np.allclose(sparse_ohm, dense_ohm, rtol=1e-6, atol=1e-6)


def test_a_coarser_grid_keeps_every_fault_its_ends_and_its_weight(boxes: Circuit) -> None:
    listed = [(fault, severity) for fault in boxes.faults.values() for severity in fault.severities]
    coarser = hypotheses._coarser(listed)
    assert len(coarser) < 0.75 * len(listed)

    def weights(items: list) -> dict[str, float]:
        found: Counter[str] = Counter()
        for fault, severity in items:
            found[fault.id] += severity.weight
        return dict(found)

    assert weights(coarser) == pytest.approx(weights(listed))
    for fault in boxes.faults.values():
        graded = [severity for severity in fault.severities if severity.grade]
        if graded:
            kept = [severity.key for other, severity in coarser if other.id == fault.id and severity.grade]
            ends = {min(graded, key=lambda s: s.grade).key, max(graded, key=lambda s: s.grade).key}
            assert ends <= set(kept), fault.id


def test_only_so_many_setups_are_worked_out_the_quickest_first(boxes: Circuit, as_if_large: None) -> None:
    predictor = Predictor(boxes)
    setups = candidate_setups(predictor, Situation(boxes.rest_setup(20.0)))
    assert len(setups) == predictor.affordable_setups < 20
    assert boxes.rest_setup(20.0) in setups


def test_a_circuit_of_the_usual_size_is_worked_out_in_full(fan_predictor: Predictor) -> None:
    situation = Situation(fan_predictor.circuit.rest_setup(20.0))
    assert len(candidate_setups(fan_predictor, situation)) < fan_predictor.affordable_setups


def test_a_fault_in_a_large_circuit_is_found(boxes: Circuit, as_if_large: None) -> None:
    known = boxes.faults["K1.coil_open"]
    outcome = follow_plan(Predictor(boxes), Case(boxes.document.id, known.id, known.severities[0].label, known.unit, 7))
    assert known.unit in outcome.called
