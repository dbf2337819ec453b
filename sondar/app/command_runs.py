"""How a run is carried out: the line to the modules, the person's wish beside it, what is recorded, and control given back at its end.

One thread holds the line, another looks at the row of the run and stores what was recorded; neither waits for the other.
"""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from itertools import accumulate
from typing import Any
from uuid import UUID

import numpy as np
import structlog

from sondar.app.workspace import Workspace
from sondar.core.circuit.vehicle import CommandItem, RoutineItem, VehicleDocument
from sondar.core.errors import RefusedError
from sondar.core.obd import FIGURES
from sondar.core.recordings.model import Channel, Lane, Recording
from sondar.core.recordings.packed import pack
from sondar.devices.commander import Link, LostError, RefusedByModuleError, link, obd_number
from sondar.devices.meter import Placement, logging_meter
from sondar.store import commands as store
from sondar.store import recordings as recording_store
from sondar.store.commands import Run, Sign

log = structlog.get_logger()

FASTEST_S = 0.04
"""Pause between two looks at the vehicle, at least: most interfaces answer 10 to 25 times a second."""
LOOKED_S, KEPT_S = 0.15, 0.5
"""How often the person's wish is looked for, and how often what was recorded is stored."""
HELD_S, LEFT_S = 0.9, 8.0
"""A finger counts as lifted, and a page as left, after so long without a sign."""
LONGEST_S = 600.0
ROWS_AT_REST = 5
"""No step of a sequence is commanded before so many rows are recorded; a command that a finger holds is not delayed."""
STOPS_AFTER_S = 5.0
"""A routine is stopped so long after the time that it may take."""
ASKED_S = 0.3
"""How often a routine is asked for its result."""
DEFAULT_REACTION = (
    "stored; the module may keep to a default reaction with that: clear the codes, and command before they come back."
)
MAY_BE_ACTIVE = "Control may still be active: switch the key off."


@dataclass(frozen=True)
class Step:
    """A position, and for how long."""

    position: str
    seconds: float


@dataclass(frozen=True)
class LoggedMeter:
    """The bench meter as one more channel: where its probes are, and what the channel then is.

    Attributes:
        title, unit: of the channel. tie: what it measures, kept with the recording.
    """

    address: str
    instrument: str
    placement: Placement
    title: str
    unit: str
    tie: Mapping[str, Any]


@dataclass(frozen=True)
class WantedRun:
    """What is to be commanded and recorded.

    Attributes:
        command: id of a command of the vehicle; empty to record only. steps: positions one after the other; empty with ``hold``.
        channels: ids of live data, and numbers of OBD service 01 as ``obd:0C``. seconds: how long is recorded where nothing is commanded,
            or after the last step. routine: id of a routine of the vehicle, in place of a command.
    """

    client_key: UUID
    command: str
    steps: tuple[Step, ...]
    channels: tuple[str, ...]
    seconds: float
    routine: str = ""


@dataclass
class _Taken:
    """What has been recorded; ``fresh`` is not stored yet. One thread adds, another stores."""

    document: VehicleDocument
    channels: tuple[str, ...]
    meter: LoggedMeter | None = None
    begun: float = field(default_factory=time.monotonic)
    stored: int = 0
    rows: int = 0
    figure: Callable[[], float | None] | None = None
    fresh: dict[str, list[Any]] = field(default_factory=lambda: {"t": [], "rows": [], "lane": []})
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @property
    def now(self) -> float:
        """Seconds since it began."""
        return time.monotonic() - self.begun

    @property
    def rest_recorded(self) -> bool:
        """There is enough of what was before the first command, where anything is recorded."""
        return self.rows >= ROWS_AT_REST or not (self.channels or self.meter)

    @property
    def heads(self) -> list[list[str]]:
        """(name, unit) of every channel, the meter's last."""
        found = [_head(self.document, name) for name in self.channels]
        return found if self.meter is None else [*found, [self.meter.title, self.meter.unit]]

    def add(self, at_s: float, row: list[float | None]) -> None:
        """One figure of every channel; None where a meter showed none."""
        with self._lock:
            self.rows += 1
            self.fresh["t"].append(round(at_s, 4))
            self.fresh["rows"].append(row)

    def change(self, at_s: float, position: str) -> None:
        """A position, from a time on."""
        with self._lock:
            self.fresh["lane"].append([round(at_s, 4), position])

    def flush(self, work: Workspace, recording_id: UUID) -> None:
        """Store what is fresh; what could not be stored stays fresh."""
        with self._lock:
            taken, self.fresh = self.fresh, {"t": [], "rows": [], "lane": []}
        if not taken["t"] and not taken["lane"]:
            return
        body = json.dumps({"channels": self.heads, **taken}).encode()
        try:
            with work.transaction() as db:
                recording_store.put_piece(db, recording_id, self.stored, body)
        except Exception:
            with self._lock:
                self.fresh = {name: [*taken[name], *self.fresh[name]] for name in taken}
            raise
        self.stored += 1


