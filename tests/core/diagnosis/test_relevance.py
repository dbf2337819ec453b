"""What changes nothing in what a vehicle does seldom brings it in, and stays a suspect."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis import relevance
from sondar.core.diagnosis.hypotheses import build_hypotheses
from sondar.core.diagnosis.relevance import HARDLY, matters
from sondar.core.instruments import INSTRUMENTS, displays
from sondar.core.instruments.base import Population, Test
from sondar.core.solving.fuses import blown_fuses


def library(name: str) -> Circuit:
    return Circuit(load_circuit_text(library_circuits()[name]))


def severity_matters(circuit: Circuit, fault: str, label: str) -> bool:
    [severity] = [s for s in circuit.faults[fault].severities if s.label == label]
    changes = [(), severity.changes]
    return bool(matters(circuit, changes, blown_fuses(circuit, changes), 20.0)[1])


@pytest.mark.parametrize(
    ("name", "fault", "label", "expected"),
    [
        ("lisk-brake-switch", "INS.leak", "100 kΩ", False),  # beside a switch that brings 12 V to it
        ("lisk-brake-switch", "INS.leak", "5.0 Ω", True),
        ("lisk-brake-switch", "W28.open", "open", True),
        ("tern-rail-pressure", "X41.2.resistance", "30 Ω", False),  # a signal line of a hundred kilohms
        ("tern-rail-pressure", "X41.3.resistance", "1.0 kΩ", True),  # the sensor's supply
        ("orvane-flap-motor", "M9.sluggish", "6 times as slow", True),
        ("halden-fan-module", "M1.seized", "seized", True),
    ],
)
def test_a_fault_matters_if_something_acts_differently_or_a_module_sees_something_else(
    name: str, fault: str, label: str, expected: bool
) -> None:
    assert severity_matters(library(name), fault, label) is expected


def test_what_does_not_matter_stays_a_suspect_that_comes_in_less_often() -> None:
    hypotheses = build_hypotheses(library("lisk-brake-switch"))
    [slight], [plain] = hypotheses.index("INS.leak", "100 kΩ"), hypotheses.index("INS.leak", "5.0 Ω")
    assert hypotheses.prior[slight] / hypotheses.prior[plain] == pytest.approx(HARDLY)


def test_a_power_stage_in_a_module_works_only_while_the_module_is_supplied() -> None:
    circuit = library("halden-fan-module")
    setup = circuit.setup({"key": "on", "fan": "full"})
    ground = circuit.faults["X20.2.open"].severities[0].changes
    test = Test("functional-check", "M1", circuit.black_reference, setup)
    population = Population(circuit, setup, [(), ground], blown_fuses(circuit, [(), ground]), samples=1, deviates={})
    [shown] = displays(population, [test]).values()
    assert [INSTRUMENTS["functional-check"].words[int(np.argmax(words[0]))] for words in shown.words] == ["operates", "inoperative"]


def test_of_a_very_large_circuit_it_is_not_asked(monkeypatch: pytest.MonkeyPatch) -> None:
    circuit = library("lisk-brake-switch")
    changes = [(), *(s.changes for s in circuit.faults["INS.leak"].severities)]
    blown = blown_fuses(circuit, changes)
    assert not matters(circuit, changes, blown, 20.0)[1:].all()
    monkeypatch.setattr(relevance, "MOST_SOLVED", 10)
    assert matters(circuit, changes, blown, 20.0).all()
