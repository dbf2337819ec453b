"""The list that a diagnosis makes: nothing before, in or after a repair is skipped without a word."""

from __future__ import annotations

import pytest

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.code_library import part_kinds
from sondar.core.circuit.network import Circuit
from sondar.core.errors import UnknownReferenceError
from sondar.core.repair_plan import repair_plan


def circuit(name: str) -> Circuit:
    return Circuit(load_circuit_text(library_circuits()[name]))


def test_a_coded_module_is_read_out_before_and_coded_after() -> None:
    steps = {step.key: step for step in repair_plan(circuit("tessel-purge-valve"), ["ECM"])}
    assert steps["ECM:read-out"].stage == "before"
    assert steps["ECM:read-out"].caution
    assert "mileage" in steps["ECM:read-out"].text
    assert "locked to its former vehicle" in steps["ECM:matching"].text
    assert steps["ECM:coding"].stage == "after"
    assert "immobiliser" in steps["ECM:set-up"].text


def test_a_wire_is_joined_sealed_and_its_water_found() -> None:
    steps = {step.key: step for step in repair_plan(circuit("tessel-purge-valve"), ["W4"])}
    assert "0.5 mm²" in steps["W4:do"].text
    assert "violet/grey" in steps["W4:do"].text
    assert steps["W4:water"].stage == "after"
    assert not any(step.key.endswith(":read-out") for step in steps.values())


def test_stages_come_in_order_and_cautions_before_the_work() -> None:
    steps = repair_plan(circuit("tessel-purge-valve"), ["Y6", "W4"])
    stages = [step.stage for step in steps]
    assert stages == sorted(stages, key=["before", "repair", "after"].index)
    assert any("Fuel vapour burns" in step.text and step.caution for step in steps if step.stage == "before")
    assert len({step.key for step in steps}) == len(steps), "what two parts have in common stands there once"


@pytest.mark.parametrize("name", sorted(library_circuits()))
def test_every_unit_of_the_library_has_a_repair(name: str) -> None:
    found = circuit(name)
    for unit in found.units:
        steps = repair_plan(found, [unit])
        assert any(step.stage == "repair" for step in steps), unit
        assert all(step.text.endswith((".", "?")) and "  " not in step.text for step in steps), [step.text for step in steps]


def test_a_unit_that_is_not_there_is_named() -> None:
    with pytest.raises(UnknownReferenceError, match="no unit 'Y99'"):
        repair_plan(circuit("tessel-purge-valve"), ["Y99"])


def test_cleaning_says_with_what_and_with_what_never_and_is_checked() -> None:
    steps = {step.key: step for step in repair_plan(circuit("tessel-exhaust-valve"), ["M12@system"], kinds=part_kinds())}
    clean = steps["M12@system:clean"]
    assert clean.caution
    assert "soot remover" in clean.text
    assert "never spray into motor" in clean.text
    assert "cleaning has its own check" in steps["M12@system:dry"].text
    assert "learned" in steps["M12@system:set-up"].text
    fitted = {step.key: step.text for step in repair_plan(circuit("tessel-exhaust-valve"), ["M12"], kinds=part_kinds())}
    assert "Tools: Torx 30, soft brush." in fitted["M12:do"]
    assert "Torque: 10 Nm, new gasket." in fitted["M12:do"]
