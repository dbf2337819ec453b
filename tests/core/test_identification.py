"""Unlabelled plugs: what their cavities carry, from voltages alone."""

from __future__ import annotations

from functools import cache

import pytest

from sondar.circuit_files import load_circuit_text
from sondar.code_library import circuit_templates, circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.describing.building import PART_PLUG
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.identification import KINDS, Candidate, Identification, WireReading, assignments_of, class_of
from sondar.core.instruments.base import Test
from sondar.simulators.vehicle import Conditions, SimulatedVehicle

ORDER = (2, 0, 3, 1)
"""How the four cavities are shuffled."""


@cache
def judge(wires: int) -> Identification:
    return Identification(
        [
            Candidate(name, Predictor(circuit(name)), item.carries)
            for name, item in circuit_templates().items()
            if item.wires == wires and "second_plug" not in item.data
        ],
        PART_PLUG,
    )


@cache
def circuit(name: str) -> Circuit:
    return Circuit(load_circuit_text(circuit_text(circuit_templates()[name], {"make": "Brigg"})))


def told(vehicle: SimulatedVehicle, order: tuple[int, ...]) -> tuple[bool, tuple[str, ...], int, str]:
    """Somebody reads what is asked for until it is certain."""
    readings: list[WireReading] = []
    while True:
        found = judge(len(order)).identified(readings)
        if found.certain or found.asked is None:
            return found.certain, tuple(next(iter(one)) for one in found.carries), len(readings), found.template
        look = KINDS[found.asked.kind]
        setup = vehicle.circuit.rest_setup().with_control("key", look.key)
        setup = setup.with_unplugged(frozenset((PART_PLUG,)) if look.unplugged else frozenset())
        black = "BAT.neg" if look.against == "minus" else "BAT.pos"
        test = Test(look.instrument, f"{PART_PLUG}.{order[found.asked.cavity - 1] + 1}", black, setup)
        readings.append(
            WireReading(found.asked.cavity, found.asked.kind, vehicle.measure(test.instrument, test.red, test.black, test.setup)[0])
        )
        assert len({(one.cavity, one.kind) for one in readings}) == len(readings), "nothing is asked for twice"


@pytest.mark.parametrize(("seed", "gain"), [(1, 1.0), (2, 0.95), (3, 1.06), (4, 0.98), (5, 1.03)])
def test_four_wires_of_a_healthy_plug(seed: int, gain: float) -> None:
    vehicle = SimulatedVehicle(circuit("oxygen-four-wire"), [], seed, conditions=Conditions(volt_gain=gain, decimals=2))
    certain, said, readings, template = told(vehicle, ORDER)
    assert certain
    assert said == assignments_of(circuit_templates()["oxygen-four-wire"].carries[place] for place in ORDER)
    assert assignments_of(circuit_templates()[template].carries).count("supply") == 1
    assert readings <= 14


@pytest.mark.parametrize("fault", ["R.open", "W2.resistance", "X2.1.resistance", "B.open", "X1.3.open"])
def test_four_wires_of_a_faulty_plug(fault: str) -> None:
    made = circuit("oxygen-four-wire")
    name = fault if fault in made.faults else next(one for one in made.faults if one.startswith(fault.rsplit(".", 1)[0]))
    certain, said, _, _ = told(SimulatedVehicle(made, [(name, None)], 7, conditions=Conditions(decimals=2)), ORDER)
    truth = assignments_of(circuit_templates()["oxygen-four-wire"].carries[place] for place in ORDER)
    assert said == truth or not certain, "never certain and wrong"


def test_a_reference_is_told_from_a_pulled_up_input_by_ten_kiloohms() -> None:
    """Both show 5 V to a meter of 10 MΩ."""
    unloaded = [WireReading(cavity, "on", volts) for cavity, volts in ((1, 5.0), (2, 0.0), (3, 5.0))]
    open_question = judge(3).identified(unloaded)
    loaded = [*unloaded, WireReading(1, "load", 4.99), WireReading(3, "load", 3.1)]
    found = judge(3).identified(loaded)
    assert found.carries[0].get("reference", 0.0) > max(0.5, open_question.carries[0].get("reference", 0.0))
    assert found.carries[2].get("reference", 0.0) < 0.1


def test_a_supply_and_a_ground_are_not_confused() -> None:
    found = judge(3).identified([WireReading(1, "on", 12.3), WireReading(2, "on", 0.0), WireReading(3, "on", 4.9)])
    assert next(iter(found.carries[0])) == "supply"
    assert found.carries[0]["supply"] > 0.9
    assert sum(found.carries[1].values()) == pytest.approx(1.0)


def test_before_any_reading_every_cavity_is_alike() -> None:
    found = judge(3).identified([])
    assert not found.certain
    assert found.asked is not None
    for one in found.carries[1:]:
        assert one == pytest.approx(found.carries[0])


def test_a_floating_meter_and_a_wild_figure_are_taken() -> None:
    found = judge(3).identified([WireReading(1, "on", None), WireReading(2, "on", 1e6), WireReading(3, "off", -40.0)])
    assert 0.0 <= found.certainty <= 1.0


def test_what_voltages_cannot_tell_apart_is_one() -> None:
    assert class_of("return") == class_of("ground") == "ground"
    assert class_of("temperature signal") == "signal"
    assert class_of("reference") != class_of("supply")
