"""A circuit far beyond the usual size: fewer severities and set-ups are worked out, and the diagnosis is still right."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np
import pytest

from benchmarks.attacks import relay_box
from benchmarks.hidden_faults import Case, follow_plan
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis import hypotheses, predictions
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import candidate_setups
from sondar.core.instruments import sensible_tests
from sondar.core.instruments.base import Display
from sondar.core.interruption import watched_by
from sondar.core.solving import ports, solver
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
    monkeypatch.setattr(predictions, "FIRST_CELLS", 1e5)
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
    assert len(setups) == predictor.affordable_setups(0) < 20
    assert boxes.rest_setup(20.0) in setups


def test_each_reading_adds_setups_of_a_large_circuit_up_to_a_bound(boxes: Circuit, as_if_large: None) -> None:
    predictor = Predictor(boxes)
    at_rest = Situation(boxes.rest_setup(20.0))
    tests = sensible_tests(boxes, at_rest.setup, frozenset({"voltmeter"}))
    counts = [len(candidate_setups(predictor, replace(at_rest, done=frozenset(tests[:made])))) for made in (0, 1, 2, 20)]
    assert counts[0] < counts[1] < counts[2] <= counts[3]
    first = candidate_setups(predictor, at_rest)
    later = candidate_setups(predictor, replace(at_rest, done=frozenset(tests[:2])))
    assert later[: len(first)] == first


def test_within_a_setup_it_is_asked_for_every_instrument_whether_somebody_waits(boxes: Circuit) -> None:
    predictor = Predictor(boxes)
    assert predictor.hypotheses
    asked: list[str] = []
    with watched_by(asked.append):
        found = predictor.setup(boxes.rest_setup(20.0))
    assert len(asked) >= 2 * len(found.displays) > 4, "once where it is read off and once where its outcomes are divided"


def test_a_circuit_of_the_usual_size_is_worked_out_in_full(fan_predictor: Predictor) -> None:
    situation = Situation(fan_predictor.circuit.rest_setup(20.0))
    assert len(candidate_setups(fan_predictor, situation)) < fan_predictor.affordable_setups(0)


def test_a_fault_in_a_large_circuit_is_found(boxes: Circuit, as_if_large: None) -> None:
    known = boxes.faults["K1.coil_open"]
    outcome = follow_plan(Predictor(boxes), Case(boxes.document.id, known.id, known.severities[0].label, known.unit, 7))
    assert known.unit in outcome.called


@pytest.mark.parametrize("position", ["rest", "all on"])
def test_slopes_that_a_large_network_shares_are_those_worked_out_for_each(
    boxes: Circuit, monkeypatch: pytest.MonkeyPatch, position: str
) -> None:
    """Displays of every hypothesis agree; a few whose voltage happens to be the healthy one for another reason may not."""
    states = boxes.usual_states()
    setup = Setup(states[0] if position == "rest" else states[-1])

    def shown(at_once: float) -> dict[str, Display]:
        monkeypatch.setattr(solver, "SLOPES_AT_ONCE", at_once)
        return Predictor(boxes).setup(setup).displays

    for name, each in shown(1e12).items():
        shared = shown(1.0)[name]
        assert np.allclose(each.mean, shared.mean, rtol=1e-4, atol=1e-4)
        assert np.mean(np.abs(shared.sd / each.sd - 1.0) > 0.1) < 1e-3
        assert np.abs(each.words - shared.words).max(initial=0.0) < 0.01


def test_states_of_contacts_that_few_faults_share_cost_no_factorisation_and_change_nothing(
    boxes: Circuit, monkeypatch: pytest.MonkeyPatch
) -> None:
    faults = [(), *(severity.changes for fault in boxes.faults.values() for severity in fault.severities[:2])]
    pairs = [(point.node, boxes.point(boxes.black_reference).node) for point in boxes.points.values()]
    setup = Setup(boxes.usual_states()[-1])

    def solved(rows: int) -> tuple[np.ndarray, int]:
        monkeypatch.setattr(solver, "ROWS_OF_THEIR_OWN", rows)
        made = SetupSolver(boxes, setup, pairs, samples=1)
        return made.solve(faults).volts, len(made._ports)

    (each, many), (lumped, few) = solved(1), solved(10**6)
    assert few < many
    assert np.abs(each - lumped).max() < 1e-6