class _Beside:
    """What the person wants, looked for beside the thread that commands, and what was recorded, stored there.

    A database that stalls keeps no part moving: a wish that is older than ``HELD_S`` holds nothing.
    """

    def __init__(self, work: Workspace, run: Run, taken: _Taken, position: str) -> None:
        self.position = position
        self._work, self._run, self._taken = work, run, taken
        self._sign, self._at = Sign(stop=False, quiet_s=0.0, held=False), time.monotonic()
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._go, daemon=True)
        self._thread.start()

    @property
    def held(self) -> bool:
        """A finger holds it now, as far as is known."""
        return self._sign.held and time.monotonic() - self._at < HELD_S

    @property
    def stop(self) -> bool:
        """Somebody asked to end it."""
        return self._sign.stop

    @property
    def left(self) -> bool:
        """The page has given no sign for too long, or nobody can be asked whether it has."""
        return self._sign.quiet_s + time.monotonic() - self._at > LEFT_S

    def close(self) -> None:
        """Look no more."""
        self._over.set()
        self._thread.join()

    def _go(self) -> None:
        kept = time.monotonic()
        while not self._over.wait(LOOKED_S):
            try:
                with self._work.transaction() as db:
                    sign = store.sign(db, self._run.id, self.position)
                self._sign, self._at = sign, time.monotonic()
                if time.monotonic() - kept >= KEPT_S:
                    kept = time.monotonic()
                    self._taken.flush(self._work, self._run.recording_id)
            except Exception as error:  # the database is away: no sign is no wish, and what is fresh waits
                log.warning("command_not_looked_after", run=str(self._run.id), error=str(error))


def _head(document: VehicleDocument, name: str) -> list[str]:
    number = obd_number(name)
    item = document.data[name] if number is None else FIGURES[number]
    return [item.title, item.unit]


def carry_out(
    work: Workspace, run: Run, document: VehicleDocument, address: str, wanted: WantedRun, meter: LoggedMeter | None = None,
    stored: Sequence[str] = (),
) -> None:  # fmt: skip
    """Connect, command and record until it is over, and say how it went.

    Args:
        stored: codes that are known to be stored in the module: with some it keeps to a default reaction.
    """
    item, routine = document.commands.get(wanted.command), document.routines.get(wanted.routine)
    taken = _Taken(document, wanted.channels, meter)
    modules = {document.data[name].module for name in wanted.channels if obd_number(name) is None}
    modules |= {one.module for one in (item, routine) if one is not None}
    emissions = None
    if any(obd_number(name) is not None for name in wanted.channels):
        emissions = document.obd.module if document.obd else ""
        modules |= {emissions} if emissions else set()
    state, said = "stopped", "It ended by an error of the program."
    try:
        if meter is not None:  # before anybody can open what is recorded
            with work.transaction() as db:
                recording_store.tie(db, run.recording_id, meter.title, dict(meter.tie))
        with ExitStack() as lines:
            asked = {name: document.module_addresses[name] for name in sorted(modules)}
            needed = bool(asked) or emissions is not None
            line = lines.enter_context(link(address, asked, document.data, emissions)) if needed else Link({}, document.data)
            if meter is not None:
                taken.figure = lines.enter_context(logging_meter(meter.address, meter.instrument, meter.placement))
            line.watch(wanted.channels)
            if routine is not None:
                state, said = _follow_routine(work, run, line, routine, taken)
            else:
                state, said = _follow(work, run, line, item, wanted, taken)
    except RefusedByModuleError as error:
        held = error.conditions_not_correct and stored
        state, said = "refused", f"{error.detail}. {' and '.join(stored)} {DEFAULT_REACTION}" if held else error.detail
    except LostError as error:
        state, said = "lost", f"{error.detail}. {MAY_BE_ACTIVE if item or routine else ''}".strip()
    except RefusedError as error:
        state, said = "lost", error.detail
    finally:
        finish(work, run, taken, state, said)


def _follow(work: Workspace, run: Run, line: Link, item: CommandItem | None, wanted: WantedRun, taken: _Taken) -> tuple[str, str]:
    rest = next(iter(item.positions)) if item else ""
    if item:
        line.begin(item.module)
        taken.change(0.0, rest)
    over = sum(step.seconds for step in wanted.steps) + wanted.seconds if not (item and item.hold) else LONGEST_S
    state, said = "ended", ""
    beside = _Beside(work, run, taken, rest)
    try:
        _take(line, taken)
        late = taken.now  # connecting has taken its time: the first step lasts from the first figure
        while taken.now - late < over and taken.now < LONGEST_S:
            now = taken.now
            if beside.stop or beside.left:
                state, said = "stopped", "Stopped." if beside.stop else "The page was left: control was given back."
                break
            position = _wanted_position(item, wanted.steps, now - late, beside.held) if item else ""
            if item and wanted.steps and position != beside.position and not taken.rest_recorded:
                late = now - _due(wanted.steps, now - late)  # a response is told from what was there before it
                position = beside.position
            if item and position != beside.position:
                at = _put(line, item, position, beside, taken)
                late = at - _due(wanted.steps, now - late)  # a step lasts from when it was reached, not from when it was due
            _take(line, taken)
            time.sleep(max(0.0, FASTEST_S - (taken.now - now)))
    finally:
        try:
            if item and beside.position != rest:
                _put(line, item, rest, beside, taken)
        except RefusedByModuleError as error:
            raise LostError(f"Control was not given back: {error.detail}") from error
        finally:
            beside.close()
    for _ in range(5):  # what it does when it is let go belongs to the recording
        _take(line, taken)
        time.sleep(FASTEST_S)
    return state, said


