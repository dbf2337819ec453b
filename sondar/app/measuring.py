"""Testing one circuit of a job: what stands, what a reading does to it, and what is concluded.

The way of every request: ``load_case`` in one transaction, ``judge_case`` with no connection held, the result to be presented once.
A reading is checked before it is stored, stored in a transaction of its own, and judged after that has been committed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from uuid import UUID, uuid5

from sondar.app import job_record
from sondar.app.computed import Computed
from sondar.app.workspace import Workspace, known_diagnosis, known_version
from sondar.core import ENGINE_VERSION
from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.after_repair import Repair, RepairedJudgement, before_now, judge_repaired
from sondar.core.diagnosis.belief import Array, Belief, starting_prior, update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.entry_check import meant_instead
from sondar.core.diagnosis.expected_values import ExpectedValues, expected_values
from sondar.core.diagnosis.judge import Judgement
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import Proposal, evaluate
from sondar.core.diagnosis.waveform import Waveform, waveform_of
from sondar.core.errors import (
    ConflictError,
    FieldProblem,
    InvalidError,
    NotFoundError,
    UnavailableError,
    UnknownReferenceError,
    invalid,
)
from sondar.core.former_names import current_id, current_word
from sondar.core.instruments import INSTRUMENTS, instrument
from sondar.core.instruments.access import access_of
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.instruments.voltmeter import Voltmeter
from sondar.core.limits.card import LimitView, limits_card
from sondar.core.triage.prior_factors import fault_factors, reasons
from sondar.core.wording import conclusion as words
from sondar.core.wording.labels import reading_label
from sondar.devices.meter import Placement, read_meter
from sondar.store import codes, evidence, intake, people
from sondar.store import jobs as job_store
from sondar.store.circuits import CircuitVersion
from sondar.store.database import Db


@dataclass(frozen=True)
class Case:
    """Everything that is stored of a circuit diagnosis, read in one transaction."""

    job: job_store.Job
    diagnosis: job_store.CircuitDiagnosis
    version: CircuitVersion
    stored: list[evidence.StoredReading]
    excluded: dict[str, list[str]]
    answers: dict[str, intake.Answer]
    codes: job_record.CodeFile
    workshop: people.Workshop
    meters: list[people.Meter]
    said: evidence.Statement | None
    repairs: list[evidence.StoredRepair]

    def predictor(self, computed: Computed) -> Predictor:
        """The predictor of its circuit, for the tools of the workshop."""
        known_to = job_record.temperature_sd(self.answers)
        return computed.predictor(self.version, self.job.temperature_c, map(current_id, self.workshop.tools), known_to)

    @property
    def valid(self) -> list[evidence.StoredReading]:
        """Readings that have not been voided."""
        return [item for item in self.stored if item.voided_because is None]

    @property
    def repaired(self) -> list[Repair]:
        """Repairs as the engine takes them."""
        return [
            Repair(tuple(item.units), item.action, sum(r.seq < item.seq for r in self.valid), item.substituted)
            for item in self.repairs
        ]


@dataclass(frozen=True)
class Measuring:
    """A case with what follows from it."""

    case: Case
    predictor: Predictor
    repaired: RepairedJudgement
    limits: list[LimitView]
    known_before: list[str]
    meter_connected: bool

    @property
    def judgement(self) -> Judgement:
        """The vehicle as it is now."""
        return self.repaired.now


@dataclass(frozen=True)
class WantedTest:
    """A test as somebody asks for it: controls that differ from rest, connectors disconnected."""

    instrument: str
    red: str
    black: str
    controls: dict[str, str]
    unplugged: Sequence[str]


@dataclass(frozen=True)
class WantedReading:
    """What somebody enters for a test.

    Attributes:
        sure: the order of magnitude was asked about and is meant.
        supersedes: reading that this one corrects: it is voided in the same step.
    """

    client_key: UUID
    test: WantedTest
    entry: str
    source: str = "typed"
    note: str = ""
    meter_id: UUID | None = None
    sure: bool = False
    supersedes: UUID | None = None


# -- load and judge -------------------------------------------------------------------------------------


def load_case(db: Db, diagnosis_id: UUID) -> Case:
    """A circuit diagnosis of this workshop with everything stored of it.

    Raises:
        NotFoundError: there is none.
    """
    job, diagnosis = known_diagnosis(db, diagnosis_id)
    answers = intake.answers_of(db, job.id)
    return Case(
        job, diagnosis, known_version(db, diagnosis.circuit_version_id), evidence.readings_of(db, diagnosis_id),
        evidence.exclusions_of(db, diagnosis_id), answers,
        job_record.code_file(codes.scans_of(db, job.id), codes.clearings_of(db, job.id), answers), people.workshop(db), people.meters(db),
        evidence.last_statement(db, diagnosis_id), evidence.repairs_of(db, diagnosis_id),
    )  # fmt: skip


def with_evidence(db: Db, case: Case) -> Case:
    """The case with the evidence as it stands after something was appended."""
    job, diagnosis = known_diagnosis(db, case.diagnosis.id)
    return replace(
        case, job=job, diagnosis=diagnosis, stored=evidence.readings_of(db, diagnosis.id), excluded=evidence.exclusions_of(db, diagnosis.id),
        repairs=evidence.repairs_of(db, diagnosis.id),
    )  # fmt: skip


def reading_of(predictor: Predictor, stored: evidence.StoredReading) -> Reading:
    """A stored reading as the engine takes it; former names of instruments and words are read as those of today."""
    setup = predictor.circuit.setup(stored.controls, frozenset(stored.unplugged), stored.temperature_c)
    test = Test(current_id(stored.instrument), stored.red, stored.black, setup)
    state = None if stored.state is None else current_word(stored.state)
    return Reading(str(stored.id), test, stored.value_si, state, stored.resolution_si, stored.present, stored.meter_error_si)


def prior_of(case: Case, predictor: Predictor) -> Array:
    """Belief before the first reading: from the triage, or from the history."""
    factors = fault_factors(predictor.circuit, job_record.intake_answers(case.answers))
    return starting_prior(predictor.hypotheses, case.diagnosis.triage_prior, factors)


def known_of(case: Case, predictor: Predictor) -> list[Reading]:
    """What was measured at intake: the battery's voltage, key off."""
    volts = job_record.intake_answers(case.answers).battery_v
    if volts is None:
        return []
    circuit = predictor.circuit
    test = Test(Voltmeter.id, f"{circuit.battery}.pos", circuit.black_reference, circuit.rest_setup(case.job.temperature_c))
    return [Reading("intake", test, volts, None, 0.005)]


