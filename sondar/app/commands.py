"""Live data and commands: a run is carried out by one process, watched by one page, and recorded from the first moment to the last.

Control is given back when it is stopped, when its time is over, when the finger is lifted, when the page is left, and when anything goes
wrong. What has been recorded up to then is kept. One run at a time per vehicle.
"""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any
from uuid import UUID

import numpy as np
import structlog

from sondar.app import job_record, measuring
from sondar.app.case import Case, load_case
from sondar.app.computed import Computed
from sondar.app.jobs import JobRecord, load_record
from sondar.app.judging import WantedTest
from sondar.app.measuring import WantedReading
from sondar.app.workspace import Workspace, known_job
from sondar.circuit_files import load_vehicle_text
from sondar.core.circuit.document.fields import VehicleModel
from sondar.core.circuit.vehicle import CommandItem, RoutineItem, VehicleDocument
from sondar.core.commanded import NOTICED, parts_that_answer, set_up_for
from sondar.core.errors import ConflictError, RefusedError, UnavailableError, invalid
from sondar.core.instruments.functional_check import FunctionalCheck
from sondar.core.obd import FIGURES
from sondar.core.recordings.model import Channel, Lane, Recording
from sondar.core.recordings.packed import pack
from sondar.devices.commander import OBD, Link, LostError, RefusedByModuleError, link, obd_number
from sondar.store import commands as store
from sondar.store import recordings as recording_store
from sondar.store.commands import Covered, Run, Sign

log = structlog.get_logger()

FASTEST_S = 0.04
"""Pause between two looks at the vehicle, at least: most interfaces answer 10 to 25 times a second."""
LOOKED_S, KEPT_S = 0.15, 0.5
"""How often the person's wish is looked for, and how often what was recorded is stored."""
HELD_S, LEFT_S = 0.9, 8.0
"""A finger counts as lifted, and a page as left, after so long without a sign."""
LONGEST_S = 600.0
MOST_STEPS = 40
ROUTINE = "routine:"
"""Before the id of a routine, where the id of a command stands."""
STOPS_AFTER_S = 5.0
"""A routine is stopped so long after the time that it may take."""
ASKED_S = 0.3
"""How often a routine is asked for its result."""
UNDESCRIBED = VehicleDocument.model_construct(
    vehicle=VehicleModel.model_construct(make="", model=""),
    sondar_vehicle=1,
    id="undescribed",
    title="",
    circuits=[],
    addresses={},
    data={},
    commands={},
    routines={},
    obd=None,
    shared={},
)
"""A vehicle that nobody has described: what every vehicle offers can be recorded."""
MAY_BE_ACTIVE = "Control may still be active: switch the key off."


@dataclass(frozen=True)
class Step:
    """A position, and for how long."""

    position: str
    seconds: float


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


@dataclass(frozen=True)
class Offered:
    """What a job's vehicle offers, and what is known of it.

    Attributes:
        reason: why nothing can be commanded or recorded; empty if it can. numbers: figures of OBD service 01 that it said it offers.
    """

    reason: str
    document: VehicleDocument | None
    numbers: list[int]
    coverage: list[Covered]
    running: Run | None


def offered(work: Workspace, job_id: UUID) -> Offered:
    """What can be recorded and commanded."""
    with work.transaction() as db:
        job = known_job(db, job_id)
        record = load_record(db, job_id)
        covered, now = store.coverage(db, job.make, job.model), store.running(db, job_id)
    document = None if record.model is None else load_vehicle_text(record.model.source_text)
    numbers = [int(number, 16) for number in job_record.value_of(record.answers, "obd_figures", [])]
    reason = ""
    if not work.devices.vehicle(record.job.simulated_vehicle):
        reason = "No vehicle interface is connected. Add a file of your scan tool instead."
    return Offered(reason, document, numbers, covered, now)


