"""What is said of the key of vehicles that have none, and of those that are silent while they are on."""

from __future__ import annotations

import pytest

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.costs import Step
from sondar.core.wording.proposals import step_text
from sondar.core.wording.switching_on import CAUTION_SILENT, CAUTION_STOP_START, STARTINGS, key_step, starting_cautions


@pytest.mark.parametrize("starting", ["", "key"])
def test_a_key_is_turned(starting: str) -> None:
    assert step_text(Step("control", "key", "on"), starting) == "key on"
    assert step_text(Step("control", "key", "cranking"), starting) == "key cranking"


def test_a_button_needs_the_pedal_to_start_and_no_pedal_for_the_supply() -> None:
    assert "without the brake pedal" in key_step("on", "button")
    assert "brake pedal and button" in key_step("run", "button")
    assert "READY stays out" in key_step("on", "hybrid")
    assert "READY goes out" in key_step("off", "hybrid")
    assert key_step("locked", "button") == "key locked", "a position that no button has is said as it is"


def test_other_controls_are_said_the_same_whatever_the_vehicle_is_switched_on_with() -> None:
    for starting in STARTINGS:
        assert step_text(Step("control", "fan", "on"), starting) == "fan on"
        assert step_text(Step("disconnect", "X3"), starting) == "disconnect X3"


def test_cautions_go_with_the_setup_and_the_vehicle() -> None:
    on, run = (Setup((("key", position),)) for position in ("on", "run"))
    for hands in (False, True):
        assert starting_cautions(on, "", hands=hands) == starting_cautions(run, "", hands=hands) == []
        assert starting_cautions(on, "button", hands=hands) == []
        assert starting_cautions(run, "button", hands=hands) == starting_cautions(run, "key", hands=hands) == [CAUTION_STOP_START]
    assert starting_cautions(on, "hybrid", hands=False) == [], "listening from outside puts no hand anywhere"
    assert starting_cautions(on, "hybrid", hands=True) == [CAUTION_SILENT]
    assert starting_cautions(run, "hybrid", hands=True) == [CAUTION_SILENT, CAUTION_STOP_START]
