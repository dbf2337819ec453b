"""Does a recording fit together? Engines made up from the gas law, with one thing wrong or none."""

from __future__ import annotations

from collections import Counter

import numpy as np
import pytest

from sondar.core.recordings.model import Channel
from sondar.core.recordings.plausibility import Check, checks, quantity_of

AIR_J_PER_KG_K = 287.0


def held(rng: np.random.Generator, fault: str) -> tuple[list[Channel], float]:
    """Idle and two speeds of a petrol engine without boost, and its displacement in m³. The module corrects fuel to what is burnt."""
    volume, filled = rng.uniform(0.9e-3, 3.2e-3), rng.uniform(0.79, 0.91)
    t = np.arange(0.0, 75.0, rng.uniform(0.1, 0.4))
    speed = np.interp(
        t, [0, 20, 24, 44, 48, 75], [*[rng.uniform(650, 850)] * 2, *[rng.uniform(1800, 2200)] * 2, *[rng.uniform(2900, 3600)] * 2]
    )
    kpa = np.interp(speed, [700, 2000, 3300], [rng.uniform(30, 38), rng.uniform(42, 52), rng.uniform(58, 75)])
    celsius = rng.uniform(5, 45)
    cylinders = filled * volume * (speed / 60.0) / 2.0 * 1000.0 * kpa / (AIR_J_PER_KG_K * (celsius + 273.15)) * 1000.0  # g/s
    told, fuel = cylinders.copy(), np.ones(len(t))
    if fault == "dirty":
        told = cylinders * (1.0 - rng.uniform(0.3, 0.42) * (cylinders / cylinders.max()) ** 0.6)
    if fault == "leak":
        told = cylinders - rng.uniform(0.2, 0.35) * cylinders.min()
    if fault == "pressure":
        fuel = 1.0 - rng.uniform(0.22, 0.3) * (cylinders / cylinders.max())
    if fault == "high":
        told = cylinders * rng.uniform(1.3, 1.5)
    trim = 100.0 * (cylinders / (told * fuel) - 1.0)
    noise = rng.normal(0.0, 1.0, (4, len(t)))
    return [
        Channel("Engine speed", "rpm", t, np.round(speed + 5.0 * noise[0])),
        Channel("Intake manifold absolute pressure", "kPa", t, np.round(kpa + 0.3 * noise[1])),
        Channel("Intake air temperature", "°C", t, np.full(len(t), round(celsius))),
        Channel("Air mass flow", "kg/h", t, np.round(3.6 * told * (1.0 + 0.01 * noise[2]), 1)),
        Channel("Short-term fuel trim, bank 1", "%", t, np.round(0.4 * trim + 1.5 * noise[3], 1)),
        Channel("Long-term fuel trim, bank 1", "%", t, np.round(0.6 * trim, 1)),
    ], volume


def by_id(found: list[Check]) -> dict[str, Check]:
    return {check.id: check for check in found}


EXPECTED = {
    "none": {"air-mass": "agrees", "trims": "agrees"},
    "dirty": {"air": "differs", "air-mass": "differs", "trims": "differs"},
    "leak": {"trims": "differs"},
    "pressure": {"air": "differs", "air-mass": "agrees", "trims": "differs"},
    "high": {"air-mass": "differs", "trims": "differs"},
}
SAID = {
    "dirty": ("air", "read too low"),
    "leak": ("trims", "not measured"),
    "pressure": ("air", "fuel pressure under load"),
    "high": ("air-mass", "More air"),
}


@pytest.mark.parametrize("fault", list(EXPECTED))
def test_what_is_wrong_is_said_of_almost_every_engine_and_of_no_good_one(fault: str) -> None:
    right: Counter[bool] = Counter()
    for seed in range(60):
        channels, volume = held(np.random.default_rng((seed, *fault.encode())), fault)
        found = by_id(checks(channels, volume))
        fits = all(found[name].verdict == verdict for name, verdict in EXPECTED[fault].items() if name in found)
        told = fault not in SAID or (SAID[fault][0] in found and SAID[fault][1] in found[SAID[fault][0]].words)
        right[fits and told] += 1
        assert fault != "none" or not any(check.verdict == "differs" for check in found.values()), "a good engine is not accused"
    assert right[True] >= 54, right


def test_what_is_missing_is_said() -> None:
    channels, volume = held(np.random.default_rng(1), "none")
    assert "the engine's displacement" in by_id(checks(channels, None))["air-mass"].words
    without = [one for one in channels if one.unit != "kPa"]
    found = by_id(checks(without, volume))["air-mass"]
    assert found.verdict == "not told"
    assert "manifold pressure" in found.words
    short = [one.within(0.0, 15.0) for one in channels]
    assert by_id(checks(short, volume))["trims"].verdict == "not told", "idle alone says nothing about load"


