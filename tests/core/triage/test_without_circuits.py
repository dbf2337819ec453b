"""What codes and symptoms say on a vehicle that nobody has described."""

from __future__ import annotations

import pytest

from sondar.code_library import generic_codes, part_kinds
from sondar.core.triage.without_circuits import PartFirst, parts_by_codes, parts_by_complaint, symptoms_of


def parts(*codes: str) -> list[PartFirst]:
    return parts_by_codes([generic_codes().codes[code] for code in codes])


def test_an_electrical_code_comes_before_what_it_explains() -> None:
    found = parts("P0441", "P0443")
    assert [one.code for one in found] == ["P0443", "P0441"]
    assert "P0443" in found[1].reason
    assert [one.code for one in parts("P0171", "P0102")] == ["P0102", "P0171"]


def test_several_sensors_at_once_speak_of_what_they_share() -> None:
    low = parts("P0107", "P0452", "P0117")
    assert (low[0].template, low[0].codes, low[0].code) == ("reference-5v", ("P0107", "P0452"), "")
    assert "return" in parts("P0108", "P0453")[0].reason
    assert parts("P0107", "P0453")[0].template == "pressure-three-wire", "one low and one high share nothing"
    assert parts("P0107", "P0452", "P0642")[0].template != "reference-5v" or parts("P0107", "P0452", "P0642")[0].code == "P0642"


def test_modules_that_are_missed_together_speak_of_the_bus() -> None:
    assert parts("U0100", "U0121", "U0155")[0].template == "bus-pair"
    assert parts("U0100")[0].template == "module-supply"


def test_the_supply_comes_first() -> None:
    assert parts("P0107", "P0562")[0].code == "P0562"


def test_two_codes_of_one_part_are_one_line() -> None:
    found = parts("P0443", "P0458")
    assert [(one.code, one.codes) for one in found] == [("P0443", ("P0443", "P0458"))]


def test_codes_without_a_circuit_give_nothing() -> None:
    assert parts("P0217") == []
    assert parts() == []


KINDS = list(part_kinds().values())


@pytest.mark.parametrize(
    ("complaint", "template"),
    [
        ("Cranks but no start when hot, starts when cold", "hall-three-wire"),
        ("The heater blower works on the highest step only.", "relay-motor"),
        ("Stop lamps stay on, and the cruise control is off", "brake-switch-double"),
        ("Wiper stops anywhere", "wiper-motor"),
        ("Engine gives no start", "relay-pump"),
        ("Smells of fuel under load misfire", "coil-two-wire"),
    ],
)
def test_a_complaint_leads_to_a_part(complaint: str, template: str) -> None:
    found = parts_by_complaint(KINDS, complaint, [])
    assert template in {one.template for one in found if one.weight == found[0].weight}, found
    assert len(found) <= 5


def test_what_was_picked_counts_more_than_what_was_said() -> None:
    said, picked = parts_by_complaint(KINDS, "rough idle", []), parts_by_complaint(KINDS, "rough idle", ["battery-flat"])
    assert "rough idle" in said[0].reason
    assert picked[0].reason == "battery flat"


@pytest.mark.parametrize("complaint", ["", "Radio silent", "on off not the", "?!", "日本"])
def test_nothing_is_guessed_from_words_that_say_nothing(complaint: str) -> None:
    assert parts_by_complaint(KINDS, complaint, []) == []


def test_symptoms_of_the_complaint_and_those_picked_are_offered_first() -> None:
    menu = symptoms_of(KINDS, "no start when hot", ["smoke"])
    assert list(menu)[:2] == ["smoke", "no-start"]
    assert "Fuel pump" in menu["no-start"][1]
    assert len(menu) == 16
