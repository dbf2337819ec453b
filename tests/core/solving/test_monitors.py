"""What a vehicle notices by itself, from the physics alone."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.core.solving.monitors import Observables, observe
from sondar.core.triage.model import TriageModel
from tests.conftest import FAN_TEXT, circuit_of


def noticed(model: TriageModel, *faults: str) -> tuple[set[str], set[str], set[str]]:
    """Codes, symptoms and silent modules of a vehicle with these faults, each at its first severity or the one named after a colon."""
    listed = [(model.circuit.faults[name], label) for name, _, label in (fault.partition(":") for fault in faults)]
    changes = tuple(c for fault, label in listed for c in next(s for s in fault.severities if label in ("", s.label)).changes)
    found: Observables = observe(model.circuit, [changes], ["+".join(fault.id for fault, _ in listed)])
    return (
        {n for n, p in zip(found.codes, found.code[0], strict=True) if p > 0.5},
        {n for n, p in zip(found.symptoms, found.symptom[0], strict=True) if p > 0.5},
        {n for n, p in zip(found.modules, found.silent[0], strict=True) if p > 0.5},
    )


def test_a_healthy_vehicle_notices_nothing(tern: TriageModel, lisk: TriageModel) -> None:
    for model in (tern, lisk):
        found = observe(model.circuit, [()], [""])
        assert found.matrix.max() < 0.02, "no monitor stands near its limit on a healthy vehicle"


@pytest.mark.parametrize(
    ("fault", "codes", "silent"),
    [
        ("W66.open", {"B1D10", "B1D11", "U0157"}, {"TSM"}),
        ("W34.open", {"P0193", "P0238", "P0118"}, set()),
        ("F7.open", {"P0480", "B1E20"}, set()),
        ("F15.open", {"U0100"}, {"ECM"}),
        ("W30.to_ground", {"P0192", "P0237"}, set()),
        ("W74.open", {"U0157"}, {"TSM"}),
        ("W25.to_ground", {"U0100", "U0157", "U0140"}, {"ECM", "TSM"}),
        ("B6.open", {"P0118"}, set()),
    ],
)
def test_faults_set_the_codes_that_a_technician_expects(tern: TriageModel, fault: str, codes: set[str], silent: set[str]) -> None:
    found, _, quiet = noticed(tern, fault)
    # A module that does not answer cannot hand out its own codes.
    assert found == {c for c in codes if tern.circuit.document.codes[c].module not in silent}
    assert quiet == silent


def test_an_electrical_code_keeps_the_plausibility_monitor_from_running(tern: TriageModel) -> None:
    high, _, _ = noticed(tern, "W37.open")
    assert "P0238" in high
    assert "P0236" not in high
    biased, _, _ = noticed(tern, "B42.bias:+18% of the reference")
    assert biased == {"P0236"}


def test_a_mechanical_fault_shows_without_an_electrical_trace(tern: TriageModel) -> None:
    codes, symptoms, _ = noticed(tern, "M5.seized")
    assert "fan-silent" in symptoms
    assert "P0480" not in codes


def test_two_faults_at_once_are_simply_both(tern: TriageModel) -> None:
    codes, symptoms, _ = noticed(tern, "W66.open", "F7.open")
    assert {"B1D10", "B1D11", "U0157", "P0480", "B1E20"} <= codes
    assert {"trailer-dead", "fan-silent", "screen-cold"} <= symptoms


def test_near_a_limit_the_answer_is_a_probability() -> None:
    text = FAN_TEXT.replace("below: 6}", "below: 12.2}")
    found = observe(circuit_of(text), [()], [""])
    at = found.codes.index("P0480")
    assert 0.05 < found.code[0, at] < 0.95
    assert np.isfinite(found.matrix).all()
