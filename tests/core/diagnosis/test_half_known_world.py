"""What a workshop knows only by half: each of these once accused a good part, or gave up."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from benchmarks.technician import Outcome, by_plan, follow_vehicle
from benchmarks.worlds import RealVehicle
from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.families.thermistor import ntc_resistance
from sondar.core.circuit.model import CHASSIS, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief, update
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.solving.solver import SetupSolver
from sondar.simulators.vehicle import SimulatedVehicle


def library(name: str) -> Circuit:
    return Circuit(load_circuit_text(library_circuits()[name]))


def read(circuit: Circuit, red: str, seen: float | str, device: str = "voltmeter", black: str = "", **where: object) -> Reading:
    """A reading with the key on unless said otherwise."""
    controls = {"key": "on", **where.get("controls", {})}  # type: ignore[dict-item]
    setup = circuit.setup(controls, frozenset(where.get("apart", ())))  # type: ignore[arg-type]
    test = Test(device, red, black or circuit.black_reference, setup)
    figure = None if isinstance(seen, str) else float(seen)
    return Reading(f"{red} {seen} {setup.describe()}", test, figure, seen if isinstance(seen, str) else None, 0.005)


def shares(belief: Belief) -> dict[str, float]:
    return dict(zip(belief.hypotheses.units, map(float, belief.units()), strict=True))


def with_battery(circuit: Circuit, volts: float) -> RealVehicle:
    document = circuit.document
    battery = document.parts[circuit.battery].model_copy(update={"rest_v": volts, "on_v": volts - 0.2, "run_v": max(volts, 13.8)})
    return RealVehicle(document.model_copy(update={"parts": {**document.parts, circuit.battery: battery}}))


@pytest.mark.parametrize("volts", [11.3, 14.4])
@pytest.mark.parametrize("name", ["ambient-temperature", "tern-washer-pump", "tessel-purge-valve"])
def test_a_healthy_vehicle_with_its_battery_off_nominal_is_not_accused(name: str, volts: float) -> None:
    circuit = library(name)
    vehicle = SimulatedVehicle(with_battery(circuit, volts), seed=7)
    outcome: Outcome = follow_vehicle(Predictor(circuit), vehicle, (), by_plan)
    assert not outcome.condemns, outcome
    assert outcome.called == ("none",)


def test_one_reading_at_the_battery_calibrates_all_others(fan_predictor: Predictor) -> None:
    circuit = fan_predictor.circuit
    supply = read(circuit, "X3.86", 11.31)
    alone = update(fan_predictor, [supply]).expected[0]
    after = update(fan_predictor, [read(circuit, "BAT.pos", 11.38), supply]).expected[1]
    assert alone.sd > 0.7
    assert after.sd < 0.1
    assert after.mean == pytest.approx(11.37, abs=0.05)


def test_the_battery_at_intake_is_known_from_the_start(fan_predictor: Predictor) -> None:
    circuit = fan_predictor.circuit
    intake = Reading("intake", Test("voltmeter", "BAT.pos", "BAT.neg", circuit.rest_setup()), 11.54, None, 0.005)
    supply = read(circuit, "X3.86", 11.33)
    told = update(fan_predictor, [supply], known=[intake])
    assert told.expected[0].mean == pytest.approx(11.34, abs=0.1)
    assert len(told.steps) == 2
    assert len(told.log_likelihood) == 1
    assert shares(told)["none"] > shares(update(fan_predictor, [supply]))["none"]


def test_a_thermistor_that_is_right_for_25_degrees_is_not_bad_in_a_job_that_says_20(ambient_predictor: Predictor) -> None:
    circuit = ambient_predictor.circuit
    right = ntc_resistance(2200.0, 3540.0, 25.0)
    found = shares(
        update(ambient_predictor, [read(circuit, "X31.1/c", right, "ohmmeter", "X31.2/c", controls={"key": "off"}, apart=("X31",))])
    )
    before = shares(update(ambient_predictor, []))
    assert found["unknown"] < 2 * before["unknown"]
    assert found["B9"] < before["B9"]
    assert found["none"] > before["none"]


def test_half_of_its_resistance_in_the_hand_points_at_the_thermistor(ambient_predictor: Predictor) -> None:
    """1347 Ω where 2.7 kΩ belongs: warm parts or a bad sensor; once the parts' temperature is told by another sensor it is the sensor."""
    known = Predictor(ambient_predictor.circuit, temperature_sd=2.0)
    low = read(known.circuit, "X31.1/c", 1347.0, "ohmmeter", "X31.2/c", controls={"key": "off"}, apart=("X31",))
    found = shares(update(known, [low]))
    assert max(found, key=lambda unit: found[unit]) == "B9"
    assert found["B9"] > 0.6


