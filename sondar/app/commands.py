"""Live data, commands and routines: a run is begun here, carried out by one process (``command_runs``), and watched by one page.

Control is given back when it is stopped, when its time is over, when the finger is lifted, when the page is left, and when anything goes
wrong. What has been recorded up to then is kept. One run at a time per vehicle.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from uuid import UUID

from sondar.app import command_runs, job_record, measuring
from sondar.app.case import Case, load_case
from sondar.app.command_runs import LoggedMeter, WantedRun
from sondar.app.computed import Computed
from sondar.app.jobs import JobRecord, load_record
from sondar.app.judging import WantedTest
from sondar.app.measuring import WantedReading
from sondar.app.recorded_evidence import channel_tie
from sondar.app.room import room_for_recordings
from sondar.app.workspace import Workspace, known_job
from sondar.circuit_files import load_vehicle_text
from sondar.core.circuit.document.fields import VehicleModel
from sondar.core.circuit.vehicle import CommandItem, RoutineItem, VehicleDocument
from sondar.core.commanded import NOTICED, parts_that_answer, set_up_for
from sondar.core.errors import ConflictError, UnavailableError, invalid
from sondar.core.instruments import instrument
from sondar.core.instruments.functional_check import FunctionalCheck
from sondar.core.instruments.module_communication import RESPONDS, ModuleCommunication
from sondar.core.obd import FIGURES
from sondar.devices.commander import OBD, obd_number
from sondar.devices.meter import Placement
from sondar.store import commands as store
from sondar.store import recordings as recording_store
from sondar.store.commands import Covered, Run

MOST_STEPS = 40
ROUTINE = "routine:"
"""Before the id of a routine, where the id of a command stands."""
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


@dataclass(frozen=True)
class WantedMeter:
    """The bench meter recorded beside the vehicle, with its probes where a test of a circuit diagnosis puts them."""

    diagnosis_id: UUID
    test: WantedTest


@dataclass(frozen=True)
class Offered:
    """What a job's vehicle offers, and what is known of it.

    Attributes:
        reason: why nothing can be commanded or recorded; empty if it can. numbers: figures of OBD service 01 that it said it offers.
        locked: command -> codes that are stored and keep its module in a default reaction.
    """

    reason: str
    document: VehicleDocument | None
    numbers: list[int]
    coverage: list[Covered]
    running: Run | None
    locked: dict[str, list[str]]


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
    stored = {code.code for code in job_record.stored_now(record.codes)}
    commands = {} if document is None else document.commands
    locked = {name: [code for code in item.locked_by if code[:5] in stored] for name, item in commands.items()}
    return Offered(reason, document, numbers, covered, now, locked)


def start(work: Workspace, job_id: UUID, wanted: WantedRun, meter: WantedMeter | None = None) -> Run:
    """Begin a run; it goes on in the background.

    Args:
        meter: the bench meter as one more channel; alone it needs no vehicle interface.

    Raises:
        InvalidError: no such command, position or channel. ConflictError: the vehicle is being commanded already.
    """
    with work.transaction() as db:
        record = load_record(db, job_id)
    logged = None if meter is None else _logged(work, record, meter)
    alone = logged is not None and not (wanted.command or wanted.routine or wanted.channels)
    document, address = (UNDESCRIBED, work.devices.meter) if alone else _vehicle(work, record)
    command, routine = (
        (None, None) if alone else (_checked(document, wanted, logged is not None), _checked_routine(document, wanted))
    )
    item = command or routine
    title = item.title if item is not None else logged.title if logged is not None and alone else "Live data"
    with work.transaction() as db:
        room_for_recordings(db)
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
        stored = [code.code for code in job_record.stored_now(record.codes) if code.module in (None, "", found.module)]
        locking = {code[:5] for code in command.locked_by} if command else set()
        stored = [code for code in stored if not locking or code in locking]
        work.meanwhile(lambda: command_runs.carry_out(work, found, document, address, wanted, logged, stored))
    return found


def _logged(work: Workspace, record: JobRecord, wanted: WantedMeter) -> LoggedMeter:
    """The meter at the points of a test.

    Raises:
        UnavailableError: no meter is connected. InvalidError: another job's circuit, or an instrument that shows no figures.
    """
    if not work.devices.meter:
        raise UnavailableError("Meter not read", "no meter is connected")
    device, test = instrument(wanted.test.instrument), wanted.test
    if wanted.diagnosis_id not in [diagnosis.id for diagnosis in record.diagnoses]:
        raise invalid("meter.diagnosis_id", "this circuit diagnosis belongs to another job")
    if not device.figures or not device.query:
        raise invalid("meter.instrument", f"a {device.title.lower()} shows nothing that a meter could log")
    checked = measuring.checked(work, wanted.diagnosis_id, test)
    tie = channel_tie(wanted.diagnosis_id, device.id, checked.red, checked.black, dict(checked.setup.controls))
    title = f"{device.title}, {checked.red} to {checked.black}"
    placement = Placement(record.job.simulated_vehicle, checked.setup, checked.red, checked.black)
    return LoggedMeter(work.devices.meter, device.id, placement, title, device.unit, tie)


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


def _checked(document: VehicleDocument, wanted: WantedRun, metered: bool = False) -> CommandItem | None:
    for name in wanted.channels:
        if not _is_known(document, name):
            raise invalid(
                "channels", f"'{name}' is not among the live data: {', '.join(document.data)}, or a number such as {OBD}0C"
            )
    if not wanted.command:
        if not wanted.channels and not wanted.routine and not metered:
            raise invalid("channels", "choose at least one figure to record")
        return None
    item = document.commands.get(wanted.command)
    if item is None:
        raise invalid("command", f"'{wanted.command}' is not among the commands: {', '.join(document.commands)}")
    if item.hold and wanted.steps:
        raise invalid("steps", f"{item.title} may hurt someone: it runs only while a finger holds it")
    if not item.hold and not wanted.steps:
        raise invalid("steps", "say at least one position and for how long")
    if len(wanted.steps) > MOST_STEPS or sum(step.seconds for step in wanted.steps) > command_runs.LONGEST_S:
        raise invalid("steps", f"at most {MOST_STEPS} steps and {command_runs.LONGEST_S / 60:.0f} minutes")
    for step in wanted.steps:
        if step.position not in item.positions:
            raise invalid("steps", f"{item.title} has no position '{step.position}': {', '.join(item.positions)}")
    return item


@dataclass(frozen=True)
class Going:
    """A run as it stands, with what was recorded from piece ``first`` on."""

    run: Run
    heads: list[list[str]]
    t: list[float]
    rows: list[list[float | None]]
    lane: list[tuple[float, str]]
    next_piece: int


def going(work: Workspace, run_id: UUID, first: int) -> Going:
    """How a run goes. One that was left by the process that carried it out is ended, and what it recorded is kept."""
    with work.transaction() as db:
        run = store.run(db, run_id)
        bodies = recording_store.piece_bodies(db, run.recording_id, first) if run.state == "running" else []
    if run.left:
        command_runs.finish(
            work,
            run,
            None,
            "lost",
            f"The program that gave it has ended. {command_runs.MAY_BE_ACTIVE if run.command else ''}".strip(),
        )
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
        store.heard(db, run_id, number, None if held is None else (command_runs.HELD_S if held else 0.0))
        return store.run(db, run_id)


def stop(work: Workspace, run_id: UUID) -> Run:
    """End a run: control is given back at once."""
    with work.transaction() as db:
        store.run(db, run_id)
        store.ask_to_stop(db, run_id)
        return store.run(db, run_id)


@dataclass(frozen=True)
class Watched:
    """What a command tells of in a circuit that is being tested: a part that answers it, or the module that carried it out."""

    diagnosis_id: UUID
    part: str
    title: str


def watched(work: Workspace, run_id: UUID) -> list[Watched]:
    """Parts that answer the command of a run, and its module, in the circuits of its job that are being tested."""
    with work.transaction() as db:
        run = store.run(db, run_id)
        record = load_record(db, run.job_id)
        cases = [load_case(db, diagnosis.id) for diagnosis in record.diagnoses]
    found: list[Watched] = []
    item = _item(record, run)
    if item is not None:
        for case in cases:
            parts = work.compute(case.version.id, _answering, case, item, run.state)
            found += [Watched(case.diagnosis.id, part, title) for part, title in parts]
    return found


def _item(record: JobRecord, run: Run) -> CommandItem | None:
    return None if record.model is None else load_vehicle_text(record.model.source_text).commands.get(run.command)


def _answering(computed: Computed, case: Case, item: CommandItem, state: str) -> list[tuple[str, str]]:
    circuit = computed.circuit(case.version)
    parts = parts_that_answer(circuit, item.control, list(item.positions)[1], item.requires)
    found = [(part, circuit.point(part).title) for part in parts]
    if state in CARRIED_OUT and item.module in circuit.targets:
        # Whatever it moved, a module that carries out a command has supply, ground and bus.
        found.append((item.module, f"{circuit.point(item.module).title}, which carried it out"))
    return found


CARRIED_OUT = ("ended", "stopped")
"""States of a run in which the module has done what it was asked."""


def count_as_check(work: Workspace, run_id: UUID, client_key: UUID, diagnosis_id: UUID, part: str) -> bool:
    """Record what a command told of a circuit: what was noticed of a part, as a functional check, or that its module responds.

    Returns:
        False if this key was there already.

    Raises:
        InvalidError: nothing was noticed that says something about the part, or it does not answer this command.
    """
    with work.transaction() as db:
        run = store.run(db, run_id)
        record = load_record(db, run.job_id)
        case = load_case(db, diagnosis_id)
    item = _item(record, run)
    if item is None or case.job.id != run.job_id:
        raise invalid("part", f"{part} does not answer {run.title}")
    of_module = part == item.module
    device, word = (ModuleCommunication.id, RESPONDS) if of_module else (FunctionalCheck.id, NOTICED.get(run.found))
    if word is None:
        raise invalid("found", f"say first what you noticed: {', '.join(NOTICED)}")
    if part not in [ref for ref, _ in work.compute(case.version.id, _answering, case, item, run.state)]:
        raise invalid("part", f"{part} does not answer {run.title}")
    controls, black = work.compute(case.version.id, _given, case, item)
    test = WantedTest(device, part, black, controls, [])
    note = f"{run.title} commanded by the scan tool: {'the module carried it out' if of_module else run.found}"
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
