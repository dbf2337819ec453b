"""How late and how fast a module sees follow what it commands: what each fault makes of it, and what belief makes of that."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.document.checks import read_document
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import CircuitDocumentError
from sondar.core.instruments import INSTRUMENTS, ORDINARY, FunctionalCheck, LiveData, ResponseDelay, ResponseTime
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.instruments.response import REVERSED, STILL
from sondar.core.limits.condition import limit_test
from sondar.simulators.vehicle import SimulatedVehicle
from sondar.yaml_text import load_yaml
from tests.conftest import circuit_of

TEXT = library_circuits()["tessel-exhaust-valve"]


@pytest.fixture(scope="module")
def valve() -> Predictor:
    return Predictor(circuit_of(TEXT), instruments=(*ORDINARY, LiveData.id, ResponseTime.id, ResponseDelay.id))


def asked(circuit: Circuit, device: str, red: str = "INV", **controls: str) -> Test:
    return Test(device, red, circuit.black_reference, circuit.setup({"key": "on", "egr": "open"} | controls))


def shown(predictor: Predictor, device: str, fault: str = "", severity: str = "") -> tuple[float, dict[str, float]]:
    """(seconds, chance of each word) under a fault; the healthy vehicle without one."""
    display = predictor.display_of(asked(predictor.circuit, device))
    row = predictor.hypotheses.index(fault, severity or None)[0] if fault else 0
    words = dict(zip(display.instrument.words, display.words[row, 0].tolist(), strict=True))
    return display.instrument.from_working(float(display.mean[row, 0])), words


def test_times_of_a_chain_add_up_and_faults_stretch_them(valve: Predictor) -> None:
    motor = valve.circuit.parts["M12"]
    assert shown(valve, ResponseTime.id)[0] == pytest.approx(motor.lag_s, rel=1e-6)
    assert shown(valve, ResponseDelay.id)[0] == pytest.approx(motor.dead_s, rel=1e-6)
    assert shown(valve, ResponseTime.id, "M12.sluggish", "6 times as slow")[0] == pytest.approx(6 * motor.lag_s)
    assert shown(valve, ResponseDelay.id, "M12.sluggish", "6 times as slow")[0] == pytest.approx(motor.dead_s)
    assert shown(valve, ResponseDelay.id, "M12.late", "1 s late")[0] == pytest.approx(1.0 + motor.dead_s)
    assert shown(valve, ResponseTime.id, "M12.late", "1 s late")[0] == pytest.approx(motor.lag_s)


def test_resistance_in_the_supply_makes_a_motor_slow_before_it_stands(valve: Predictor) -> None:
    seconds = [shown(valve, ResponseTime.id, "W60.resistance", ohms)[0] for ohms in ("1.0 Ω", "3.0 Ω")]
    assert shown(valve, ResponseTime.id)[0] < seconds[0] < seconds[1]
    _, words = shown(valve, ResponseTime.id, "W60.resistance", "100 Ω")
    assert words[STILL] > 0.95


@pytest.mark.parametrize("fault", ["M12.open", "M12.stuck", "M12.seized", "W60.open", "B34.open", "F12.open"])
def test_what_does_not_move_or_is_not_seen_moving_is_no_movement(valve: Predictor, fault: str) -> None:
    for device in (ResponseTime.id, ResponseDelay.id):
        _, words = shown(valve, device, fault)
        assert words[STILL] > 0.95
        assert words[REVERSED] < 0.05


def test_a_position_sensor_follows_the_motor_and_not_the_command(valve: Predictor) -> None:
    display = valve.display_of(asked(valve.circuit, LiveData.id))
    at = {fault: float(display.mean[valve.hypotheses.index(fault)[0], 0]) for fault in ("M12.stuck", "M12.open", "M12.sluggish")}
    closed = valve.display_of(asked(valve.circuit, LiveData.id, egr="closed")).mean[0, 0]
    assert at["M12.stuck"] == pytest.approx(closed, abs=0.05)
    assert at["M12.open"] == pytest.approx(closed, abs=0.05)
    assert at["M12.sluggish"] == pytest.approx(display.mean[0, 0], abs=0.01), "it gets there in the end"


def test_a_recorded_time_tells_a_slow_valve_from_a_good_one(valve: Predictor) -> None:
    time = asked(valve.circuit, ResponseTime.id)
    before = update(valve, []).units()
    slow = update(valve, [Reading("1", time, 0.8, None, 0.05)])
    good = update(valve, [Reading("1", time, 0.15, None, 0.02)])
    unit = slow.hypotheses.units.index("M12@system")
    assert slow.units()[unit] > max(0.5, 10 * before[unit])
    assert good.units()[unit] < before[unit]
    twice = update(valve, [Reading("1", time, 0.8, None, 0.05), Reading("2", time, 0.8, None, 0.05)])
    assert twice.units()[unit] < 0.5 + 0.5 * slow.units()[unit], "the same recording again teaches little"


def test_people_see_a_slow_part_only_if_it_is_slow_enough(valve: Predictor) -> None:
    display = valve.display_of(asked(valve.circuit, FunctionalCheck.id, red="M12"))
    weak = display.instrument.words.index("weak")
    rows = [valve.hypotheses.index("M12.sluggish", f"{times} times as slow")[0] for times in (3.5, 6, 12)]
    chances = display.words[rows, 0, weak]
    assert np.all(np.diff(chances) > 0.1)
    assert display.words[0, 0, weak] < 0.01


def test_a_healthy_vehicle_keeps_the_limits_of_time_and_a_slow_one_breaks_them() -> None:
    circuit = circuit_of(TEXT)
    for name, fault, device in (
        ("INV-time", ("M12.sluggish", "6 times as slow"), ResponseTime.id),
        ("INV-delay", ("M12.late", "1 s late"), ResponseDelay.id),
    ):
        limit = circuit.document.limits[name]
        test = limit_test(circuit, limit, 20.0)
        assert test.instrument == device
        good, _ = SimulatedVehicle(circuit, seed=4).measure(test.instrument, test.red, test.black, test.setup)
        bad, _ = SimulatedVehicle(circuit, [fault], seed=4).measure(test.instrument, test.red, test.black, test.setup)
        assert good is not None
        assert bad is not None
        assert limit.max is not None
        assert good < limit.max < bad


@pytest.mark.parametrize(
    ("change", "field", "message"),
    [
        (("input: INV,", "input: RV,"), ("responses", "opens", "input"), "no module input"),
        (("chain: [M12, B34]", "chain: [M12, B99]"), ("responses", "opens", "chain", 1), "no part 'B99'"),
        (("chain: [M12, B34]", "chain: [B34]"), ("responses", "opens", "chain"), "time constant"),
        (("egr: open}, chain", "egr: ajar}, chain"), ("responses", "opens", "when", "egr"), "no position 'ajar'"),
        (("follows: M12", "follows: F12"), ("parts", "B34", "follows"), "acts"),
    ],
)
def test_what_is_wrong_with_a_response_is_said_where_it_stands(
    change: tuple[str, str], field: tuple[str | int, ...], message: str
) -> None:
    assert change[0] in TEXT
    with pytest.raises(CircuitDocumentError) as caught:
        read_document(load_yaml(TEXT.replace(*change)))
    assert any(p.path == field and message in p.message for p in caught.value.problems), caught.value.problems


def test_every_response_of_the_library_is_offered_as_a_test() -> None:
    found = 0
    for text in library_circuits().values():
        document = load_circuit_text(text)
        if not document.responses:
            continue
        predictor = Predictor(Circuit(document), instruments=(ResponseTime.id, ResponseDelay.id))
        offered = {
            t.red
            for state in predictor.control_states
            for t in predictor.setup(predictor.circuit.rest_setup().__class__(state)).tests
        }
        assert {response.input for response in document.responses.values()} <= offered
        assert all(INSTRUMENTS[name].recorded for name in (ResponseTime.id, ResponseDelay.id))
        found += 1
    assert found >= 4
