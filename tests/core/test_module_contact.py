"""Who hears whom: a silent module, several, none, one that is missed and answers, and one that was missed earlier."""

from __future__ import annotations

import pytest

from sondar.core.module_contact import SUPPLIED, TOOL, VARIANT, SeenCode, conclusions, module_meant, who_hears_whom

TITLES = {"ECM": "Engine module", "BCM": "Body module", "TSM": "Trailer module"}
ALL = {"ECM": True, "BCM": True, "TSM": True}


def lost(module: str, about: str, status: int | None = None) -> SeenCode:
    return SeenCode("U0157", module, about, status)


@pytest.mark.parametrize(
    ("about", "module"),
    [
        ("engine control module A", "ECM"), ("body control module", "BCM"), ("Lost contact with the trailer module", "TSM"),
        ("transmission control module", None), ("gateway A", None), ("BCM", "BCM"),
    ],
)  # fmt: skip
def test_a_code_is_about_the_module_whose_own_words_it_has(about: str, module: str | None) -> None:
    assert module_meant(TITLES, about) == module


def test_nothing_is_said_while_all_answer_and_nobody_is_missed() -> None:
    assert conclusions(who_hears_whom(TITLES, ALL, [])) == []
    assert conclusions(who_hears_whom(TITLES, {}, [])) == []
    assert conclusions(who_hears_whom({}, {}, [])) == []


def test_a_silent_module_that_others_miss_is_off_the_bus_and_the_bus_is_good() -> None:
    heard = who_hears_whom(TITLES, {**ALL, "TSM": False}, [lost("BCM", "trailer module")])
    assert [(one.id, one.state, one.missed_by) for one in heard] == [
        ("ECM", "answers", ()),
        ("BCM", "answers", ()),
        ("TSM", "silent", ("BCM",)),
    ]
    [found] = conclusions(heard)
    assert found.modules == ("TSM",)
    assert found.sentence.startswith("Trailer module is off the bus")
    assert found.why == (
        "It does not answer, and Body module misses it. Engine module and Body module hear each other, so the bus between them is good."
    )
    assert found.checks[:-1] == SUPPLIED
    assert "locked" in found.checks[-1], "another module comes last, with what may happen"


def test_a_silent_module_that_nobody_misses_may_not_be_fitted() -> None:
    [found] = conclusions(who_hears_whom(TITLES, {**ALL, "TSM": False}, []))
    assert "may not be fitted" in found.sentence
    assert found.checks[0] == VARIANT


def test_several_silent_modules_are_looked_at_together() -> None:
    codes = [lost("ECM", "trailer module"), lost("ECM", "body control module")]
    [found] = conclusions(who_hears_whom(TITLES, {"ECM": True, "BCM": False, "TSM": False}, codes))
    assert found.modules == ("BCM", "TSM")
    assert found.sentence == "Body module and Trailer module are off the bus together."
    assert "in common" in found.why


def test_no_module_at_all_is_the_tools_way_or_the_whole_bus() -> None:
    [found] = conclusions(who_hears_whom(TITLES, dict.fromkeys(TITLES, False), []))
    assert found.checks == TOOL


def test_a_module_that_answers_and_is_missed_now_is_told_from_one_that_was_missed() -> None:
    [now] = conclusions(who_hears_whom(TITLES, ALL, [lost("BCM", "trailer module", 0x2F)]))
    assert now.sentence == "Trailer module answers, and Body module misses it all the same."
    [before] = conclusions(who_hears_whom(TITLES, ALL, [lost("BCM", "trailer module", 0x28)]))
    assert before.sentence == "Contact with trailer module was lost at some time, and is there now."
    assert conclusions(who_hears_whom(TITLES, ALL, [lost("BCM", "trailer module", 0x10)])) == [], "not tested yet says nothing"


def test_a_vehicle_that_nobody_knows_names_the_module_by_the_code() -> None:
    [found] = conclusions(who_hears_whom({}, {}, [lost("", "anti-lock brake control module")]))
    assert found.sentence == "Anti-lock brake control module is missed, and nobody has asked it yet."
    assert found.why == "another module misses it."


def test_a_module_that_is_there_and_refuses_is_not_silent() -> None:
    heard = who_hears_whom(TITLES, {**ALL, "TSM": "refused: conditions are not right"}, [])
    assert {one.state for one in heard} == {"answers"}
