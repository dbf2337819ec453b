from __future__ import annotations

import numpy as np
import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.errors import QuantityError, UnknownReferenceError
from sondar.core.former_names import FORMER_IDS, FORMER_WORDS
from sondar.core.instruments import INSTRUMENTS, ORDINARY, displays, instrument, sensible_tests
from sondar.core.instruments.base import Display, Instrument, Population, Solved, Test
from sondar.core.instruments.test_lamp import LargeTestLamp, SmallTestLamp, TestLamp, power_share_of
from sondar.core.solving.operating_points import OperatingPoints, steady


def at(volts: float, ohms: float) -> OperatingPoints:
    """One vehicle, one hypothesis, one probe pair."""
    one = np.ones((1, 1, 1))
    return OperatingPoints(volts * one, ohms * one, *(np.zeros((1, 1, 0)) for _ in range(3)), np.ones(1, dtype=bool))


def shown(fan: Circuit, device: Instrument, volts: float, ohms: float) -> Display:
    """What an instrument shows of a source of open-circuit volts and Thévenin ohms."""
    setup = fan.rest_setup()
    test = Test(device.id, "X3.30", "BAT.neg", setup)
    pair = (fan.point("X3.30").node, fan.point("BAT.neg").node)
    population = Population(fan, setup, [()], np.zeros((1, 0), dtype=bool))
    return device.display(device.observe(population, Solved(steady(at(volts, ohms)), {pair: 0}, {}), [test]))


def test_a_voltmeter_cannot_see_fifty_ohms_and_a_lamp_can(fan: Circuit) -> None:
    meter = shown(fan, INSTRUMENTS["voltmeter"], 12.0, 50.0)
    assert meter.nominal[0, 0] == pytest.approx(12.0, abs=1e-3)
    lamp = INSTRUMENTS["lamp-21w"]
    words = dict(zip(lamp.words, shown(fan, lamp, 12.0, 50.0).words[0, 0], strict=True))
    assert words["off"] > 0.95
    assert shown(fan, lamp, 12.0, 0.05).words[0, 0, 0] > 0.95, "bright on a good supply"
    assert shown(fan, lamp, 12.0, 5.0).words[0, 0, 1] > 0.8, "dim with the lamp's own resistance in series"


def test_lamp_power_satisfies_the_circuit_equation() -> None:
    share = float(power_share_of(np.array(12.0), np.array(5.0 * 21.0 / 13.5**2)))
    watts = share * 21.0
    # P = V·I and V = 12 − 5·I: one of the two roots of 5·I² − 12·I + P = 0, the low-current one.
    amps = (12 - np.sqrt(144 - 20 * watts)) / 10
    volts = 12 - 5 * amps
    ohm2 = (0.1 * 13.5**2 / 21) ** 2 + ((13.5**2 / 21) ** 2 * 0.99) / 13.5**0.9 * volts**0.9
    assert amps == pytest.approx(volts / np.sqrt(ohm2), rel=1e-6)


@pytest.mark.parametrize("lamp", [SmallTestLamp(), LargeTestLamp()], ids=lambda lamp: lamp.id)
def test_the_table_of_lamp_power_agrees_with_the_curve(lamp: TestLamp) -> None:
    """Within a hundredth of what eyes tell apart, from a few millivolts to far more than a vehicle has, whatever is behind it."""
    rng = np.random.default_rng(3)
    volts, ohms = (np.exp(rng.uniform(np.log(low), np.log(high), 200)) for low, high in ((0.005, 100.0), (1e-4, 1e8)))
    exact = power_share_of(volts, ohms / (13.5**2 / lamp.rated_w))
    table = 10.0 ** lamp.power_level(volts, ohms)
    seen = exact > 1e-6
    assert 40 < seen.sum() < 160
    np.testing.assert_allclose(np.log10(table[seen]), np.log10(exact[seen]), atol=0.002)
    assert (table[~seen] < 2e-6).all()
    assert lamp.power_level(np.zeros(1), np.zeros(1))[0] == -9.0