def situation_of(case: Case, predictor: Predictor, readings: Sequence[Reading]) -> Situation:
    """Where the technician stands after these readings."""
    circuit = predictor.circuit
    measured = [r.test.setup for r in readings if not r.device.finding]
    setup = measured[-1] if measured else circuit.rest_setup(case.job.temperature_c)
    opened = {circuit.point(ref).place for reading in readings for ref in (reading.test.red, reading.test.black)}
    for reading in readings:
        opened |= reading.test.setup.unplugged
    at_hand, missing = set(map(current_id, case.workshop.tools)), set(map(current_id, case.excluded["instrument"]))
    return Situation(
        setup, frozenset(opened), tuple(name for name in INSTRUMENTS if name in at_hand - missing), frozenset(case.excluded["point"]),
        decision_threshold=case.workshop.decision_threshold, rate_per_hour=float(case.workshop.rate_per_hour),
        present=job_record.present_now(circuit, case.codes, case.answers),
    )  # fmt: skip


def judge_case(work: Workspace, case: Case) -> Measuring:
    """Judge a case; holds no connection."""
    predictor = case.predictor(work.computed)
    found, readings = judged(case, predictor)
    carried = ["Prior probabilities from the triage"] if case.diagnosis.triage_prior else []
    return Measuring(
        case, predictor, found, limits_card(predictor.circuit, readings, case.job.temperature_c),
        carried + reasons(predictor.circuit, job_record.intake_answers(case.answers)),
        bool(work.devices.meter and case.job.simulated_vehicle),
    )  # fmt: skip


def judged(case: Case, predictor: Predictor) -> tuple[RepairedJudgement, list[Reading]]:
    """The vehicle as it is now, and all readings that stand."""
    readings = [reading_of(predictor, item) for item in case.valid]
    found = judge_repaired(
        predictor,
        readings,
        situation_of(case, predictor, readings),
        case.repaired,
        prior_of(case, predictor),
        known_of(case, predictor),
    )
    return found, readings


def belief_of(case: Case, predictor: Predictor) -> tuple[Belief, list[Reading]]:
    """Belief about the vehicle as it is now, and all readings that stand."""
    readings = [reading_of(predictor, item) for item in case.valid]
    known = known_of(case, predictor)
    situation = situation_of(case, predictor, readings)
    prior, start, _ = before_now(predictor, readings, situation, case.repaired, prior_of(case, predictor), known)
    return update(predictor, readings[start:], prior, known), readings


def load_with_predictor(work: Workspace, diagnosis_id: UUID) -> tuple[Case, Predictor]:
    """A case and the predictor of its circuit; the connection is given back before that is looked for."""
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
    return case, case.predictor(work.computed)


def finish(work: Workspace, case: Case) -> Measuring:
    """Judge what has been committed, prepare the likely next steps, and keep what is said of it."""
    found = judge_case(work, case)
    _prepare_next(work, found)
    if case.valid:
        work.computed.later(lambda: _keep_statement(work, found))
    return found


