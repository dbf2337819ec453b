"""Recordings that come with the demo: made up from equations, the same at every start."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from sondar.core.engine_air import drawn_kg_s
from sondar.core.recordings.model import Channel, Lane, Mark, Recording

STOP_BELOW_KPA = 2.5
"""A tank with its vent shut is not drawn further below ambient than this."""


def tank_with_the_vent_shut(leak_kpa_s: float = 0.021, begin: float = 30.0) -> Recording:
    """Idling, tank half full, purge commanded 0, 60, 0 %: pressure falls before anything is commanded, so the valve is stuck open.

    Args:
        leak_kpa_s: what the valve lets through while it should be shut; 0 for the new valve. begin: second at which it is commanded.
    """
    rng, t = np.random.default_rng(62 + round(begin)), np.round(np.arange(0.0, 90.0, 0.1), 1)
    end = begin + 12.0
    commanded = (t >= begin) & (t < end)
    pressure = np.maximum(101.3 - np.cumsum(np.where(commanded, 0.11, leak_kpa_s)) * 0.1, 101.3 - STOP_BELOW_KPA)
    pressure = np.round(pressure + rng.normal(0.0, 0.012, len(t)), 2)
    speed = np.round(760.0 + 8.0 * np.sin(t / 3.0) + rng.normal(0.0, 5.0, len(t)) + np.where(commanded, 12.0, 0.0))
    return Recording(
        (Channel("Tank pressure", "kPa", t, pressure), Channel("Engine speed", "rpm", t, speed)),
        (
            Lane("Purge valve command", ((0.0, "0 %"), (begin, "60 %"), (end, "0 %")), True),
            Lane("Fuel control", ((0.0, "open loop"), (12.0, "closed loop"))),
        ),
        (Mark(4.0, "Vent shut by command"),),
    )


def filter_pressure() -> Recording:
    """A differential pressure sensor at 19 mbar with the engine off, which stays there while the engine is revved."""
    rng, t = np.random.default_rng(40), np.round(np.arange(0.0, 60.0, 0.05), 2)
    speed = np.interp(t, [0, 14, 15.5, 30, 33, 40, 43, 60], [0, 0, 850, 850, 3000, 3000, 850, 850])
    speed = np.round(speed + np.where(speed > 0, rng.normal(0.0, 6.0, len(t)), 0.0))
    gauge = np.round(np.where(speed > 0, 28.0 * (speed / 850.0) ** 1.1, 0.0) + rng.normal(0.0, 0.4, len(t)), 1)
    reported = np.where(rng.random(len(t)) < 0.04, 20.0, 19.0)
    return Recording(
        (
            Channel("Filter differential pressure", "mbar", t, reported),
            Channel("Reference gauge", "mbar", t, gauge, "reference"),
            Channel("Engine speed", "rpm", t, speed),
        ),
        (Lane("Engine", ((0.0, "off"), (14.0, "idling"), (31.0, "3,000 rpm"), (42.0, "idling"))),),
    )


DISPLACEMENT_M3 = 1.6e-3
FILLED = 0.84
HELD_RPM = (
    (0.0, 780.0),
    (20.0, 780.0),
    (24.0, 2000.0),
    (42.0, 2000.0),
    (46.0, 3200.0),
    (64.0, 3200.0),
    (68.0, 780.0),
    (80.0, 780.0),
)
"""Idle, held at two speeds, idle again: (seconds, 1/min)."""


def air_and_trims(dirt: float = 0.0, leak_g_s: float = 0.0) -> Recording:
    """Live data of a 1.6 litre petrol engine held at idle and at two speeds.

    The module doses by the air it is told of and corrects by the oxygen sensor: what it is not told of stands in the trims.

    Args:
        dirt: share of the flow that a dirty film does not report at 40 g/s; less at less flow. leak_g_s: air that enters behind the sensor at idle.
    """
    rng, t = np.random.default_rng(33), np.round(np.arange(0.0, 80.0, 0.2), 1)
    seconds, speeds = np.array(HELD_RPM).T
    speed = np.interp(t, seconds, speeds)
    manifold = np.interp(speed, [780.0, 2000.0, 3200.0], [34.0, 46.0, 62.0])
    drawn = 1000.0 * drawn_kg_s(DISPLACEMENT_M3, speed, 1000.0 * manifold, 31.0, FILLED)  # type: ignore[arg-type]
    behind = leak_g_s * np.sqrt(np.maximum(101.3 - manifold, 0.0) / (101.3 - 34.0))
    told = (drawn - behind) * (1.0 - dirt * np.sqrt(drawn / 40.0))
    trim = 100.0 * (drawn / told - 1.0)
    swing = 2.0 * np.sign(np.sin(2.0 * np.pi * t / 1.7))
    return Recording(
        (
            Channel("Engine speed", "1/min", t, np.round(4.0 * (speed + rng.normal(0.0, 6.0, len(t)))) / 4.0),
            Channel("Intake manifold absolute pressure", "kPa", t, np.round(manifold + rng.normal(0.0, 0.3, len(t)))),
            Channel("Intake air temperature", "°C", t, np.full(len(t), 31.0)),
            Channel("Air mass flow", "g/s", t, np.round(told * (1.0 + rng.normal(0.0, 0.01, len(t))), 2)),
            Channel("Short-term fuel trim, bank 1", "%", t, np.round((swing + 0.3 * trim) / 0.78) * 0.78),
            Channel("Long-term fuel trim, bank 1", "%", t, np.round(0.7 * trim / 0.78) * 0.78),
        ),
        (Lane("Held at", ((0.0, "idle"), (22.0, "2,000"), (44.0, "3,200"), (66.0, "idle"))),),
    )


def hand_pump(sample_s: float) -> Recording:
    """An intake pressure sensor on a hand pump in three steps, then warm air: right, but for one dropout of a tenth of a second."""
    rng, t = np.random.default_rng(31), np.round(np.arange(0.0, 70.0, sample_s), 3)
    pumped = np.interp(t, [0, 8, 9, 20, 21, 32, 33, 44, 46, 70], [101.3, 101.3, 80.0, 80.0, 60.0, 60.0, 40.0, 40.0, 101.3, 101.3])
    reported = np.round(pumped + rng.normal(0.0, 0.12, len(t)), 1)
    reported = np.where((t >= 27.45) & (t < 27.55), 0.0, reported)
    warm = 21.0 + np.where(t > 50.0, 34.0 * (1.0 - np.exp(-(t - 50.0) / 6.0)), 0.0)
    return Recording(
        (
            Channel("Intake pressure reported", "kPa", t, reported),
            Channel("Hand pump gauge", "kPa", t, np.round(pumped + rng.normal(0.0, 0.1, len(t)), 1), "reference", 0.5),
            Channel("Intake air temperature", "°C", t, np.round(warm + rng.normal(0.0, 0.1, len(t)), 1)),
        ),
        (Lane("Hand pump", ((0.0, "101"), (8.0, "80"), (20.0, "60"), (32.0, "40"), (44.0, "101")), True),),
        (Mark(50.0, "Warm air at the sensor"),),
    )


def cam_phasers(oil_c: float, begin: float = 14.0, exchanged: bool = False) -> Recording:
    """Both intake phasers commanded by 20 degrees after clearing; that of bank 1 is late and slow until the oil is warm.

    Args:
        oil_c: temperature of the oil. begin: second of the first command. exchanged: solenoid and sensor of the banks have been exchanged.
    """
    rng, t = np.random.default_rng(35 + round(oil_c) + exchanged), np.round(np.arange(0.0, 60.0, 0.04), 2)
    edges = (begin, begin + 12.0, begin + 24.0, begin + 36.0)
    commanded = np.where(((t >= edges[0]) & (t < edges[1])) | ((t >= edges[2]) & (t < edges[3])), 20.0, 0.0)
    thick = float(np.exp(-(oil_c - 25.0) / 25.0))

    def followed(dead_s: float, lag_s: float) -> np.ndarray:
        late = np.interp(t - dead_s, t, commanded, left=0.0)
        y, step = np.zeros(len(t)), float(t[1] - t[0])
        for n in range(1, len(t)):
            y[n] = y[n - 1] + (late[n] - y[n - 1]) * step / lag_s
        return np.asarray(np.round((y + rng.normal(0.0, 0.12, len(t))) * 4.0) / 4.0)

    ones, others = followed(0.12 + 1.5 * thick, 0.35 + 1.9 * thick), followed(0.12, 0.35 + 0.12 * thick)
    lane = ((0.0, "0"), (edges[0], "20"), (edges[1], "0"), (edges[2], "20"), (edges[3], "0"))
    return Recording(
        (
            Channel("Intake camshaft, bank 1", "°", t, ones),
            Channel("Intake camshaft, bank 2", "°", t, others),
            Channel("Oil temperature", "°C", t, np.round(oil_c + 0.02 * t, 1)),
        ),
        (
            Lane("Phaser command", lane, True),
            Lane("Phaser control", ((0.0, "locked by its code"), (6.0, "released"))),
        ),
        (Mark(6.0, "Codes cleared"), *((Mark(7.5, "Solenoid and sensor exchanged with bank 2"),) if exchanged else ())),
    )


RECORDINGS: dict[str, tuple[tuple[str, Callable[[], Recording]], ...]] = {
    "brae-62": (
        ("Tank pressure with the vent shut, purge 0, 60, 0 %", tank_with_the_vent_shut),
        ("The same test with the new valve", lambda: tank_with_the_vent_shut(0.0, 24.0)),
        ("Filter pressure against a reference gauge", filter_pressure),
    ),
    "skerry-61": (
        ("Hand pump and warm air, 50 samples a second", lambda: hand_pump(0.02)),
        ("The same, by scan tool, 5 samples a second", lambda: hand_pump(0.2)),
    ),
    "corrie-33": (
        ("Idle, 2,000 and 3,200, as it came", lambda: air_and_trims(dirt=0.36)),
        ("The same with the new sensor", air_and_trims),
    ),
    "corrie-34": (("Idle, 2,000 and 3,200", lambda: air_and_trims(leak_g_s=0.62)),),
    "marl-35": (
        ("Phasers, cold", lambda: cam_phasers(25.0)),
        ("Phasers, warm", lambda: cam_phasers(88.0, 10.0)),
        ("Phasers, cold, solenoid and sensor exchanged", lambda: cam_phasers(26.0, 16.0, exchanged=True)),
    ),
}
"""Demo job -> its recordings."""