def test_cranking_is_not_running() -> None:
    circuit = library("tessel-crank-sensor")
    pair = [(circuit.node("BAT.pos"), CHASSIS)]

    def volts(controls: dict[str, str]) -> float:
        return float(SetupSolver(circuit, circuit.setup(controls), pair, 1).solve([()]).volts[0, 0, 0])

    assert volts({"key": "run"}) > 13.5
    assert volts({"key": "run", "engine": "cranking"}) < 11.0


def test_a_reading_inside_its_published_limit_accuses_nobody() -> None:
    """33 Ω where the manufacturer publishes 17 to 35 Ω and the file has 20 Ω."""
    document = load_circuit_text(library_circuits()["tessel-purge-valve"])
    name = next(n for n, p in document.parts.items() if p.family == "solenoid")
    plug = next(c for c, spec in document.connectors.items() if f"{name}.1" in str(spec.cavities.values()))
    one, two = (f"{plug}.{cavity}/c" for cavity in document.connectors[plug].cavities)
    limit_of = next(iter(document.limits.values()))
    published = limit_of.model_copy(update={
        "title": "coil", "instrument": "ohmmeter", "red": one, "black": two, "when": {}, "unplugged": [plug], "min": 17.0, "max": 35.0,
        "source": "manufacturer", "table": None, "word": None, "difference_from": None,
    })  # fmt: skip
    parts = {**document.parts, name: document.parts[name].model_copy(update={"coil_ohm": 20.0})}
    circuits = {
        "published": Circuit(document.model_copy(update={"parts": parts, "limits": {"coil": published}})),
        "bare": Circuit(document.model_copy(update={"parts": parts, "limits": {}})),
    }
    left = {}
    for key, circuit in circuits.items():
        seen = read(circuit, one, 33.0, "ohmmeter", two, controls={"key": "off"}, apart=(plug,))
        belief = update(Predictor(circuit), [seen])
        assert sum(v for u, v in shares(belief).items() if u in document.wires) < 0.5
        left[key] = shares(belief)["none"] / belief.hypotheses.prior[0]
    assert left["published"] > 1.0 > left["bare"]


@pytest.mark.parametrize(
    ("name", "fault"),
    [
        ("tern-tail-lamps", "H1.open"), ("tessel-crank-sensor", "B17.dead"), ("tessel-crank-sensor", "B17.gap"), ("lisk-cabin-flap", "BCMS.dead"),
        ("orvane-flap-motor", "M7.open"),
    ],
)  # fmt: skip
def test_ordinary_faults_are_suspects(name: str, fault: str) -> None:
    circuit = library(name)
    ids = [f for f in circuit.faults if f == fault] or [f for f in circuit.faults if f.split(".")[1] == fault.split(".")[1]]
    assert ids, f"{name} has no fault of the kind {fault}"
    known = {suspect.fault for suspect in Predictor(circuit).hypotheses.suspects}
    assert set(ids) <= known


def test_a_module_without_supply_drives_nothing() -> None:
    circuit = library("lisk-fuel-pump")
    pair = [(circuit.node("X45.86"), circuit.node("X45.85"))]
    setup = circuit.setup({"key": "on", "pump": "on"})
    supply = next(name for name, part in circuit.parts.items() if part.family == "module_supply" and part.module == "ECM")  # type: ignore[attr-defined]
    dead = circuit.faults[f"{supply}.dead"].severities[0].changes
    healthy, without = SetupSolver(circuit, setup, pair, 1).solve([(), dead]).volts[0, :, 0]
    assert healthy > 10.0
    assert abs(without) < 1.0


