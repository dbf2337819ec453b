"""Limits: the decision rule by hand, the forms, and the library's own limits against vehicles."""

from __future__ import annotations

import math

import pytest

from sondar.circuit_files import CircuitFileError, load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.reading import Reading
from sondar.core.limits.card import LimitView, limits_card
from sondar.core.limits.condition import limit_test
from sondar.core.limits.conformity import Measured, conformity
from sondar.core.limits.forms.copper import copper_at
from sondar.core.limits.forms.difference import difference
from sondar.core.limits.forms.ratio import ratio
from sondar.core.limits.forms.table import from_table
from sondar.simulators.vehicle import SimulatedVehicle
from tests.conftest import LIBRARY

NAMES = sorted(path.stem for path in LIBRARY.glob("*.yaml"))


def test_the_decision_follows_the_guard_bands() -> None:
    """u = 0.1: 1.645 u inside the limit passes, as much outside fails (normal distribution, one-sided 95 %)."""
    assert conformity(Measured(0.83, 0.1), None, 1.0).decision == "pass"
    assert conformity(Measured(0.84, 0.1), None, 1.0).decision == "in doubt"
    assert conformity(Measured(1.17, 0.1), None, 1.0).decision == "fail"
    on_the_line = conformity(Measured(1.0, 0.1), None, 1.0)
    assert on_the_line.conforms == pytest.approx(0.5)
    assert on_the_line.guard == pytest.approx(0.1645, abs=1e-3)


def test_two_sided_limits_count_both_tails() -> None:
    judged = conformity(Measured(5.0, 0.1), 4.9, 5.1)
    assert judged.conforms == pytest.approx(0.6827, abs=1e-4)  # ±1 standard deviation
    assert judged.wrong == pytest.approx(0.3173, abs=1e-4)


def test_ratio_difference_and_temperature_by_hand() -> None:
    assert ratio(Measured(2.5, 0.0), Measured(5.0, 0.05)).uncertainty == pytest.approx(0.5 * 0.01)
    assert difference(Measured(3.0, 0.3), Measured(1.0, 0.4)).uncertainty == pytest.approx(0.5)
    with pytest.raises(ZeroDivisionError):
        ratio(Measured(1.0, 0.01), Measured(0.02, 0.01))
    hot = copper_at(Measured(100.0, 1.0), 70.0, 20.0)
    assert hot.value == pytest.approx(100.0 / (1 + 0.00393 * 50))
    # 4 K of doubt about the winding's temperature are 1.6 % of it.
    assert hot.uncertainty == pytest.approx(math.hypot(1.0 / (1 + 0.00393 * 50), 0.00393 * 4 * hot.value))
    assert from_table([(0.0, 10.0, 20.0), (10.0, 20.0, 40.0)], 5.0, ohms=False) == (15.0, 30.0)
    assert from_table([(0.0, 10.0, 20.0), (10.0, 20.0, 40.0)], -30.0, ohms=False) == (10.0, 20.0)


def test_a_thermistor_between_two_rows_follows_its_law_and_not_the_chord() -> None:
    """B = 3500 K, 10 kΩ at 25 °C: 29,283 Ω at 0 °C, 12,217 Ω at 20 °C, and 18,624 Ω between them, where the chord has 20,750 Ω."""
    rows = [(0.0, 29_282.79, 29_282.79), (20.0, 12_216.75, 12_216.75)]
    assert from_table(rows, 10.0, ohms=True)[0] == pytest.approx(18_624.3, rel=1e-4)
    assert from_table(rows, 10.0, ohms=False)[0] == pytest.approx(20_749.8, rel=1e-4)
    assert from_table([(0.0, 0.0, 5.0), (20.0, 0.0, 9.0)], 10.0, ohms=True) == (0.0, 7.0)  # no logarithm of nothing


def test_a_resistance_is_not_below_nothing() -> None:
    """0.02 Ω by a meter of ±0.1 Ω keeps *0 to 0.5 Ω*; its own zero must not make that doubtful."""
    assert conformity(Measured(0.02, 0.1), 0.0, 0.5).decision == "in doubt"
    assert conformity(Measured(0.02, 0.1), 0.0, 0.5, least=0.0).decision == "pass"
    # Cut off at 0: (Φ(1.8) − Φ(−0.2)) / (1 − Φ(−0.2))
    assert conformity(Measured(0.02, 0.1), None, 0.2, least=0.0).conforms == pytest.approx((0.96407 - 0.42074) / 0.57926, abs=1e-4)


