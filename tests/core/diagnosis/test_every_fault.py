"""Each noticeable fault of the ambient-temperature circuit, hidden in a vehicle of its own: the plan must end at its unit.

The strongest severity of each is taken. One case in twenty-five may stay without its unit: tolerances and the meter's
noise are drawn, and the call is made at 95 %. None may end at a wrong unit.
"""

from __future__ import annotations

import zlib

from benchmarks.hidden_faults import Case, Outcome, follow_plan
from sondar.core.diagnosis.predictions import Predictor


def every_case(predictor: Predictor) -> list[Case]:
    seen: dict[str, Case] = {}
    for suspect in predictor.hypotheses.suspects[1:-1]:
        seed = zlib.crc32(suspect.fault.encode()) % 10_000
        severities = predictor.circuit.faults[suspect.fault].severities
        if severities[0].grade is not None and severities[0].grade[0] == "set" and suspect.fault in seen:
            continue  # of unwanted paths the first is the strongest
        seen[suspect.fault] = Case("ambient-temperature", suspect.fault, suspect.severity, suspect.unit, seed)
    return list(seen.values())


def test_every_fault_is_found(ambient_predictor: Predictor) -> None:
    cases = every_case(ambient_predictor)
    assert len(cases) > 30
    outcomes: dict[str, Outcome] = {case.fault: follow_plan(ambient_predictor, case) for case in cases}
    wrong = {fault: outcome for fault, outcome in outcomes.items() if not outcome.right}
    assert len(wrong) <= len(cases) // 25, wrong
    assert not [fault for fault, outcome in wrong.items() if outcome.condemns], wrong
    condemned = [fault for fault, o in outcomes.items() if not o.right and o.called[0] == "BCM"]
    assert not condemned, "the coded module is never called for another's fault"