def test_a_blown_fuse_seen_by_eye_does_not_clear_what_blew_it() -> None:
    circuit = library("radiator-fan-relay")
    predictor = Predictor(circuit, instruments=("voltmeter", "visual-inspection"))
    look = Reading("look", Test("visual-inspection", "F14", "BAT.neg", circuit.rest_setup()), None, "damaged")
    belief = update(predictor, [look])
    hypotheses = belief.hypotheses
    blows = [
        h for h in range(len(hypotheses.changes)) if hypotheses.blown[h].any() and hypotheses.suspects[h].unit not in ("F14", "F7")
    ]
    assert any(hypotheses.suspects[h].unit == "M5" for h in blows)
    fuse = hypotheses.index("F14.open")
    lost = np.log(belief.now[fuse].sum() / hypotheses.prior[fuse].sum())
    kept = [np.log(belief.now[h] / hypotheses.prior[h]) for h in blows if hypotheses.blown[h, 0]]
    assert max(kept) == pytest.approx(lost, abs=0.1), "a seized motor predicts a blown fuse as well as a tired fuse does"


def test_bridged_cavities_are_found_at_their_plug() -> None:
    circuit = library("tessel-pedal")
    plug = next(c for c, spec in circuit.document.connectors.items() if len(spec.cavities) >= 6)
    one, two = list(circuit.document.connectors[plug].cavities)[:2]
    bridge = next(s for s in circuit.faults[f"{plug}.bridge_{one}_{two}"].severities if s.label == "500 mΩ")
    predictor = Predictor(circuit, instruments=("voltmeter", "ohmmeter", "live-data", "lamp-5w"))
    outcome = follow_vehicle(predictor, SimulatedVehicle(circuit, seed=3, changes=bridge.changes), (frozenset({plug}),), by_plan)
    assert outcome.right, outcome


def test_the_same_reading_with_an_unrelated_plug_disconnected_adds_nothing(fan_predictor: Predictor) -> None:
    circuit = fan_predictor.circuit
    once = [read(circuit, "X3.86", 9.4)]
    apart = replace(once[0], id="again", test=replace(once[0].test, setup=Setup(once[0].test.setup.controls, frozenset({"X20"}))))
    first, second = update(fan_predictor, once), update(fan_predictor, [*once, apart])
    assert np.abs(first.units() - second.units()).max() < 0.03


def test_a_busy_bus_accuses_no_ground() -> None:
    """2.68 V and 2.32 V by a good meter: messages lift one wire's mean and lower the other's."""
    circuit = library("tern-modules-and-bus")
    predictor = Predictor(circuit, instruments=("voltmeter", "ohmmeter"))
    before = shares(update(predictor, []))
    found = shares(update(predictor, [read(circuit, "X1.60", 2.68, black="X1.40"), read(circuit, "X1.61", 2.32, black="X1.40")]))
    assert found["none"] > before["none"]
    assert all(share < 1.5 * before[unit] + 0.01 for unit, share in found.items() if unit.startswith("G"))


def test_an_injector_is_heard_at_five_percent() -> None:
    document = load_circuit_text(library_circuits()["tessel-purge-valve"])
    driver = next(n for n, p in document.parts.items() if p.family == "low_side_driver")
    valve = next(n for n, p in document.parts.items() if p.family == "solenoid")
    parts = {**document.parts, driver: document.parts[driver].model_copy(update={"duty_share": 0.05})}
    circuit = Circuit(document.model_copy(update={"parts": parts}))
    on = {name: values[0] if isinstance(values, list) else values for name, values in parts[driver].on_when.items()}  # type: ignore[attr-defined]
    words = Predictor(circuit).forecast(Test("functional-check", valve, "BAT.neg", circuit.setup(on))).words()
    assert words[0, instrument("functional-check").words.index("operates")] > 0.9


@pytest.mark.parametrize("ohms", [3.0, 50.0, 150.0, 900.0])
def test_a_resistance_beyond_the_old_grid_is_no_misplaced_probe(ohms: float) -> None:
    """A coil measured in the hand, at three to some hundred times what it should have."""
    circuit = library("tessel-purge-valve")
    valve = next(n for n, p in circuit.document.parts.items() if p.family == "solenoid")
    plug = next(c for c in circuit.document.connectors if valve in str(circuit.document.connectors[c].cavities))
    one, two = (f"{plug}.{cavity}/c" for cavity in circuit.document.connectors[plug].cavities)
    seen = read(circuit, one, ohms, "ohmmeter", two, controls={"key": "off"}, apart=(plug,))
    belief = update(Predictor(circuit), [seen])
    leading = int(np.argmax(belief.now[:-1]))
    assert belief.hypotheses.suspects[leading].unit in (valve, plug)
    assert belief.error[0, leading] < 0.5
