"""What the modules of a simulated vehicle tell and do on request: live data that follows the circuits, and commands that move their controls.

Steady ends come from the network under the hidden faults; in between every figure follows with its own time constant.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from sondar.core.circuit.model import CHASSIS, Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.vehicle import CommandItem, DataItem, RoutineItem
from sondar.core.instruments import INSTRUMENTS, ResponseDelay, ResponseTime
from sondar.core.instruments.base import Population, Test
from sondar.core.instruments.displays import observations
from sondar.core.instruments.response import is_commanded
from sondar.core.solving.fuses import blown_fuses

SESSION_S = 5.0
"""S3 of ISO 14229-2: without a request for so long a module leaves its session and takes back control of what was commanded."""
DEFAULT, EXTENDED = 0x01, 0x03
NOISE = 0.004
"""Relative standard deviation of a figure."""

SUB_FUNCTION, CONDITIONS, SEQUENCE, RANGE, WRONG_LENGTH, NOT_IN_SESSION = 0x12, 0x22, 0x24, 0x31, 0x13, 0x7F
START, STOP, RESULTS = 0x01, 0x02, 0x03
TAKES = 0.6
"""Share of the time that a routine may take, in which it is done."""


@dataclass
class _Followed:
    """A figure on its way: where it was at ``since``, where it goes from there, and with which time constant, s."""

    begin: float
    end: float
    since: float
    lag_s: float


@dataclass
class LiveModules:
    """Live data and commands of all modules.

    Attributes:
        clock: seconds, monotonic. speed: simulated seconds per second of it, for routines.
        faulty: units that have something wrong with them: a routine for one of them does not succeed.
        key: position of the key; somebody sits in the vehicle and has turned it.
        stored: codes that a module has stored now; with some it keeps to a default reaction and takes no command.
    """

    circuit: Circuit
    data: dict[str, DataItem]
    commands: dict[str, CommandItem]
    changes: tuple[Change, ...]
    clock: Callable[[], float]
    routines: Mapping[str, RoutineItem] = field(default_factory=dict)
    faulty: Collection[str] = ()
    speed: float = 1.0
    key: str = "run"
    stored: Callable[[str], Collection[str]] = lambda module: ()
    _started: dict[str, float] = field(default_factory=dict)
    _session: dict[str, tuple[int, float]] = field(default_factory=dict)
    _commanded: dict[str, str] = field(default_factory=dict)
    _figures: dict[str, _Followed] = field(default_factory=dict)
    _ends: dict[tuple[tuple[str, str], ...], dict[str, float]] = field(default_factory=dict)
    _noise: np.random.Generator = field(default_factory=lambda: np.random.default_rng(7))

    def __post_init__(self) -> None:
        self._blown = blown_fuses(self.circuit, [self.changes])
        now = self.clock()
        for name, value in self._steady().items():
            self._figures[name] = _Followed(value, value, now, self.data[name].lag_s)

    def session(self, module: str, kind: int) -> bytes:
        """Enter a session (0x10)."""
        self._session[module] = (kind, self.clock())
        if kind == DEFAULT:
            self._take_back(module)
        return bytes([0x50, kind, 0x00, 0x32, 0x01, 0xF4])

    def heard(self, module: str) -> None:
        """Any request keeps a session going; one that has been quiet for too long has ended before it."""
        self.expire()
        if module in self._session:
            self._session[module] = (self._session[module][0], self.clock())

    def expire(self) -> None:
        """End the sessions in which nobody has asked for ``SESSION_S``."""
        for module, (kind, at) in list(self._session.items()):
            if kind != DEFAULT and self.clock() - at > SESSION_S:
                del self._session[module]
                self._take_back(module, at + SESSION_S)

    def _take_back(self, module: str, at: float | None = None) -> None:
        for name, item in self.commands.items():
            if item.module == module and name in self._commanded:
                self._set(name, None, at)

    def _setup(self) -> Setup:
        rest = self.circuit.rest_setup()
        controls = dict(rest.controls) | ({"key": self.key} if "key" in dict(rest.controls) else {})
        for name, position in self._commanded.items():
            controls[self.commands[name].control] = position
        return Setup(tuple(controls.items()), rest.unplugged, rest.temperature_c)

    def _steady(self) -> dict[str, float]:
        setup = self._setup()
        if setup.controls not in self._ends:
            population = Population(self.circuit, setup, [self.changes], self._blown, samples=1, deviates={})
            volts = {n: item for n, item in self.data.items() if len(item.measures) == 2}
            flows = {n: item for n, item in self.data.items() if item.flows}
            pairs = [(self.circuit.node(item.measures[0]), self.circuit.node(item.measures[1])) for item in volts.values()]
            waves = population.solve(pairs, [item.flows for item in flows.values()])
            found = dict(zip(volts, waves.mean([points.volts for points in waves.states])[0, 0], strict=True))
            if flows:
                found |= dict(zip(flows, waves.mean([points.flow_amps for points in waves.states])[0, 0], strict=True))
            self._ends[setup.controls] = {name: float(value) for name, value in found.items()}
        return self._ends[setup.controls]

    def _value(self, name: str) -> float:
        seen = self._figures[name]
        past = self.clock() - seen.since
        if past <= 0.0:
            return seen.begin
        share = 1.0 if seen.lag_s <= 0 else 1.0 - math.exp(-past / seen.lag_s)
        return seen.begin + (seen.end - seen.begin) * share

    def _set(self, name: str, position: str | None, at: float | None = None) -> None:
        released = self._setup()
        if position is None:
            self._commanded.pop(name, None)
        else:
            self._commanded[name] = position
        ends = self._steady()
        moved = [item for item, figure in self._figures.items() if figure.end != ends[item]]
        follows = {item: self._follows(item, self._setup() if position is not None else released) for item in moved}
        # Only now does anything move: on a slow machine what was worked out so far has taken its time.
        now = self.clock() if at is None else at
        for item, (dead_s, lag_s) in follows.items():
            self._figures[item] = _Followed(self._value(item), ends[item], now + dead_s, lag_s)

    def _follows(self, name: str, setup: Setup) -> tuple[float, float]:
        """(dead time, time constant) in seconds with which a figure follows what was moved last, under the hidden faults."""
        item = self.data[name]
        for response in self.circuit.document.responses.values():
            if item.measures == [f"{response.input}.pin", f"{response.input}.gnd"] and is_commanded(self.circuit, response, setup):
                population = Population(self.circuit, setup, [self.changes], self._blown, samples=1, deviates={})
                tests = [Test(device.id, response.input, CHASSIS, setup) for device in (ResponseDelay, ResponseTime)]
                seen = observations(INSTRUMENTS, population, tests)
                dead_s, lag_s = (seen[test.instrument][1].value for test in tests)
                assert dead_s is not None
                assert lag_s is not None
                return float(dead_s[0, 0, 0]), float(lag_s[0, 0, 0]) + item.lag_s
        return 0.0, item.lag_s

    def read(self, module: str, request: bytes) -> bytes:
        """Answer a request for one or more data identifiers (0x22)."""
        if len(request) < 3 or len(request) % 2 == 0:
            return bytes([0x7F, 0x22, WRONG_LENGTH])
        answer = b"\x62"
        for at in range(1, len(request), 2):
            did = int.from_bytes(request[at : at + 2], "big")
            found = next((n for n, item in self.data.items() if item.module == module and item.did == did), None)
            if found is None:
                return bytes([0x7F, 0x22, RANGE])
            answer += request[at : at + 2] + self._raw(found)
        return answer

    def _raw(self, name: str) -> bytes:
        item = self.data[name]
        value = self._value(name)
        value += float(self._noise.normal(0.0, NOISE * max(abs(value), 5.0 * item.factor)))
        raw = round((value - item.offset) / item.factor)
        low, high = (
            (-(1 << 8 * item.length - 1), (1 << 8 * item.length - 1) - 1) if item.signed else (0, (1 << 8 * item.length) - 1)
        )
        return min(high, max(low, raw)).to_bytes(item.length, "big", signed=item.signed)

    def control(self, module: str, request: bytes) -> bytes:
        """Answer a request to command something or to give it back (0x2F)."""
        if len(request) < 4:
            return bytes([0x7F, 0x2F, WRONG_LENGTH])
        did, how = int.from_bytes(request[1:3], "big"), request[3]
        found = next((n for n, item in self.commands.items() if item.module == module and item.did == did), None)
        if found is None:
            return bytes([0x7F, 0x2F, RANGE])
        if self._session.get(module, (DEFAULT, 0.0))[0] != EXTENDED:
            return bytes([0x7F, 0x2F, NOT_IN_SESSION])
        item = self.commands[found]
        if how == 0x00:
            self._set(found, None)
            return b"\x6f" + request[1:4]
        if how != 0x03 or len(request) < 5:
            return bytes([0x7F, 0x2F, SUB_FUNCTION])
        position = next((p for p, byte in item.positions.items() if byte == request[4]), None)
        if position is None:
            return bytes([0x7F, 0x2F, RANGE])
        here = dict(self._setup().controls)
        if any(here.get(name) != wanted for name, wanted in item.requires.items()) or set(item.locked_by) & set(
            self.stored(module)
        ):
            return bytes([0x7F, 0x2F, CONDITIONS])
        self._set(found, position)
        return b"\x6f" + request[1:5]

    def routine(self, module: str, request: bytes) -> bytes:
        """Answer a request to start or stop a routine, or for its result (0x31)."""
        if len(request) != 4:
            return bytes([0x7F, 0x31, WRONG_LENGTH])
        how, rid = request[1], int.from_bytes(request[2:4], "big")
        name, item = next(((n, one) for n, one in self.routines.items() if one.module == module and one.rid == rid), ("", None))
        if item is None:
            return bytes([0x7F, 0x31, RANGE])
        if self._session.get(module, (DEFAULT, 0.0))[0] != EXTENDED:
            return bytes([0x7F, 0x31, NOT_IN_SESSION])
        here = dict(self._setup().controls)
        if how == START:
            if any(here.get(control) != wanted for control, wanted in item.requires.items()):
                return bytes([0x7F, 0x31, CONDITIONS])
            self._started[name] = self.clock()
            return b"\x71" + request[1:4]
        if name not in self._started:
            return bytes([0x7F, 0x31, SEQUENCE])
        if how == STOP:
            del self._started[name]
            return b"\x71" + request[1:4]
        if how != RESULTS:
            return bytes([0x7F, 0x31, SUB_FUNCTION])
        going = (self.clock() - self._started[name]) * self.speed < TAKES * item.seconds
        words = list(item.results)
        failed = len(words) > 1 and any(part in self.faulty for part in item.parts)
        return b"\x71" + request[1:4] + bytes([item.running if going else item.results[words[1 if failed else 0]]])

    def figures_by_number(self) -> dict[int, float]:
        """Live data that have a number in OBD service 01, as they are now."""
        return {item.pid: self._value(name) for name, item in self.data.items() if item.pid is not None}

    def commanded(self) -> Sequence[str]:
        """What is commanded now, by id."""
        self.expire()
        return tuple(self._commanded)