def start(work: Workspace, job_id: UUID, wanted: WantedRun) -> Run:
    """Begin a run; it goes on in the background.

    Raises:
        InvalidError: no such command, position or channel. ConflictError: the vehicle is being commanded already.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
    document, address = _vehicle(work, record)
    command, routine = _checked(document, wanted), _checked_routine(document, wanted)
    item = command or routine
    title = item.title if item is not None else "Live data"
    with work.transaction() as db:
        recording_id = recording_store.begin(db, job_id, wanted.client_key, title, "vehicle", 0, "reading")
        begun = store.begin(
            db,
            job_id,
            recording_id,
            address,
            f"{ROUTINE}{wanted.routine}" if routine else wanted.command,
            title,
            item.module if item else "",
            bool(command and command.hold),
        )
        if begun is None:
            raise ConflictError(
                "Vehicle in use", "Another tablet commands or records this vehicle. Wait until it has ended, or stop it there."
            )
        run_id, new = begun
        found = store.run(db, run_id)
    if new:
        work.meanwhile(lambda: _carry_out(work, found, document, address, wanted))
    return found


def _vehicle(work: Workspace, record: JobRecord) -> tuple[VehicleDocument, str]:
    address = work.devices.vehicle(record.job.simulated_vehicle)
    if not address:
        raise UnavailableError("Vehicle not connected", "No vehicle interface is connected.")
    return UNDESCRIBED if record.model is None else load_vehicle_text(record.model.source_text), address


def _checked_routine(document: VehicleDocument, wanted: WantedRun) -> RoutineItem | None:
    if not wanted.routine:
        return None
    if wanted.command:
        raise invalid("routine", "either a command or a routine, not both")
    item = document.routines.get(wanted.routine)
    if item is None:
        raise invalid(
            "routine", f"'{wanted.routine}' is not among the routines: {', '.join(document.routines) or 'there are none'}"
        )
    return item


def _is_known(document: VehicleDocument, name: str) -> bool:
    try:
        number = obd_number(name)
    except ValueError:
        return False
    return name in document.data if number is None else number in FIGURES


def _checked(document: VehicleDocument, wanted: WantedRun) -> CommandItem | None:
    for name in wanted.channels:
        if not _is_known(document, name):
            raise invalid(
                "channels", f"'{name}' is not among the live data: {', '.join(document.data)}, or a number such as {OBD}0C"
            )
    if not wanted.command:
        if not wanted.channels and not wanted.routine:
            raise invalid("channels", "choose at least one figure to record")
        return None
    item = document.commands.get(wanted.command)
    if item is None:
        raise invalid("command", f"'{wanted.command}' is not among the commands: {', '.join(document.commands)}")
    if item.hold and wanted.steps:
        raise invalid("steps", f"{item.title} may hurt someone: it runs only while a finger holds it")
    if not item.hold and not wanted.steps:
        raise invalid("steps", "say at least one position and for how long")
    if len(wanted.steps) > MOST_STEPS or sum(step.seconds for step in wanted.steps) > LONGEST_S:
        raise invalid("steps", f"at most {MOST_STEPS} steps and {LONGEST_S / 60:.0f} minutes")
    for step in wanted.steps:
        if step.position not in item.positions:
            raise invalid("steps", f"{item.title} has no position '{step.position}': {', '.join(item.positions)}")
    return item


@dataclass
class _Taken:
    """What has been recorded; ``fresh`` is not stored yet. One thread adds, another stores."""

    document: VehicleDocument
    channels: tuple[str, ...]
    begun: float = field(default_factory=time.monotonic)
    stored: int = 0
    fresh: dict[str, list[Any]] = field(default_factory=lambda: {"t": [], "rows": [], "lane": []})
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @property
    def now(self) -> float:
        """Seconds since it began."""
        return time.monotonic() - self.begun

    def add(self, at_s: float, row: list[float]) -> None:
        """One figure of every channel."""
        with self._lock:
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
        body = json.dumps({"channels": [_head(self.document, name) for name in self.channels], **taken}).encode()
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


def _carry_out(work: Workspace, run: Run, document: VehicleDocument, address: str, wanted: WantedRun) -> None:
    """Connect, command and record until it is over, and say how it went."""
    item, routine = document.commands.get(wanted.command), document.routines.get(wanted.routine)
    taken = _Taken(document, wanted.channels)
    modules = {document.data[name].module for name in wanted.channels if obd_number(name) is None}
    modules |= {one.module for one in (item, routine) if one is not None}
    emissions = None
    if any(obd_number(name) is not None for name in wanted.channels):
        emissions = document.obd.module if document.obd else ""
        modules |= {emissions} if emissions else set()
    state, said = "stopped", "It ended by an error of the program."
    try:
        with link(address, {name: document.addresses[name] for name in sorted(modules)}, document.data, emissions) as line:
            line.watch(wanted.channels)
            if routine is not None:
                state, said = _follow_routine(work, run, line, routine, taken)
            else:
                state, said = _follow(work, run, line, item, wanted, taken)
    except RefusedByModuleError as error:
        state, said = "refused", error.detail
    except LostError as error:
        state, said = "lost", f"{error.detail}. {MAY_BE_ACTIVE if item or routine else ''}".strip()
    except RefusedError as error:
        state, said = "lost", error.detail
    finally:
        _finish(work, run, taken, state, said)


def _follow(work: Workspace, run: Run, line: Link, item: CommandItem | None, wanted: WantedRun, taken: _Taken) -> tuple[str, str]:
    rest = next(iter(item.positions)) if item else ""
    if item:
        line.begin(item.module)
        taken.change(0.0, rest)
    over = sum(step.seconds for step in wanted.steps) + wanted.seconds if not (item and item.hold) else LONGEST_S
    state, said = "ended", ""
    beside = _Beside(work, run, taken, rest)
    try:
        while taken.now < min(over, LONGEST_S):
            now = taken.now
            if beside.stop or beside.left:
                state, said = "stopped", "Stopped." if beside.stop else "The page was left: control was given back."
                break
            position = _wanted_position(item, wanted.steps, now, beside.held) if item else ""
            if item and position != beside.position:
                _put(line, item, position, beside, taken)
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
    finally:
        beside.close()
    taken.change(taken.now, result)
    with work.transaction() as db:
        store.noticed(db, run.id, result)
    return "ended", "" if result == next(iter(item.results)) else f"Result: {result}."


def _put(line: Link, item: CommandItem, position: str, beside: _Beside, taken: _Taken) -> None:
    """Bring something into a position, or give it back if that is rest."""
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
    taken.change((asked + taken.now) / 2, position)


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
    elif values := line.read():
        # The module sampled it somewhere between the request and its answer.
        taken.add((before + taken.now) / 2, [values[name] for name in taken.channels])


def _finish(work: Workspace, run: Run, taken: _Taken | None, state: str, said: str) -> None:
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
    changes = tuple((float(at), str(word)) for body in bodies for at, word in body["lane"])
    if len(t) < 2 and len(changes) < 2:
        return None
    channels = (
        [Channel(title, unit, t, np.ascontiguousarray(rows[:, n])) for n, (title, unit) in enumerate(heads)] if len(t) else []
    )
    return Recording(tuple(channels), (Lane(command, changes, True),) if command and changes else ())


@dataclass(frozen=True)
class Going:
    """A run as it stands, with what was recorded from piece ``first`` on."""

    run: Run
    heads: list[list[str]]
    t: list[float]
    rows: list[list[float]]
    lane: list[tuple[float, str]]
    next_piece: int


def going(work: Workspace, run_id: UUID, first: int) -> Going:
    """How a run goes. One that was left by the process that carried it out is ended, and what it recorded is kept."""
    with work.transaction() as db:
        run = store.run(db, run_id)
        bodies = recording_store.piece_bodies(db, run.recording_id, first) if run.state == "running" else []
    if run.left:
        _finish(work, run, None, "lost", f"The program that gave it has ended. {MAY_BE_ACTIVE if run.command else ''}".strip())
        with work.transaction() as db:
            run = store.run(db, run_id)
    pieces = [json.loads(body) for body in bodies]
    return Going(
        run, next((p["channels"] for p in pieces), []), [t for p in pieces for t in p["t"]], [row for p in pieces for row in p["rows"]],
        [(float(at), str(word)) for p in pieces for at, word in p["lane"]], first + len(pieces),
    )  # fmt: skip


def hold(work: Workspace, run_id: UUID, number: int, held: bool | None) -> Run:
    """The page is there, with its sign of that number; ``held`` says whether a finger holds the command (None where nothing is held)."""
    with work.transaction() as db:
        store.heard(db, run_id, number, None if held is None else (HELD_S if held else 0.0))
        return store.run(db, run_id)


def stop(work: Workspace, run_id: UUID) -> Run:
    """End a run: control is given back at once."""
    with work.transaction() as db:
        store.run(db, run_id)
        store.ask_to_stop(db, run_id)
        return store.run(db, run_id)


@dataclass(frozen=True)
class Watched:
    """A part of a circuit that is being tested and that answers a command."""

    diagnosis_id: UUID
    part: str
    title: str


def watched(work: Workspace, run_id: UUID) -> list[Watched]:
    """Parts that answer the command of a run, in the circuits of its job that are being tested."""
    with work.transaction() as db:
        run = store.run(db, run_id)
        record = load_record(db, run.job_id)
        cases = [load_case(db, diagnosis.id) for diagnosis in record.diagnoses]
    found: list[Watched] = []
    item = _item(record, run)
    if item is not None:
        for case in cases:
            parts = work.compute(case.version.id, _answering, case, item)
            found += [Watched(case.diagnosis.id, part, title) for part, title in parts]
    return found


def _item(record: JobRecord, run: Run) -> CommandItem | None:
    return None if record.model is None else load_vehicle_text(record.model.source_text).commands.get(run.command)


def _answering(computed: Computed, case: Case, item: CommandItem) -> list[tuple[str, str]]:
    circuit = computed.circuit(case.version)
    parts = parts_that_answer(circuit, item.control, list(item.positions)[1], item.requires)
    return [(part, circuit.point(part).title) for part in parts]


def count_as_check(work: Workspace, run_id: UUID, client_key: UUID, diagnosis_id: UUID, part: str) -> bool:
    """Record what was noticed of a command as a functional check of a part that answers it; False if this key was there already.

    Raises:
        InvalidError: nothing was noticed that says something about the part, or the part does not answer this command.
    """
    with work.transaction() as db:
        run = store.run(db, run_id)
        record = load_record(db, run.job_id)
        case = load_case(db, diagnosis_id)
    item, word = _item(record, run), NOTICED.get(run.found)
    if item is None or word is None:
        raise invalid("found", f"say first what you noticed: {', '.join(NOTICED)}")
    if case.job.id != run.job_id or part not in [ref for ref, _ in work.compute(case.version.id, _answering, case, item)]:
        raise invalid("part", f"{part} does not answer {run.title}")
    controls, black = work.compute(case.version.id, _given, case, item)
    test = WantedTest(FunctionalCheck.id, part, black, controls, [])
    note = f"{run.title} commanded by the scan tool: {run.found}"
    _, added = measuring.record(work, diagnosis_id, WantedReading(client_key, test, word, note=note, sure=True), measuring.nothing)
    return added


def _given(computed: Computed, case: Case, item: CommandItem) -> tuple[dict[str, str], str]:
    """Controls in which a command was given, and the point that readings are taken against."""
    circuit = computed.circuit(case.version)
    return set_up_for(circuit, item.control, list(item.positions)[1], item.requires), circuit.black_reference


def noticed(work: Workspace, run_id: UUID, found: str) -> Run:
    """Keep what a person noticed that a command did."""
    with work.transaction() as db:
        run = store.run(db, run_id)
        if not run.command:
            raise invalid("found", "nothing was commanded")
        store.noticed(db, run_id, found)
        return store.run(db, run_id)