def _prepare_next(work: Workspace, found: Measuring) -> None:
    ranking = found.judgement.ranking
    likely = dict.fromkeys(proposal.test.setup for proposal in ranking.proposals[:3])
    tests = [proposal.test for proposal in (*ranking.proposals[:3], *ranking.same_setup)]
    work.computed.prepare(found.predictor, [replace(found.judgement.situation, setup=setup) for setup in likely], tests)


def _keep_statement(work: Workspace, found: Measuring) -> None:
    ranking, valid = found.judgement.ranking, found.case.valid
    with work.transaction() as db:
        evidence.add_statement(
            db, found.case.diagnosis.id, len(valid), valid[-1].id, ENGINE_VERSION, words.sentence(found.judgement), list(ranking.leading),
            min(1.0, ranking.certainty),
        )  # fmt: skip


def said_before(found: Measuring) -> evidence.Statement | None:
    """What another version of the engine said of the same readings, where it named other units; None if nothing differs."""
    said, valid = found.case.said, found.case.valid
    if said is None or said.engine == ENGINE_VERSION or said.readings != len(valid):
        return None
    same = valid and said.last_reading == valid[-1].id
    return said if same and said.units != list(found.judgement.ranking.leading) else None


# -- what a person does ---------------------------------------------------------------------------------


def show(work: Workspace, diagnosis_id: UUID) -> Measuring:
    """The circuit diagnosis as it stands."""
    case, _ = load_with_predictor(work, diagnosis_id)
    found = judge_case(work, case)
    _prepare_next(work, found)
    return found


def record(work: Workspace, diagnosis_id: UUID, wanted: WantedReading) -> tuple[Measuring, bool]:
    """Append a reading; False beside the result if this client key was there already and nothing was added.

    Raises:
        InvalidError: point, set-up or entry not possible. ConflictError: another order of magnitude was probably meant.
    """
    case, predictor = load_with_predictor(work, diagnosis_id)
    work.computed.pause(predictor)
    test = wanted_test(predictor, wanted.test, case.job.temperature_c)
    device = instrument(test.instrument)
    entry = device.understand(wanted.entry)
    reading = Reading("new", test, entry.value, entry.state, entry.resolution)
    if not wanted.sure and (meant := meant_instead(predictor, reading)) is not None:
        detail = f"{reading_label(reading)}? What is likely here is of another size. Did you mean {meant}?"
        raise ConflictError("Order of magnitude", detail, [FieldProblem(("entry",), f"did you mean {meant}?")], meant=meant)
    with work.transaction() as db:
        meter = people.meter(db, wanted.meter_id) if wanted.meter_id is not None else None
        if wanted.meter_id is not None and meter is None:
            raise invalid("meter_id", "no such meter: choose one of the list")
        worse = 0.0
        if meter is not None and entry.value is not None:
            usual = device.error_share * abs(entry.value) + device.error_floor
            worse = max(0.0, meter.error(device.accuracy_of, entry.value) - usual)
        new = evidence.NewReading.of(
            wanted.client_key, test, wanted.entry, entry, wanted.source, wanted.note,
            present=job_record.present_now(predictor.circuit, case.codes, case.answers), meter_id=wanted.meter_id, meter_error_si=worse,
        )  # fmt: skip
        added = evidence.append_reading(db, case.diagnosis, new)
        if added and wanted.supersedes is not None:
            key = uuid5(wanted.client_key, "supersedes")
            if evidence.void_reading(db, case.diagnosis, wanted.supersedes, key, f"Corrected to {wanted.entry}") == "unknown":
                raise NotFoundError("No such reading", f"this diagnosis has no reading {wanted.supersedes} to correct")
        case = with_evidence(db, case)
    # Committed: from here on the reading is safe, whatever happens to the answer.
    return finish(work, case), added


def void(work: Workspace, diagnosis_id: UUID, reading_id: UUID, client_key: UUID, reason: str) -> Measuring:
    """Void a reading, with the reason; it stays in the record and no longer counts."""
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
        if evidence.void_reading(db, case.diagnosis, reading_id, client_key, reason) == "unknown":
            raise NotFoundError("No such reading", f"this diagnosis has no reading {reading_id}")
        case = with_evidence(db, case)
    return finish(work, case)


def exclude(work: Workspace, diagnosis_id: UUID, client_key: UUID, kind: str, name: str, excluded: bool) -> Measuring:
    """Exclude a point, a place or an instrument (cannot be reached, not at hand), or include it again."""
    case, predictor = load_with_predictor(work, diagnosis_id)
    if kind == "instrument":
        instrument(name)
    elif name not in {p.place for p in predictor.circuit.points.values()}:
        predictor.circuit.point(name)
    with work.transaction() as db:
        evidence.append_exclusion(db, case.diagnosis, client_key, kind, name, excluded)
        case = with_evidence(db, case)
    found = judge_case(work, case)
    _prepare_next(work, found)
    return found


