"""What everything costs, in minutes: acting on a wrong unit, changing the set-up, reaching a place, one reading."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, HypothesisSet
from sondar.core.instruments import INSTRUMENTS, instrument
from sondar.core.instruments.base import Test

Array = npt.NDArray[np.float64]

RATE_PER_HOUR = 90.0
"""Workshop currency per hour of labour where none is set; it turns prices into minutes."""

COMEBACK_MIN = 60.0
"""Minutes lost when the vehicle comes back with the same complaint."""

CODING_MIN = 25.0
HELP_MIN = 120.0
"""Minutes a specialist costs when the result is inconclusive."""

KEY_MIN = 0.2
SAID_FROM_MIN = 1.0
"""Reaching a place is said as a step from this many minutes on."""


@dataclass(frozen=True)
class Step:
    """Something done on the way to a reading: a connector, a control with its new position, or a place to reach."""

    kind: Literal["disconnect", "connect", "control", "reach"]
    target: str
    position: str = ""


@dataclass(frozen=True)
class Situation:
    """Where the technician stands.

    Attributes:
        setup: the set-up now.
        opened: connectors and parts already reached.
        instruments: ids at hand.
        refused: points, parts or connectors that cannot be reached.
        done: tests already read; a repeat teaches next to nothing, so it is not proposed.
        decision_threshold: probability at which a diagnosis is due.
        rate_per_hour: what an hour of labour costs, in the currency of the prices.
        present: chance that the fault is there while a reading is taken; below 1 tests are worth making again.
        most_setups: only this many set-ups are looked at, the quickest to make first; 0 for as many as can be
            worked out, which is all but for large circuits.
    """

    setup: Setup
    opened: frozenset[str] = frozenset()
    instruments: tuple[str, ...] = tuple(INSTRUMENTS)
    refused: frozenset[str] = frozenset()
    done: frozenset[Test] = frozenset()
    decision_threshold: float = 0.95
    rate_per_hour: float = RATE_PER_HOUR
    most_setups: int = 0
    present: float = 1.0


def loss_matrix(circuit: Circuit, hypotheses: HypothesisSet, rate_per_hour: float = RATE_PER_HOUR) -> Array:
    """L (U, U) in minutes: row = what is acted on, column = what is at fault. Prices count as the labour they would pay for."""
    names = hypotheses.units
    wasted = np.zeros(len(names))
    for index, name in enumerate(names):
        if name in (NONE, UNKNOWN):
            continue
        unit = circuit.units[name]
        wasted[index] = unit.price / (max(rate_per_hour, 1.0) / 60.0) + unit.fit_min + (CODING_MIN if unit.coded else 0.0)
    loss = wasted[:, None] + COMEBACK_MIN * np.ones((len(names), len(names)))
    loss[names.index(UNKNOWN), :] = HELP_MIN
    loss[:, names.index(NONE)] -= COMEBACK_MIN  # nothing was wrong: only the work is wasted
    np.fill_diagonal(loss, 0.0)
    return loss


def setup_change(circuit: Circuit, situation: Situation, target: Setup) -> tuple[float, tuple[Step, ...], frozenset[str]]:
    """Minutes and steps from the set-up now to another, and the places opened on the way."""
    minutes, steps = 0.0, []
    opened = set(situation.opened)
    document = circuit.document
    for connector in sorted(situation.setup.unplugged ^ target.unplugged):
        spec = document.connectors[connector]
        minutes += spec.unplug_min + (0.0 if connector in opened else spec.access_min)
        opened.add(connector)
        steps.append(Step("disconnect" if connector in target.unplugged else "connect", connector))
    for name, value in target.controls:
        if situation.setup[name] != value:
            control = document.controls.get(name)
            minutes += control.minutes if control is not None else KEY_MIN
            steps.append(Step("control", name, value))
    return minutes, tuple(steps), frozenset(opened)


def touched(circuit: Circuit, test: Test) -> dict[str, float]:
    """Places that a test needs -> minutes to reach each the first time."""
    refs = (test.red, test.black) if instrument(test.instrument).probes else (test.red,)
    return {point.place: point.access_min for point in map(circuit.point, refs)}


def reach(circuit: Circuit, test: Test, opened: frozenset[str]) -> tuple[float, tuple[Step, ...]]:
    """Minutes and steps to the places of a test that are not open yet."""
    closed = {place: minutes for place, minutes in touched(circuit, test).items() if place not in opened}
    return sum(closed.values()), tuple(Step("reach", place) for place, minutes in closed.items() if minutes >= SAID_FROM_MIN)


def own_minutes(circuit: Circuit, test: Test) -> float:
    """Minutes of the test itself, the place reached and the set-up made."""
    device = instrument(test.instrument)
    return device.minutes + device.extra_minutes(circuit, test.red)
