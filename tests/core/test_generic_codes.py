"""Generic codes: families agree, contradictions are found, numbers and words lead to the right code."""

from __future__ import annotations

import re
from collections import defaultdict
from typing import Any

import pytest

from sondar.code_library import FOLDER, circuit_templates, generic_codes
from sondar.core.codes import CODE
from sondar.core.generic_codes import Electrically, GenericCode, GenericCodesError, following, read_codes

HELD = generic_codes()
MANNERS = {
    name: {"words": words, "kind": "electrical", "sets": "s", "looks": ["l"]}
    for name, words in (("low", "circuit low"), ("high", "circuit high"), ("range", "range"), ("performance", "performance"))
}


def made(*subjects: dict[str, Any]) -> dict[str, GenericCode]:
    return read_codes(subjects, MANNERS, {"t": Electrically("it is low", "it is high")})


def test_there_are_enough_and_each_is_well_formed() -> None:
    assert len(HELD) >= 1500
    for code, item in HELD.codes.items():
        assert CODE.fullmatch(code)
        assert item.code == code
        assert item.meaning[0].isupper(), code
        assert not item.meaning.endswith("."), code
        assert all((item.looks, item.sets, item.not_said)), code
        assert item.template in ("", *circuit_templates()), code
        assert code not in item.companions
        assert {*item.companions, *item.mistaken_for} <= HELD.codes.keys(), code
    assert {code[0] for code in HELD.codes} == set("PCBU")
    assert all(any(code.startswith(area) for code in HELD.codes) for area in ("P0", "P2", "P34", "C0", "B0", "U0"))


# What the standard's own tables say of some codes, written here apart from the data: (code, words that must stand in the meaning, kind).
SAID = """
P0016 crankshaft intake camshaft|rationality
P0030 oxygen bank_1_sensor_1 heater|electrical
P0037 oxygen bank_1_sensor_2 heater low|electrical
P0057 oxygen bank_2_sensor_2 heater low|electrical
P0069 barometric pressure|rationality
P0087 rail too_low|system
P0101 air_mass range|rationality
P0102 air_mass low|electrical
P0113 intake_air_temperature high|electrical
P0118 coolant_temperature high|electrical
P0122 throttle low|electrical
P0128 coolant thermostat|rationality
P0135 oxygen bank_1_sensor_1 heater|electrical
P0141 oxygen bank_1_sensor_2 heater|electrical
P0155 oxygen bank_2_sensor_1 heater|electrical
P0161 oxygen bank_2_sensor_2 heater|electrical
P0171 bank_1 lean|system
P0175 bank_2 rich|system
P0193 rail_pressure high|electrical
P0204 injector cylinder_4|electrical
P0234 boost too_high|system
P0268 injector cylinder_3 high|electrical
P0299 boost too_low|system
P0304 cylinder_4 misfire|system
P0335 crankshaft_position circuit|electrical
P0341 camshaft range bank_1|rationality
P0352 coil B|electrical
P0391 camshaft bank_2 range|rationality
P0401 recirculation little|system
P0420 catalyst bank_1 efficiency|system
P0430 catalyst bank_2|system
P0442 vapour small_leak|system
P0443 purge_valve circuit|electrical
P0446 vent_valve control|electrical
P0455 large_leak|system
P0463 fuel_level high|electrical
P0480 fan 1 control|electrical
P0500 vehicle_speed circuit|electrical
P0507 idle higher|system
P0562 voltage low|electrical
P0571 brake_switch|electrical
P0605 program_memory|system
P0627 fuel_pump open|electrical
P0642 reference A low|electrical
P0653 reference B high|electrical
P0685 main_relay open|electrical
P0705 range_switch circuit|electrical
P0717 input_speed no_signal|electrical
P0733 ratio gear_3|system
P0741 converter stuck_off|system
P0753 shift_valve A electrical|electrical
P0841 fluid_pressure A range|rationality
P0962 pressure_control A low|electrical
P0974 shift_valve A high|electrical
P2016 position low bank_1|electrical
P2101 throttle_motor range|rationality
P2122 D low|electrical
P2135 A_and_B agree|rationality
P2138 D_and_E agree|rationality
P2195 bank_1_sensor_1 lean|rationality
P2238 pump_current low bank_1|electrical
P2263 boost performance|system
P2305 coil B secondary|electrical
P2453 differential range|rationality
P2563 boost position range|rationality
P2646 lift A_bank_1 stuck_off|system
P2A04 oxygen bank_2_sensor_2 range|rationality
P3425 cylinder_4 intake open|electrical
C0034 wheel_speed right_front|electrical
U0100 engine lost|system
U0121 anti-lock lost|system
U0140 body lost|system
U0155 panel lost|system
U0401 engine invalid|rationality
U0422 body invalid|rationality
"""


@pytest.mark.parametrize("line", SAID.strip().splitlines(), ids=lambda line: line.split()[0])
def test_meanings_agree_with_the_tables(line: str) -> None:
    head, kind = line.split("|")
    code, *words = head.split()
    item = HELD.codes[code]
    for word in words:
        assert word.replace("_", " ").lower() in item.meaning.lower(), item.meaning
    assert item.kind == kind


