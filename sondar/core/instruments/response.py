"""How late and how fast a module sees follow what it commands, read off a recording of its live data.

A chain of parts lies between a command and what the module sees: an actuator moves, a sensor follows. Each has a time constant and
perhaps a dead time; those of a chain add up, which is exact for the mean delay of first-order parts in series and within a tenth for
the time to 63 % (Åström and Hägglund, *Advanced PID Control*, 2006, ch. 2). A motor's speed is what its supply leaves beside the drop
in its armature, so that resistance in its wires makes it slow as well. Whether anything moves at all follows from the network, with the
command and without.
"""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from typing import ClassVar

import numpy as np

from sondar.core.circuit.document.fields import Response
from sondar.core.circuit.families import DcMotor, PulledInput
from sondar.core.circuit.families.base import normalised
from sondar.core.circuit.model import Acts, Setup, is_active
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Array, Controls, Instrument, Observation, Population, Solved, Test
from sondar.core.instruments.functional_check import operation_words

STILL, REVERSED = "no movement", "wrong direction"
LEAST_SHARE, LEAST_V = 0.2, 0.05
"""What is less than this share of the usual change, or than so many volts, is no movement."""
KEY = "key"
SLOWEST = 40.0
"""A motor this many times as slow as usual stands."""


def response_of(circuit: Circuit, ref: str, setup: Setup) -> Response | None:
    """The response that an input sees in a set-up; None if there is none."""
    if setup.unplugged:
        return None
    return next((r for r in circuit.document.responses.values() if r.input == ref and is_commanded(circuit, r, setup)), None)


def is_commanded(circuit: Circuit, response: Response, setup: Setup) -> bool:
    """True where the controls that a response names stand as it says, and all others at rest."""
    others = {name: (values[0],) for name, values in circuit.controls.items()}
    return is_active(others | normalised(response.when), setup)


def before_command(circuit: Circuit, response: Response, setup: Setup) -> Setup:
    """The set-up just before the command."""
    for name in response.when:
        if name in response.before or name != KEY:
            setup = setup.with_control(name, response.before.get(name, circuit.controls[name][0]))
    return setup


class Follows(Instrument):
    """Shared by delay and time: both are read off the same recording. ``read_off`` says what is read off."""

    unit = "s"
    minutes = 0.8
    words = (STILL, REVERSED)
    synonyms = {
        "none": STILL, "nothing": STILL, "no change": STILL, "stays": STILL, "still": STILL, "stuck": STILL, "does not move": STILL,
        "reversed": REVERSED, "opposite": REVERSED, "wrong way": REVERSED,
    }  # fmt: skip
    log_scale = True
    log_offset = 0.05
    probes = False
    recorded = True
    never_negative = True
    # Good parts differ among each other far more than two recordings of the same part do.
    error_share = 0.4
    error_floor = 0.04
    error_stays = 0.9
    error_changes = 0.44
    read_off: ClassVar[str]

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        circuit = access.circuit
        for response in circuit.document.responses.values():
            if response is response_of(circuit, response.input, setup):
                yield response.input, access.black

    def looks_at(self, circuit: Circuit, ref: str) -> bool:
        return isinstance(circuit.parts.get(ref), PulledInput) and any(r.input == ref for r in circuit.document.responses.values())

    def states(self, circuit: Circuit) -> list[Controls]:
        first = [{name: values[0] for name, values in normalised(r.when).items()} for r in circuit.document.responses.values()]
        return [circuit.setup(controls).controls for controls in first]

    def why_not(self, access: Access, test: Test) -> str:
        return "The circuit's file says of no response here how fast it is. The reading can still be recorded."

    def quantity(self, circuit: Circuit, test: Test) -> None:
        return None

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        seen = [self._one(population, test) for test in tests]
        return Observation(np.stack([value for value, _ in seen], axis=2), np.stack([words for _, words in seen], axis=2))

    def _one(self, population: Population, test: Test) -> tuple[Array, Array]:
        """(S, H) seconds and (S, H, 2) words of one test."""
        circuit = population.circuit
        response = response_of(circuit, test.red, test.setup)
        if response is None:  # asked for all the same: nothing is known of it
            shape = (1, len(population.hypotheses))
            return np.full(shape, 0.1), np.full((*shape, 2), 1.0 / 3.0)
        usual, usual_speeds = _healthy(circuit, test.red, test.setup)
        change = _change(population, response)
        acts = np.broadcast_to(_acts(population, response), change.shape)
        still = np.abs(change) < max(LEAST_SHARE * abs(usual), LEAST_V)
        speeds = {part: speed / max(usual_speeds[part], 1e-6) for part, speed in _speeds(population, response).items()}
        for speed in speeds.values():
            still |= speed < 1.0 / SLOWEST
        moves = acts * ~still
        backwards = moves * (change * usual < 0.0)
        seconds = np.broadcast_to(self.seconds(population, response, speeds), change.shape)
        return seconds, np.stack([1.0 - moves, backwards], axis=-1)

    @abstractmethod
    def seconds(self, population: Population, response: Response, speeds: Mapping[str, Array]) -> Array:
        """(H,) what a recording shows, in seconds; ``speeds`` (H,) of the motors, as shares of those in the healthy vehicle."""

    def where(self, circuit: Circuit, test: Test) -> str:
        response = response_of(circuit, test.red, test.setup)
        title = circuit.point(test.red).title
        if response is None:
            return f"Record {title} on the scan tool while it is commanded."
        before = dict(before_command(circuit, response, test.setup).controls)
        moved = [f"{circuit.control_title(n)} goes from {before[n]} to {v}" for n, v in test.setup.controls if before[n] != v]
        return f"Record {title} on the scan tool while {' and '.join(moved)}: {self.read_off}."


