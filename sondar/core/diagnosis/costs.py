"""What everything costs, in minutes: acting on a wrong unit, changing the set-up, reaching a place, one reading."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.families.supply import CRANKING
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
LEAD_MIN = 0.6
"""Minutes to put a break-out lead between the halves of a sealed connector, beside parting and mating it with the key off."""

SAID_FROM_MIN = 1.0
"""Reaching a place is said as a step from this many minutes on."""


@dataclass(frozen=True)
class Step:
    """Something done on the way to a reading: a connector, a control with its new position, a place to reach, something seized to free,
    or a break-out lead to put between the halves of a sealed one."""

    kind: Literal["disconnect", "connect", "control", "reach", "free", "lead"]
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
        not_found: figures that nobody has found published, as PART.field.
        break_out_leads: there are leads to measure at sealed connectors while they are connected.
        starting: how the vehicle is switched on, see ``sondar.core.wording.switching_on``; empty where nobody has said.
        seized: connectors and parts that come apart only by force, with the minutes that takes, what is destroyed counted among them.
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
    not_found: frozenset[str] = frozenset()
    break_out_leads: bool = True
    starting: str = ""
    seized: tuple[tuple[str, float], ...] = ()

    def to_free(self, place: str) -> float:
        """Minutes beyond the usual until a connector comes apart, or a part can be got at; 0 for what is not seized."""
        return dict(self.seized).get(place, 0.0)


def labour_minutes(price: float, rate_per_hour: float) -> float:
    """What something costs as the minutes of labour that it would pay for."""
    return price / (max(rate_per_hour, 1.0) / 60.0)


def loss_matrix(circuit: Circuit, hypotheses: HypothesisSet, rate_per_hour: float = RATE_PER_HOUR) -> Array:
    """L (U, U) in minutes: row = what is acted on, column = what is at fault. Prices count as the labour they would pay for."""
    names = hypotheses.units
    wasted = np.zeros(len(names))
    for index, name in enumerate(names):
        if name in (NONE, UNKNOWN):
            continue
        unit = circuit.units[name]
        wasted[index] = labour_minutes(unit.price, rate_per_hour) + unit.fit_min + (CODING_MIN if unit.coded else 0.0)
    loss = wasted[:, None] + COMEBACK_MIN * np.ones((len(names), len(names)))
    loss[names.index(UNKNOWN), :] = HELP_MIN
    loss[:, names.index(NONE)] -= COMEBACK_MIN  # nothing was wrong: only the work is wasted
    np.fill_diagonal(loss, 0.0)
    return loss


def setup_change(
    circuit: Circuit, situation: Situation, target: Setup, leads: Sequence[Step] = ()
) -> tuple[float, tuple[Step, ...], frozenset[str]]:
    """Minutes and steps from the set-up now to another in the order of hands, and the places opened on the way.

    Connectors are parted and mated with the key off. What the key ends on the way, such as a command of the scan tool, is given again
    after it; turning the key back costs no step of its own for what ends with it.

    Args:
        leads: steps to break-out leads, which are put in with the key off like anything that parts a connector; their minutes, and those of
            the key for them, are not counted here.
    """
    hands = _Hands(circuit, after_cranking(circuit, dict(situation.setup.controls)))
    opened = set(situation.opened)
    apart = sorted(situation.setup.unplugged ^ target.unplugged)
    if apart or leads:
        hands.move("key", circuit.controls["key"][0])
    for connector in apart:
        spec = circuit.document.connectors[connector]
        hands.minutes += spec.unplug_min + (0.0 if connector in opened else spec.access_min)
        opened.add(connector)
        if connector in target.unplugged and (forced := situation.to_free(connector)):
            hands.minutes += forced
            hands.steps.append(Step("free", connector))
        hands.steps.append(Step("disconnect" if connector in target.unplugged else "connect", connector))
    hands.steps += leads
    hands.move("key", target["key"])
    wanted = dict(target.controls)
    left = [name for name in wanted if name != "key" and hands.controls[name] != wanted[name]]
    # What is let go of comes before what is moved, and what needs another control after that one.
    left.sort(key=lambda name: wanted[name] != circuit.controls[name][0])
    while left:
        name = next((n for n in left if circuit.goes_with(n, wanted[n], hands.controls)), left[0])
        left.remove(name)
        hands.move(name, wanted[name])
    return hands.minutes, tuple(hands.steps), frozenset(opened)


def after_cranking(circuit: Circuit, controls: Mapping[str, str]) -> dict[str, str]:
    """Where the controls stand once a reading is taken: nobody goes on cranking while the next one is prepared."""
    controls = dict(controls)
    turning = [name for name, position in controls.items() if position == CRANKING]
    for name in turning:
        controls[name] = circuit.controls[name][0]
    if turning and not all(circuit.goes_with(name, controls[name], controls) for name in turning):
        fits = (
            key
            for key in circuit.controls["key"][::-1]
            if all(circuit.goes_with(n, controls[n], {**controls, "key": key}) for n in turning)
        )
        controls["key"] = next(fits, controls["key"])
    return controls


def made_in(circuit: Circuit, setup: Setup, test: Test) -> Setup:
    """The set-up in which a test is made and the vehicle stands after it: one that only looks leaves apart what is apart."""
    if not instrument(test.instrument).as_it_stands:
        return test.setup
    return circuit.rest_setup(test.setup.temperature_c).with_unplugged(setup.unplugged)


@dataclass
class _Hands:
    """What is done to the controls, step by step."""

    circuit: Circuit
    controls: dict[str, str]
    minutes: float = 0.0
    steps: list[Step] = field(default_factory=list)

    def move(self, name: str, position: str) -> None:
        """Move a control if it is not there already; what no longer goes with it ends by itself."""
        if self.controls[name] == position:
            return
        control = self.circuit.document.controls.get(name)
        self.minutes += control.minutes if control is not None else KEY_MIN
        self.steps.append(Step("control", name, position))
        self.controls[name] = position
        for other, value in self.controls.items():
            if other != name and not self.circuit.goes_with(other, value, self.controls):
                self.controls[other] = next(
                    (p for p in self.circuit.controls[other] if self.circuit.goes_with(other, p, self.controls)), value
                )


def touched(circuit: Circuit, test: Test) -> dict[str, float]:
    """Places that a test needs -> minutes to reach each the first time; a break-out lead at a sealed connector is such a place."""
    refs = (test.red, test.black) if instrument(test.instrument).probes else (test.red,)
    points = [circuit.point(ref) for ref in refs]
    found = {point.place: point.access_min for point in points}
    for point in points:
        if point.needs_lead(test.setup) and point.connector is not None:
            found[lead_at(point.connector)] = LEAD_MIN + 2.0 * circuit.document.connectors[point.connector].unplug_min
    return found


def reached_by(circuit: Circuit, test: Test) -> frozenset[str]:
    """Places that stand open once a test has been made, a break-out lead among them."""
    return frozenset({circuit.point(ref).place for ref in (test.red, test.black)}) | frozenset(touched(circuit, test))


def lead_at(connector: str) -> str:
    """The place of a break-out lead at a sealed connector, among places that a test needs."""
    return f"{connector}~lead"


def is_lead(place: str) -> bool:
    """True for a place that is a break-out lead."""
    return place.endswith("~lead")


def reach(circuit: Circuit, test: Test, opened: frozenset[str], situation: Situation) -> tuple[float, tuple[Step, ...]]:
    """Minutes and steps to the places of a test that are not open yet."""
    places = touched(circuit, test)
    closed = {place: minutes for place, minutes in places.items() if place not in opened}
    steps = [Step("reach", place) for place, minutes in closed.items() if minutes >= SAID_FROM_MIN and not is_lead(place)]
    steps += [Step("lead", place.removesuffix("~lead")) for place in closed if is_lead(place)]
    steps += [Step("free", place) for place in places if to_get_at(circuit, place, situation)]
    return access_minutes(circuit, places, opened, situation), tuple(steps)


def steps_to(
    circuit: Circuit, situation: Situation, test: Test, opened: frozenset[str], steps: tuple[Step, ...]
) -> tuple[Step, ...]:
    """Everything that is done until a test can be made, in the order of hands; ``opened`` and ``steps`` as its set-up leaves them."""
    _, places = reach(circuit, test, opened, situation)
    sealed = {step.target for step in places if step.kind == "lead"}
    if not sealed:
        return (*steps, *places)
    goal = made_in(circuit, situation.setup, test)
    with_leads = [step for step in places if step.target in sealed]
    _, steps, _ = setup_change(circuit, situation, goal, with_leads)
    return (*steps, *(step for step in places if step.target not in sealed))


def access_minutes(circuit: Circuit, places: Mapping[str, float], opened: frozenset[str], situation: Situation) -> float:
    """Minutes until all places can be measured at, those that are open already at once."""
    usual = sum(minutes for place, minutes in places.items() if place not in opened)
    return usual + sum(to_get_at(circuit, place, situation) for place in places)


def to_get_at(circuit: Circuit, place: str, situation: Situation) -> float:
    """Minutes to free a part before it can be measured at; a connector that is seized can be measured at, it just does not come apart."""
    return 0.0 if place in circuit.document.connectors else situation.to_free(place)


def own_minutes(circuit: Circuit, test: Test) -> float:
    """Minutes of the test itself, the place reached and the set-up made."""
    device = instrument(test.instrument)
    return device.minutes + device.extra_minutes(circuit, test.red)