def test_banks_and_positions_have_the_same_manners() -> None:
    """Whatever is said of one bank, sensor or cylinder is said of all, in the same order of numbers."""
    manners: dict[str, dict[str, list[str]]] = defaultdict(lambda: defaultdict(list))
    for item in HELD.codes.values():
        if re.fullmatch(r"(bank \d( sensor \d)?|cylinder \d+)", item.place):
            manners[item.part][item.place].append(item.manner)
    families = 0
    for part, places in manners.items():
        by_form: dict[str, list[list[str]]] = defaultdict(list)
        for place, said in places.items():
            by_form[re.sub(r"\d+", "#", place)].append(said)
        for form, alike in by_form.items():
            longest = max(alike, key=len)
            families += len(alike) > 1
            for said in alike:
                assert set(said) <= set(longest), (part, form)
    assert families > 40


def test_low_and_high_stand_side_by_side() -> None:
    """A code *low* has its *high* beside it; only two pairs stand apart."""
    pairs = 0
    for code, item in HELD.codes.items():
        if item.manner == "low" and code not in ("P0719", "P0A09"):
            near = [HELD.get(following(code, step) or "") for step in (-1, 1, 2)]
            assert any(other and other.part == item.part and other.place == item.place and other.manner in ("high", "erratic-high", "intermittent")
                       for other in near), code  # fmt: skip
            pairs += 1
    assert pairs > 150


def test_contradictions_are_found() -> None:
    with pytest.raises(GenericCodesError, match="P0102 is both"):
        made({"part": "a", "codes": {"P0101": ["low", "high"]}}, {"part": "b", "codes": {"P0102": ["low"]}})
    with pytest.raises(GenericCodesError, match="no manner 'lowest'"):
        made({"part": "a", "codes": {"P0101": ["lowest"]}})
    with pytest.raises(GenericCodesError, match="P0999 is not there"):
        made({"part": "a", "codes": {"P0101": ["low"]}, "with": ["P0999"]})
    with pytest.raises(GenericCodesError, match="is no code"):
        made({"part": "a", "codes": {"P0999": ["low", "high"]}})
    with pytest.raises(GenericCodesError, match="no kind 'odd'"):
        made({"part": "a", "codes": {"P0101": ["= at fault | odd"]}})


def test_low_and_high_mean_what_the_kind_of_circuit_makes_of_them() -> None:
    found = made({"part": "a", "template": "t", "codes": {"P0101": ["low", "high", "range"]}})
    assert [found[code].electrically for code in ("P0101", "P0102", "P0103")] == ["it is low", "it is high", ""]


@pytest.mark.parametrize(
    ("said", "code", "failure"),
    [("443", "P0443", None), ("P443", "P0443", None), ("p0443", "P0443", None), ("0443", "P0443", None), ("P0443-14", "P0443", "14"),
     ("P0443 14", "P0443", "14"), ("2138", "P2138", None), ("U121", "U0121", None), ("P2a04", "P2A04", None), ("P1234", "P1234", None)],
)  # fmt: skip
def test_numbers_as_people_say_them(said: str, code: str, failure: str | None) -> None:
    first = HELD.understand(said)[0]
    assert (first.code, first.failure_type) == (code, failure)
    assert first.as_said == said.upper().startswith(code)


@pytest.mark.parametrize("said", ["", "purge valve", "44", "P04433", "Q0443", "P0443-1", "x" * 500])
def test_what_is_no_number_is_none(said: str) -> None:
    assert HELD.understand(said) == []


@pytest.mark.parametrize(
    ("words", "code"),
    [("purge valve low", "P0458"), ("cam sensor low", "P0342"), ("water temperature high", "P0118"), ("MAF low", "P0102"),
     ("wheel speed sensor left rear", "C0037"), ("lambda sensor heater bank 2 sensor 1", "P0155")],
)  # fmt: skip
def test_words_find_codes(words: str, code: str) -> None:
    assert code in [item.code for item in HELD.search(words)]


def test_words_that_fit_nothing_find_nothing() -> None:
    assert HELD.search("bilge alarm") == []
    assert HELD.search("   ") == []


@pytest.mark.parametrize(
    ("code", "held", "words"),
    [("P1443", "manufacturer", "manufacturer"), ("B1234", "manufacturer", "manufacturer"), ("P3123", "manufacturer", "manufacturer"),
     ("U3001", "reserved", "Reserved"), ("P0999", "held", ""), ("P09FF", "unknown", "Nothing is guessed")],
)  # fmt: skip
def test_a_code_that_is_not_held_says_why(code: str, held: str, words: str) -> None:
    assert HELD.held(code) == held
    assert words in HELD.why_not(code)
    assert bool(HELD.why_not(code)) == (held != "held")


def test_a_scan_tools_text_leads_to_what_is_like_it() -> None:
    assert HELD.nearest("Left front wheel speed sensor supply open", "13")[0].code == "C0032"
    assert HELD.nearest("Boost actuator position sensor short to ground")[0].part.startswith("boost control")
    assert HELD.nearest("bilge") == []


def test_failure_types_in_words() -> None:
    assert HELD.failure_type("13") == "circuit open"
    assert HELD.failure_type("1a") == "resistance below its limit"
    assert "not known here" in HELD.failure_type("F7")
    assert HELD.failure_type(None) == ""


def test_the_data_names_no_manner_that_nothing_uses() -> None:
    used = {item.manner for item in HELD.codes.values()}
    named = set(re.findall(r"^([a-z][a-z-]*):", (FOLDER / "manners.yaml").read_text(encoding="utf-8"), re.MULTILINE))
    assert named - used == set()