class ResponseTime(Follows):
    """From the first movement to 63 % of the change."""

    id = "response-time"
    title = "Response time"
    read_off = "seconds from the first movement to 63 % of the change"

    def seconds(self, population: Population, response: Response, speeds: Mapping[str, Array]) -> Array:
        total = np.zeros(len(population.hypotheses))
        for part_id in response.chain:
            slower = population.timing(part_id, "lag_scale", math.prod)
            pace = np.clip(speeds.get(part_id, np.ones_like(total)), 1.0 / SLOWEST, None)
            total += population.circuit.parts[part_id].lag_s * slower / pace
        return total


class ResponseDelay(Follows):
    """From the command to the first movement."""

    id = "response-delay"
    title = "Response delay"
    read_off = "seconds from the command to the first movement"

    def seconds(self, population: Population, response: Response, speeds: Mapping[str, Array]) -> Array:
        total = np.zeros(len(population.hypotheses))
        for part_id in response.chain:
            total += population.circuit.parts[part_id].dead_s + population.timing(part_id, "dead_s", sum)
        return total


@lru_cache(maxsize=512)
def _healthy(circuit: Circuit, ref: str, setup: Setup) -> tuple[float, dict[str, float]]:
    """How far the nominal vehicle's voltage moves, and how fast each motor of the chain turns."""
    response = response_of(circuit, ref, setup)
    assert response is not None
    fuses = sum(branch.fuse_rating_a is not None for branch in circuit.branches(setup))
    population = Population(circuit, setup, [()], np.zeros((1, fuses), dtype=bool), samples=1)
    speeds = {part_id: float(speed[0]) for part_id, speed in _speeds(population, response).items()}
    return float(_change(population, response)[0, 0]), speeds


def _change(population: Population, response: Response) -> Array:
    """(S, H) volts by which the input moves."""
    circuit = population.circuit
    pair = circuit.node(f"{response.input}.pin"), circuit.node(f"{response.input}.gnd")
    found = []
    for setup in (population.setup, before_command(circuit, response, population.setup)):
        waves = population.solve([pair], [], setup)
        found.append(waves.mean([points.volts[:, :, 0] for points in waves.states]))
    return np.asarray(found[0] - found[1])


def _acting(circuit: Circuit, response: Response, setup: Setup) -> dict[str, Acts]:
    found = {part_id: circuit.parts[part_id].acts(part_id, setup) for part_id in response.chain}
    return {part_id: acts for part_id, acts in found.items() if acts is not None}


def _acts(population: Population, response: Response) -> Array:
    """(S, H) chance that everything in the chain that has to act does."""
    acting = list(_acting(population.circuit, response, population.setup).values())
    if not acting:
        return np.ones((1, len(population.hypotheses)))
    branches = [acts.branch for acts in acting]
    waves = population.solve([], branches)
    amps = waves.mean([points.flow_amps for points in waves.states])
    words = operation_words(amps, acting, population.blocked(branches))
    return np.asarray((1.0 - words[..., 2]).prod(axis=-1))


def _speeds(population: Population, response: Response) -> dict[str, Array]:
    """(H,) speed of each motor of the chain as a share of its rated one, in the nominal vehicle."""
    circuit, found = population.circuit, {}
    for part_id, acts in _acting(circuit, response, population.setup).items():
        part = circuit.parts[part_id]
        if isinstance(part, DcMotor):
            waves = population.solve([(circuit.node(f"{part_id}.armature"), circuit.node(f"{part_id}.2"))], [acts.branch])
            volts, amps = (waves.mean([getattr(p, name)[:, :, 0] for p in waves.states])[0] for name in ("volts", "flow_amps"))
            found[part_id] = part.speed(volts, amps)
    return found