def conclude(work: Workspace, diagnosis_id: UUID, client_key: UUID) -> Measuring:
    """Conclude as it stands now, and keep the diagnosis with its certainty."""
    found = show(work, diagnosis_id)
    ranking = found.judgement.ranking
    with work.transaction() as db:
        evidence.append_conclusion(
            db, found.case.diagnosis, client_key,
            {"sentence": words.sentence(found.judgement), "group": words.leading_suspect(found.judgement).group,
             "units": list(ranking.leading), "certainty": min(1.0, ranking.certainty), "settled": ranking.settled},
        )  # fmt: skip
        case = with_evidence(db, found.case)
    return replace(found, case=case)


def preview(work: Workspace, diagnosis_id: UUID, wanted: WantedTest) -> tuple[Predictor, Belief, Proposal]:
    """Cost and expected saving of a test of the technician's own choice.

    Raises:
        InvalidError: it is not among the tests Sondar stands behind; says why.
    """
    case, predictor = load_with_predictor(work, diagnosis_id)
    test = wanted_test(predictor, wanted, case.job.temperature_c)
    belief, readings = belief_of(case, predictor)
    proposal = evaluate(predictor, belief, situation_of(case, predictor, readings), test)
    if proposal is None:
        why = instrument(test.instrument).why_not(access_of(predictor.circuit), test)
        raise InvalidError("Not a test Sondar stands behind", why)
    return predictor, belief, proposal


def waveform(work: Workspace, diagnosis_id: UUID, wanted: WantedTest) -> tuple[Predictor, Waveform]:
    """What an oscilloscope would draw at a test's points."""
    case, predictor = load_with_predictor(work, diagnosis_id)
    test = wanted_test(predictor, wanted, case.job.temperature_c)
    if not instrument(test.instrument).probes:
        raise invalid("instrument", "an oscilloscope has probes: choose an instrument that touches two points")
    return predictor, waveform_of(predictor, belief_of(case, predictor)[0], test)


def overlay(
    work: Workspace, diagnosis_id: UUID, unit: str, controls: dict[str, str], unplugged: Sequence[str]
) -> tuple[Predictor, ExpectedValues]:
    """Predicted voltages under the most likely fault of a unit, or of a healthy circuit."""
    case, predictor = load_with_predictor(work, diagnosis_id)
    setup = predictor.circuit.setup(controls, frozenset(unplugged), case.job.temperature_c)
    return predictor, expected_values(predictor, belief_of(case, predictor)[0], unit, setup)


def read_connected_meter(work: Workspace, diagnosis_id: UUID, wanted: WantedTest) -> str:
    """What the connected meter shows with its probes where the test puts them; nothing is recorded."""
    case, predictor = load_with_predictor(work, diagnosis_id)
    if not work.devices.meter:
        raise UnavailableError("Meter not read", "no meter is connected: type the reading")
    test = wanted_test(predictor, wanted, case.job.temperature_c)
    placement = Placement(case.job.simulated_vehicle, test.setup, test.red, test.black)
    return read_meter(work.devices.meter, test.instrument, placement)


# -- what may be asked for ------------------------------------------------------------------------------


def wanted_test(predictor: Predictor, wanted: WantedTest, temperature_c: float) -> Test:
    """The test that is asked for, checked against the circuit.

    Raises:
        InvalidError: a point that cannot be touched in the set-up, both probes on one point, or nothing there to look at.
    """
    device, circuit = instrument(wanted.instrument), predictor.circuit
    setup: Setup = circuit.setup(wanted.controls, frozenset(wanted.unplugged), temperature_c)
    if device.finding:
        setup = circuit.rest_setup(temperature_c)  # it does not depend on the key: the same finding twice is a repeat
    for side, ref in (("red", wanted.red), ("black", wanted.black)):
        point = circuit.point(ref)
        if not point.reachable(setup):
            detail = f"{point.title} can only be touched with {point.connector} disconnected"
            raise InvalidError("Point not reachable", detail, [FieldProblem((side,), f"disconnect {point.connector} first")])
    if not device.probes:
        if wanted.red not in circuit.targets or not device.looks_at(circuit, wanted.red):
            raise invalid("red", f"the {device.title.lower()} cannot look at {wanted.red}: choose what it can see")
        return Test(device.id, wanted.red, wanted.black, setup)
    for ref in (wanted.red, wanted.black):
        if ref not in circuit.points:
            raise UnknownReferenceError("point", ref, list(circuit.points))
    if circuit.node(wanted.red) == circuit.node(wanted.black):
        detail = f"{wanted.red} and {wanted.black} are joined: move one probe"
        raise InvalidError("Both probes on one point", detail, [FieldProblem(("black",), "choose another point")])
    return Test(device.id, wanted.red, wanted.black, setup)