def _follow_routine(work: Workspace, run: Run, line: Link, item: RoutineItem, taken: _Taken) -> tuple[str, str]:
    """Start a routine, record while it goes on, and keep its result as what was found."""
    line.begin(item.module)
    taken.change(0.0, "not started")
    line.start_routine(item)
    taken.change(taken.now, "running")
    beside, asked, result = _Beside(work, run, taken, "running"), taken.now, None
    try:
        while result is None:
            now = taken.now
            if beside.stop or beside.left or now > item.seconds + STOPS_AFTER_S:
                line.stop_routine(item)
                taken.change(taken.now, "stopped")
                if beside.stop or beside.left:
                    return "stopped", "Stopped before its end." if beside.stop else "The page was left: the routine was stopped."
                return "stopped", f"It gave no result within {item.seconds:g} s and was stopped."
            if now - asked >= ASKED_S:
                asked, result = now, line.routine_result(item)
            _take(line, taken)
            time.sleep(max(0.0, FASTEST_S - (taken.now - now)))
    except RefusedByModuleError:
        line.stop_routine(item)  # it would go on with nobody watching
        raise
    finally:
        beside.close()
    taken.change(taken.now, result)
    with work.transaction() as db:
        store.noticed(db, run.id, result)
    return "ended", "" if result == next(iter(item.results)) else f"Result: {result}."


def _put(line: Link, item: CommandItem, position: str, beside: _Beside, taken: _Taken) -> float:
    """Bring something into a position, or give it back if that is rest. Returns when, in seconds."""
    asked = taken.now
    if position == next(iter(item.positions)):
        line.give_back(item)
    else:
        try:
            line.command(item, position)
        except LostError:
            beside.position = position  # it may have been done: giving it back is tried
            raise
    beside.position = position
    # The module did it somewhere between the request and its answer.
    at = (asked + taken.now) / 2
    taken.change(at, position)
    return at


def _due(steps: Sequence[Step], now: float) -> float:
    """When the step that goes on at a time was to begin, s."""
    ends = list(accumulate((step.seconds for step in steps), initial=0.0))
    return max(end for end in ends if end <= now)


def _wanted_position(item: CommandItem, steps: Sequence[Step], now: float, held: bool) -> str:
    positions = list(item.positions)
    if item.hold:
        return positions[1] if held else positions[0]
    end = 0.0
    for step in steps:
        end += step.seconds
        if now < end:
            return step.position
    return positions[0]


def _take(line: Link, taken: _Taken) -> None:
    before = taken.now
    if not taken.channels:
        line.keep_open()
    values = line.read() if taken.channels else {}
    row: list[float | None] = [values[name] for name in taken.channels] if values else []
    if taken.figure is not None:
        row.append(taken.figure())
    if row:
        # Modules and meter sampled it somewhere between the first request and the last answer.
        taken.add((before + taken.now) / 2, row)


def finish(work: Workspace, run: Run, taken: _Taken | None, state: str, said: str) -> None:
    """Store the rest, make a recording of it, and end the run."""
    if taken is not None:
        taken.flush(work, run.recording_id)
    with work.transaction() as db:
        bodies = recording_store.piece_bodies(db, run.recording_id)
        store.end(db, run.id, state, said)
        recorded = assembled(run.title if run.command else "", [json.loads(body) for body in bodies])
        if recorded is None:
            recording_store.fail(db, run.recording_id, said or "nothing was recorded")
            recording_store.leave(db, run.recording_id)
        else:
            recording_store.keep(
                db, run.recording_id, pack(recorded, run.created_at.timestamp(), [said] if said and state != "stopped" else [])
            )


def assembled(command: str, bodies: Sequence[dict[str, Any]]) -> Recording | None:
    """A recording from the pieces that were stored while it ran; None if no figure was taken."""
    heads: list[list[str]] = next((body["channels"] for body in bodies if body["channels"]), [])
    t = np.array([at for body in bodies for at in body["t"]], dtype=np.float64)
    rows = np.array([row for body in bodies for row in body["rows"]], dtype=np.float64).reshape(len(t), len(heads))
    there = np.isfinite(rows)  # a meter shows no figure while it is overloaded
    changes = tuple((float(at), str(word)) for body in bodies for at, word in body["lane"])
    if len(t) < 2 and len(changes) < 2:
        return None
    channels = (
        [Channel(title, unit, t[there[:, n]], rows[there[:, n], n]) for n, (title, unit) in enumerate(heads)] if len(t) else []
    )
    return Recording(tuple(channels), (Lane(command, changes, True),) if command and changes else ())
