"""Kinds of parts: found by name and by symptom, recognised on a vehicle, and due when their figures say so."""

from __future__ import annotations

from typing import Any

import pytest

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.code_library import circuit_templates, part_kinds
from sondar.core.circuit.network import Circuit
from sondar.core.part_kinds import Due, PartKind, due_intervals, kind_of, kinds_by_words, kinds_in, read_kinds

KINDS = part_kinds()


def kind(**more: Any) -> PartKind:
    given = {
        "id": "filter", "title": "Filter", "words": ["filter"], "does": "d", "sits": "s", "fails": "f", "symptoms": ["s"], "do": "replace",
        "never": "n", "effort": "easy", "minutes": 5, "learn": "l",
    }  # fmt: skip
    return PartKind.model_validate({**given, **more})


def test_every_typical_circuit_has_a_kind_of_part() -> None:
    templates = circuit_templates()
    named = {template for one in KINDS.values() for template in one.templates}
    assert named == set(templates)
    assert all(one.cleaned_with or "clean" not in one.do for one in KINDS.values()), "what is cleaned says with what"
    assert len(KINDS) >= 45


FOUND_BY = {
    "MAF": "air-mass-sensor",
    "hot film": "air-mass-sensor",
    "alternator": "generator",
    "EGR valve": "recirculation-valve",
    "wiper stops anywhere": "wiper",
    "rough idle after refuelling": "purge-valve",
    "stalls when hot": "camshaft-crankshaft-sensor",
    "overheats in traffic": "radiator-fan",
    "flux capacitor": None,
}


@pytest.mark.parametrize(("said", "first"), FOUND_BY.items())
def test_a_kind_is_found_by_name_and_by_how_it_shows(said: str, first: str | None) -> None:
    found = kinds_by_words(KINDS, said)
    assert (found[0].id if found else None) == first


def test_all_are_listed_when_nothing_is_said() -> None:
    assert [one.title for one in kinds_by_words(KINDS, " ")] == sorted(one.title for one in KINDS.values())


def test_parts_of_the_library_are_recognised_and_wiring_is_none() -> None:
    expected = {
        "tessel-air-mass": {"air-mass-sensor"}, "tern-tail-lamps": {"lamp"}, "orvane-front-oxygen": {"oxygen-sensor"},
        "tessel-filter-pressure": {"differential-pressure-sensor"}, "lisk-fuel-pump": {"fuel-pump", "relay"},
        "radiator-fan-relay": {"radiator-fan", "relay"}, "tessel-exhaust-valve": {"recirculation-valve", "position-sensor"},
    }  # fmt: skip
    always = {"battery", "ground", "fuse", "module"}
    for name, kinds in expected.items():
        circuit = Circuit(load_circuit_text(library_circuits()[name]))
        assert {one.id for _, one in kinds_in(KINDS, [circuit])} - always == kinds, name
        for unit in circuit.units.values():
            if unit.id in circuit.document.wires or unit.id in circuit.document.connectors or unit.id == "IGN":
                assert kind_of(KINDS, circuit, unit) is None, unit.id


@pytest.mark.parametrize(
    ("km", "months", "done", "state", "said"),
    [
        (10_000, None, {}, None, ""),
        (27_500, None, {}, "coming", "every 30000 km: due at 30000 km"),
        (92_000, None, {}, "due", "every 30000 km: no record that it was done; by the plan it was due at 90000 km"),
        (92_000, None, {"filter:0": (88_000, None)}, None, ""),
        (120_000, None, {"filter:0": (88_000, None)}, "due", "every 30000 km, done at 88000 km: due since 118000 km"),
        (None, 40, {}, "due", "every 36 months: no record that it was done; by the plan it was due at 36 months"),
        (31_000, 40, {"filter:0": (30_000, 39)}, None, ""),
        (None, None, {}, None, ""),
        (92_000, None, {"filter:0": (None, None)}, None, ""),
    ],
)
def test_what_is_due_by_mileage_and_age(
    km: int | None, months: int | None, done: dict[str, tuple[int | None, int | None]], state: str | None, said: str
) -> None:
    one = kind(intervals=[{"do": "Renew the filter", "km": 30_000, "months": 36}])
    found = due_intervals([one], km, months, done)
    assert found == ([] if state is None else [Due("filter:0", "filter", "Renew the filter", state, said)])  # type: ignore[arg-type]


def test_mileages_are_said_as_the_workshop_reads_them() -> None:
    one = kind(intervals=[{"do": "Renew the filter", "km": 30_000}])
    [due] = due_intervals([one], 92_000, None, {}, "mi")
    assert due.said == "every 18641 miles: no record that it was done; by the plan it was due at 55923 miles"


def test_what_is_due_stands_first() -> None:
    one = kind(intervals=[{"do": "A", "km": 100_000}, {"do": "B", "km": 50_000}])
    assert [(due.do, due.state) for due in due_intervals([one], 95_000, None, {})] == [("B", "due"), ("A", "coming")]


def test_one_id_is_one_kind() -> None:
    item = kind().model_dump(by_alias=True)
    with pytest.raises(ValueError, match="twice"):
        read_kinds([item, item])
