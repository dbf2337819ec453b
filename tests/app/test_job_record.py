"""What is stored of a job, put together: lists around a clearing, behaviour, evidence, warnings. No database."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

import pytest

from sondar.app import answer_fields, job_record
from sondar.core.codes import FoundCode
from sondar.core.errors import InvalidError
from sondar.core.triage.model import TriageModel
from sondar.store.codes import Clearing, Scan
from sondar.store.intake import Answer

START = datetime(2026, 3, 1, 8, 0, tzinfo=UTC)
ACTIVE, CONFIRMED, UNTESTED = 0x2F, 0x08, 0x50


def scan(
    seq: int,
    *codes: tuple[str, str, int],
    after_s: float = 0.0,
    source: str = "vehicle",
    run: tuple[str, ...] = (),
    **modules: bool,
) -> Scan:
    found = tuple(FoundCode(code, None, status, module) for module, code, status in codes)
    return Scan(uuid4(), seq, source, modules, list(run), START + timedelta(seconds=after_s), None, found)


def cleared(seq: int, after_s: float = 0.0) -> Clearing:
    return Clearing(uuid4(), seq, uuid4(), "vehicle", START + timedelta(seconds=after_s))


def said(**values: Any) -> dict[str, Answer]:
    return {k: Answer(k, v, i + 1, None, START) for i, (k, v) in enumerate(values.items())}


def test_before_clearing_all_lists_count_together_and_the_untested_are_no_codes() -> None:
    file = job_record.code_file(
        [scan(1, ("ECM", "P0192", ACTIVE), ECM=True, TSM=False), scan(2, ("BCM", "B1D10", CONFIRMED), ("BCM", "B1D11", UNTESTED), BCM=True)], [], {}
    )  # fmt: skip
    assert [c.code for c in file.before] == ["P0192", "B1D10"]
    assert file.modules == {"ECM": True, "TSM": False, "BCM": True}
    assert file.untested == {"B1D11"}
    assert file.classified == {}


def test_after_clearing_each_code_is_sorted_and_new_ones_stand_too() -> None:
    before = scan(1, ("ECM", "P0192", ACTIVE), ("ECM", "P0237", CONFIRMED), ECM=True)
    again = scan(3, ("ECM", "P0192", ACTIVE), ("ECM", "P0117", ACTIVE), after_s=12, ECM=True)
    file = job_record.code_file([before, again], [cleared(2)], {})
    behaviour = {code: c.behaviour for (_, code), c in file.classified.items()}
    assert behaviour == {"P0192": "hard", "P0237": "history", "P0117": "new"}
    assert [c.code for c in job_record.current_codes(file)] == ["P0192", "P0237", "P0117"]


def test_a_code_that_comes_only_under_its_condition_is_conditional() -> None:
    before = scan(1, ("ECM", "P0192", ACTIVE), ECM=True)
    cold = scan(3, after_s=60, run=("engine run",), ECM=True)
    warm = scan(4, ("ECM", "P0192", ACTIVE), after_s=900, run=("warm",), ECM=True)
    file = job_record.code_file([before, cold, warm], [cleared(2)], said(conditions=["hot"]))
    (one,) = file.classified.values()
    assert one.behaviour == "conditional"
    assert set(one.conditions) == {"engine run", "warm"}


def test_the_complaints_own_condition_must_be_run_before_history_is_called() -> None:
    before = scan(1, ("ECM", "P0192", CONFIRMED), ECM=True)
    again = scan(3, after_s=60, run=("engine run",), ECM=True)
    file = job_record.code_file([before, again], [cleared(2)], said(conditions=["wet"]))
    (one,) = file.classified.values()
    assert one.behaviour == "not run yet"
    assert "wet" in one.reason


def test_evidence_weighs_codes_by_their_behaviour(tern: TriageModel) -> None:
    before = scan(1, ("ECM", "P0192", ACTIVE), ("ECM", "P0237", CONFIRMED), ECM=True, TSM=False)
    again = scan(3, ("ECM", "P0192", ACTIVE), after_s=12, ECM=True)
    file = job_record.code_file([before, again], [cleared(2)], {})
    found = job_record.evidence(tern, file, said(symptoms=["washer-dead", "no-such-thing"], environment=["salt"]), {})
    weights = {c.code: c.weight for c in found.codes}
    assert weights["P0192"] == 1.0
    assert weights["P0237"] == job_record.WEIGHT_OF["history"]
    assert found.silent == {"TSM"}
    assert found.read == {"ECM"}
    assert found.symptoms == {"washer-dead"}, "what this vehicle does not have is left out"
    assert found.answers.environments == {"salt"}


def test_whether_the_fault_is_there_follows_its_own_circuit(tern: TriageModel) -> None:
    rail = tern.vehicle.circuits["tern-rail-pressure"]
    washer = tern.vehicle.circuits["tern-washer-pump"]
    from sondar.core.circuit.network import Circuit

    before = scan(1, ("ECM", "P0192", CONFIRMED), ECM=True)
    again = scan(3, after_s=60, ECM=True)
    file = job_record.code_file([before, again], [cleared(2)], {})
    assert job_record.present_now(Circuit(rail), file, {}) == pytest.approx(0.35)
    assert job_record.present_now(Circuit(rail), file, said(reproduced=True)) == pytest.approx(0.95)
    assert job_record.present_now(Circuit(washer), file, {}) == 1.0, "nothing is known against it"


@pytest.mark.parametrize(
    ("field", "value", "kept"),
    [
        ("conditions", ["wet", "cold", "wet"], ["cold", "wet"]),
        ("complaint", "  smells  ", "smells"),
        ("mileage_km", 12000.0, 12000),
        ("battery_v", None, None),
        ("vin", "whdtrn16x00002709", "WHDTRN16X00002709"),
        ("reproduced", False, False),
        ("stage", "verify", "verify"),
    ],
)
def test_answers_are_kept_in_one_form(field: str, value: Any, kept: Any) -> None:
    assert answer_fields.checked(field, value) == kept


@pytest.mark.parametrize("field", list(answer_fields.FIELDS))
@pytest.mark.parametrize("value", [{"a": 1}, [1, 2], "x\x00y", 1e400, -1e9, [["deep"]]])
def test_nothing_odd_gets_through_any_field(field: str, value: Any) -> None:
    try:
        kept = answer_fields.checked(field, value)
    except InvalidError as error:
        assert error.problems[0].field == field
    else:
        pytest.fail(f"{field} kept {kept!r}")


def test_warnings_are_only_given_with_a_reason() -> None:
    assert job_record.warnings({}, "", None, None) == []
    assert job_record.warnings({}, "", 10, 5) == []
    (one,) = job_record.warnings({}, "", 5, 10, "mi")
    assert "miles" in one
    (low,) = job_record.warnings(said(battery_v=11.0), "", None, None)
    assert "charge it first" in low
