"""Recordings that come with the demo: made up from equations, the same at every start."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

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


RECORDINGS: dict[str, tuple[tuple[str, Callable[[], Recording]], ...]] = {
    "brae-62": (
        ("Tank pressure with the vent shut, purge 0, 60, 0 %", tank_with_the_vent_shut),
        ("The same test with the new valve", lambda: tank_with_the_vent_shut(0.0, 24.0)),
        ("Filter pressure against a reference gauge", filter_pressure),
    ),
}
"""Demo job -> its recordings."""