def card(circuit: Circuit, faults: list[tuple[str, str | None]], seed: int = 3, temperature_c: float = 20.0) -> list[LimitView]:
    vehicle = SimulatedVehicle(circuit, faults, seed)
    readings = []
    for name, limit in circuit.document.limits.items():
        test = limit_test(circuit, limit, temperature_c)
        value, word = vehicle.measure(test.instrument, test.red, test.black, test.setup)
        readings.append(Reading(name, test, value, word, 0.005))
    return limits_card(circuit, readings, temperature_c)


@pytest.mark.parametrize("name", NAMES)
def test_healthy_vehicles_break_no_limit_and_some_fault_breaks_one(name: str) -> None:
    circuit = Circuit(load_circuit_text((LIBRARY / f"{name}.yaml").read_text(encoding="utf-8")))
    assert circuit.document.limits, "every library circuit has limits"
    assert circuit.document.service
    assert circuit.document.synonyms
    for seed in (1, 2):
        broken = [v.title for v in card(circuit, [], seed) if v.decision == "fail"]
        assert broken == []
    worst = [f for f in circuit.faults.values() if f.mode in ("open", "dead", "terminal")][:8]
    assert any(v.decision == "fail" for f in worst for v in card(circuit, [(f.id, None)]))


def test_a_hot_coil_is_reduced_to_the_limits_temperature(fan: Circuit) -> None:
    seen = {v.id: v for v in card(fan, [], temperature_c=80.0)}
    coil = next(v for v in seen.values() if v.id.endswith("ohms"))
    assert "at 20 °C" in coil.shown
    assert coil.decision != "fail"


def test_a_reading_near_the_limit_asks_for_a_better_meter(fan: Circuit) -> None:
    name, limit = next((n, x) for n, x in fan.document.limits.items() if x.instrument == "voltmeter" and x.max and x.max > 5)
    assert limit.max is not None
    test = limit_test(fan, limit)
    view = next(v for v in limits_card(fan, [Reading("r", test, limit.max, None, 0.05)]) if v.id == name)
    assert view.decision == "in doubt"
    assert view.wrong is not None
    assert math.isclose(view.wrong, 0.5, abs_tol=0.02)
    assert "better range" in view.advice or "one more digit" in view.advice


def test_a_share_of_the_reference_needs_both_readings() -> None:
    circuit = Circuit(load_circuit_text((LIBRARY / "tern-rail-pressure.yaml").read_text(encoding="utf-8")))
    limits = circuit.document.limits
    share = next(n for n, x in limits.items() if x.ratio_to)
    signal = Reading("s", limit_test(circuit, limits[share]), 0.6, None, 0.005)
    alone = next(v for v in limits_card(circuit, [signal]) if v.id == share)
    assert alone.decision == "open"
    assert "Reference" in alone.advice
    reference = Reading("v", limit_test(circuit, limits[limits[share].ratio_to]), 4.6, None, 0.005)
    both = next(v for v in limits_card(circuit, [signal, reference]) if v.id == share)
    assert both.shown.startswith("13.0 %")  # 0.6 V of 4.6 V
    assert both.decision in ("pass", "in doubt")


def test_leads_the_other_way_round_count_with_the_sign_turned(fan: Circuit) -> None:
    limit = next(x for x in fan.document.limits.values() if x.black and x.instrument == "voltmeter")
    test = limit_test(fan, limit)
    turned = Reading("t", type(test)(test.instrument, test.black, test.red, test.setup), -11.6, None, 0.05)
    view = next(v for v in limits_card(fan, [turned]) if v.reading == "t" and v.red == test.red and v.black == test.black)
    assert view.shown == "11.60 V"


@pytest.mark.parametrize(
    ("line", "message"),
    [
        ("{title: A, red: X3.86}", "give 'min' or 'max'"),
        ("{title: A, red: X9.1, max: 1}", "names no terminal"),
        ('{title: A, red: X3.86, max: 1, when: {fan: "maybe"}}', "no position"),
        ("{title: A, red: X3.86, max: 1, per: nothing}", "no other limit"),
        ("{title: A, red: X3.86, min: 2, max: 1}", "exchange them"),
    ],
)
def test_a_wrong_limit_is_told_by_field(line: str, message: str) -> None:
    text = (LIBRARY / "radiator-fan-relay.yaml").read_text(encoding="utf-8")
    text = text.replace("limits:\n", f"limits:\n  wrong: {line}\n")
    with pytest.raises(CircuitFileError, match=message):
        load_circuit_text(text)