def test_a_lamp_where_a_fault_changes_nothing_shows_what_it_shows_without(fan: Circuit) -> None:
    """Most faults leave most points alone: these are not worked out again, and the answer is the same."""
    lamp = INSTRUMENTS["lamp-5w"]
    setup = fan.setup({"key": "on", "fan": "on"})
    tests = sensible_tests(fan, setup, frozenset({"lamp-5w"}))
    faults = [fault.severities[-1].changes for fault in fan.faults.values()]
    every = Population(fan, setup, [(), *faults], np.zeros((len(faults) + 1, 2), dtype=bool), samples=3)
    words = displays(every, tests)[lamp.id].words
    assert 0.2 < (np.abs(words - words[:1]).max(axis=2) < 1e-9).mean() < 0.95
    for index in (1, 5, 9, len(faults)):
        alone = Population(fan, setup, [faults[index - 1]], np.zeros((1, 2), dtype=bool), samples=3)
        np.testing.assert_allclose(displays(alone, tests)[lamp.id].words[0], words[index], atol=1e-3)


def test_ohmmeter_words(fan: Circuit) -> None:
    meter = INSTRUMENTS["ohmmeter"]
    assert shown(fan, meter, 0.0, 1e8).words[0, 0, 0] == 1.0, "OL above its range"
    assert shown(fan, meter, 0.3, 50.0).words[0, 0, 1] == 1.0, "voltage present"
    assert shown(fan, meter, 0.0, 50.0).nominal[0, 0] == pytest.approx(50.0)


def test_a_floating_point_is_unstable_and_loads_down(fan: Circuit) -> None:
    found = shown(fan, INSTRUMENTS["voltmeter"], 12.0, 1e7)
    assert found.words[0, 0, 0] > 0.4
    assert found.nominal[0, 0] == pytest.approx(6.0)
    assert found.sd[0, 0] > 0.5, "and the figure wanders"


def test_unknown_instrument_names_the_known_ones() -> None:
    with pytest.raises(UnknownReferenceError, match="voltmeter"):
        instrument("oracle")
    assert (
        {"voltmeter", "ohmmeter", "lamp-5w", "lamp-21w", "functional-check", "thermometer", "new-fuse"}
        == set(ORDINARY)
        < set(INSTRUMENTS)
    )


@pytest.mark.parametrize(
    ("device", "text", "state"),
    [
        ("ohmmeter", "OL", "OL"), ("ohmmeter", "o.l.", "OL"), ("lamp-5w", "Dim", "dim"), ("voltmeter", "floating", "unstable"),
        ("voltmeter", "Unstable (floating)", "unstable"), ("line-state", "floating", "floating"), ("lamp-21w", "off", "off"),
        ("functional-check", "clicks", "operates"), ("module-communication", "no  answer", "no communication"),
    ],
)  # fmt: skip
def test_words_as_they_are_typed(device: str, text: str, state: str) -> None:
    assert instrument(device).understand(text).state == state


@pytest.mark.parametrize(
    ("device", "text"), [("voltmeter", "OL"), ("lamp-5w", "12.4"), ("ohmmeter", "12 V"), ("voltmeter", "1240")]
)
def test_what_an_instrument_cannot_show_is_refused(device: str, text: str) -> None:
    with pytest.raises(QuantityError, match="expected"):
        instrument(device).understand(text)


@pytest.mark.parametrize("device", INSTRUMENTS.values(), ids=lambda d: d.id)
def test_words_synonyms_and_soft_words_belong_together(device: Instrument) -> None:
    assert device.words or device.figures
    assert set(device.synonyms.values()) <= {*device.words, *device.soft_words}
    assert all(name == name.lower() for name in device.synonyms)
    for word, behind in device.soft_words.items():
        assert device.understand(word).state == word
        assert set(behind) <= set(device.words)
        assert sum(behind.values()) == pytest.approx(1.0)
    assert not device.no_contact or device.no_contact in device.words
    assert device.probes or not device.no_contact
    assert not device.live_word or device.live_word in device.words
    assert device.figures == bool(device.error_floor or device.error_share)


def test_every_former_name_still_reads() -> None:
    for former, now in FORMER_IDS.items():
        assert instrument(former) is INSTRUMENTS[now]
    words = {word for device in INSTRUMENTS.values() for word in (*device.words, *device.soft_words)}
    assert set(FORMER_WORDS.values()) <= words
    assert not set(FORMER_WORDS) & words