def test_one_bank_alone_is_said() -> None:
    channels, volume = held(np.random.default_rng(2), "none")
    t = channels[0].t
    second = [
        Channel(f"{kind} fuel trim, bank 2", "%", t, np.full(len(t), level))
        for kind, level in (("Short-term", 4.0), ("Long-term", 15.0))
    ]
    assert "banks differ" in by_id(checks([*channels, *second], volume))["trims"].words


def standing(**levels: float) -> list[Channel]:
    t = np.arange(0.0, 20.0, 0.2)
    units = {"pressure": "kPa", "temperature": "°C"}
    speed = np.where(t < 10.0, 0.0, 800.0)
    found = [Channel("Engine speed", "rpm", t, speed)]
    for name, level in levels.items():
        words = name.replace("_", " ")
        found.append(Channel(words, units[words.split()[-1]], t, np.where(t < 10.0, level, 0.5 * level)))
    return found


def test_absolute_pressures_of_a_standing_engine_are_equal() -> None:
    good = by_id(checks(standing(manifold_pressure=100.9, barometric_pressure=101.6, boost_pressure=101.2), None))
    assert good["standing-pressures"].verdict == "agrees"
    bad = by_id(checks(standing(manifold_pressure=100.9, barometric_pressure=101.6, boost_pressure=87.0), None))[
        "standing-pressures"
    ]
    assert bad.verdict == "differs"
    assert bad.words.startswith("boost pressure stands apart")
    assert (bad.start_s, bad.end_s) == (0.0, pytest.approx(9.8))
    two = by_id(checks(standing(manifold_pressure=100.9, barometric_pressure=87.0), None))["standing-pressures"]
    assert "a third would tell" in two.words


def test_temperatures_after_a_night_are_equal() -> None:
    found = by_id(
        checks(standing(coolant_temperature=9.0, intake_air_temperature=8.0, ambient_temperature=31.0, oil_temperature=9.5), None)
    )
    assert found["standing-temperatures"].verdict == "differs"
    assert found["standing-temperatures"].words.startswith("ambient temperature stands apart")


def test_a_differential_pressure_is_zero_at_rest() -> None:
    t = np.arange(0.0, 20.0, 0.1)
    speed = Channel("Engine speed", "rpm", t, np.where(t < 10.0, 0.0, 850.0))
    stuck = Channel("Filter differential pressure", "mbar", t, np.full(len(t), 19.0))
    assert by_id(checks([speed, stuck], None))["zero Filter differential pressure"].verdict == "differs"
    good = Channel("Filter differential pressure", "mbar", t, np.where(t < 10.0, 0.0, 20.0))
    assert by_id(checks([speed, good], None))["zero Filter differential pressure"].verdict == "agrees"


def test_what_does_not_follow_is_said_and_what_stands_still_is_not_asked() -> None:
    rng, t = np.random.default_rng(5), np.arange(0.0, 30.0, 0.1)
    pedal = Channel("Accelerator position", "%", t, 20.0 + 15.0 * np.sin(t) + rng.normal(0.0, 0.2, len(t)))
    follows = Channel("Throttle position", "%", t, 0.8 * np.interp(t - 0.1, t, pedal.y) + rng.normal(0.0, 0.2, len(t)))
    stuck = Channel("Throttle position", "%", t, 7.0 + rng.normal(0.0, 0.2, len(t)))
    name = "Accelerator position > Throttle position"
    assert by_id(checks([pedal, follows], None))[name].verdict == "agrees"
    assert by_id(checks([pedal, stuck], None))[name].verdict == "differs"
    still = Channel("Accelerator position", "%", t, 20.0 + rng.normal(0.0, 0.2, len(t)))
    assert name not in by_id(checks([still, stuck], None))


@pytest.mark.parametrize(
    ("name", "unit", "kind"),
    [
        ("Engine speed", "1/min", "speed"), ("Turbine speed", "rpm", None), ("Air mass flow", "kg/h", "air mass"), ("Fuel rate", "g/s", None),
        ("Barometric pressure", "hPa", "ambient pressure"), ("Boost pressure", "mbar", "manifold pressure"), ("Tank pressure", "kPa", None),
        ("Filter differential pressure", "mbar", "differential pressure"), ("Intake air temperature", "°C", "intake temperature"),
        ("Long-term fuel trim, bank 2", "%", "trim"), ("Duty", "%", None), ("Line", "V", None),
    ],
)  # fmt: skip
def test_channels_are_known_by_name_and_unit(name: str, unit: str, kind: str | None) -> None:
    found = quantity_of(name, unit)
    assert (None if found is None else found[0]) == kind
