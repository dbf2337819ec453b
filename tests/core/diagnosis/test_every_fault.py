"""Each noticeable fault of the ambient-temperature circuit, hidden in a vehicle of its own: the plan must end at its unit.

The strongest severity of each is taken. One case in the whole list may fail: tolerances and the meter's noise are drawn, and the
call is made at 95 %.
"""

from __future__ import annotations

import zlib

from benchmarks.hidden_faults import Case, Outcome, follow_plan
from sondar.core.diagnosis.predictions import Predictor


def every_case(predictor: Predictor) -> list[Case]:
    seen: dict[str, Case] = {}
    for suspect in predictor.hypotheses.suspects[1:-1]:
        seed = zlib.crc32(suspect.fault.encode()) % 10_000
        seen[suspect.fault] = Case("ambient-temperature", suspect.fault, suspect.severity, suspect.unit, seed)
    return list(seen.values())


def test_every_fault_is_found(ambient_predictor: Predictor) -> None:
    cases = every_case(ambient_predictor)
    assert len(cases) > 30
    outcomes: dict[str, Outcome] = {case.fault: follow_plan(ambient_predictor, case) for case in cases}
    wrong = {fault: outcome for fault, outcome in outcomes.items() if not outcome.right}
    assert len(wrong) <= 1, wrong
    assert max(outcome.readings for outcome in outcomes.values()) <= 20
    condemned = [fault for fault, o in outcomes.items() if not o.right and o.called[0] == "BCM"]
    assert not condemned, "the coded module is never called for another's fault"
