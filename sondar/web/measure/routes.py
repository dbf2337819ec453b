"""The bench of a job: assessment, readings, voidings, exclusions, the meter, the conclusion."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from typing import Any
from uuid import UUID, uuid5

from flask_openapi3 import APIBlueprint, Tag

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.belief import Array, Reading, check_reading, starting_prior, update
from sondar.core.diagnosis.entry_check import meant_instead
from sondar.core.diagnosis.expected_values import expected_values
from sondar.core.diagnosis.judge import assess, proposal_view, reading_label
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import Situation, evaluate
from sondar.core.diagnosis.tests import Test, lookers
from sondar.core.diagnosis.views import ProposalView
from sondar.core.diagnosis.waveform import trace_of
from sondar.core.errors import QuantityError, UnknownReferenceError
from sondar.core.instruments import FINDINGS, INSTRUMENTS, instrument
from sondar.core.limits.card import limits_card
from sondar.core.quantities import parse_entry
from sondar.core.triage.prior_factors import fault_factors, reasons
from sondar.devices.meter import Placement, read_meter
from sondar.store import codes, evidence, intake, people
from sondar.store import jobs as job_store
from sondar.store.database import Db
from sondar.web import job_record
from sondar.web.measure.models import (
    ConclusionIn,
    DiagnosisPath,
    ExclusionIn,
    Exclusions,
    ExpectedOverlay,
    MeasuringView,
    MeterReading,
    MeterView,
    OverlayQuery,
    ProblemDetails,
    ReadingIn,
    ReadingOut,
    ReadingPath,
    TestIn,
    TraceView,
    VoidIn,
)
from sondar.web.problems import ProblemError, field_problem
from sondar.web.services import services
from sondar.web.views import diagnosis_view, job_view, known_diagnosis

api = APIBlueprint(
    "bench",
    __name__,
    url_prefix="/api/v1",
    abp_tags=[Tag(name="bench")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)

ALL_TOOLS = tuple(INSTRUMENTS)


def _reading(predictor: Predictor, stored: evidence.StoredReading) -> Reading:
    setup = predictor.circuit.setup(stored.controls, frozenset(stored.unplugged), stored.temperature_c)
    test = Test(stored.instrument, stored.red, stored.black, setup)
    return Reading(str(stored.id), test, stored.value_si, stored.state, stored.resolution_si, stored.present, stored.meter_error_si)


@dataclass(frozen=True)
class Case:
    """Everything that is stored of a diagnosis, read in one transaction."""

    job: job_store.Job
    diagnosis: job_store.CircuitDiagnosis
    stored: list[evidence.StoredReading]
    excluded: dict[str, list[str]]
    answers: dict[str, intake.Answer]
    codes: job_record.CodeFile
    workshop: people.Workshop
    meters: list[people.Meter]

    def predictor(self) -> Predictor:
        """The predictor of its circuit, for the tools of the workshop."""
        return services().predictor(self.diagnosis.circuit_version_id, self.job.temperature_c, self.workshop.tools)

    def standing(self, predictor: Predictor) -> list[Reading]:
        """Readings that were not taken back."""
        return [_reading(predictor, item) for item in self.stored if item.voided_because is None]

    def prior(self, predictor: Predictor) -> Array:
        """Belief before the first reading: from the triage, or from the intake's answers."""
        factors = fault_factors(predictor.circuit, job_record.intake_answers(self.answers))
        return starting_prior(predictor.hypotheses, self.diagnosis.triage_prior, factors)

    def bench(self, predictor: Predictor, readings: list[Reading]) -> Situation:
        """Where the technician stands after these readings."""
        circuit = predictor.circuit
        measured = [r.test.setup for r in readings if INSTRUMENTS[r.test.instrument].kind not in FINDINGS]
        setup = measured[-1] if measured else circuit.rest_setup(self.job.temperature_c)
        opened = {circuit.point(ref).place for reading in readings for ref in (reading.test.red, reading.test.black)}
        for reading in readings:
            opened |= reading.test.setup.unplugged
        tools = tuple(t for t in ALL_TOOLS if t in self.workshop.tools and t not in self.excluded["instrument"])
        return Situation(
            setup, frozenset(opened), tools, frozenset(self.excluded["point"]), decision_threshold=self.workshop.decision_threshold,
            rate_per_hour=float(self.workshop.rate_per_hour),
        )  # fmt: skip


def load_case(db: Db, diagnosis_id: UUID) -> Case:
    """A diagnosis of this workshop with everything stored of it.

    Raises:
        ProblemError: 404.
    """
    job, diagnosis = known_diagnosis(db, diagnosis_id)
    answers = intake.answers_of(db, job.id)
    return Case(
        job, diagnosis, evidence.readings_of(db, diagnosis_id), evidence.exclusions_of(db, diagnosis_id), answers,
        job_record.code_file(codes.scans_of(db, job.id), codes.clearings_of(db, job.id), answers), people.workshop(db), people.meters(db),
    )  # fmt: skip


def bench_view(db: Db, diagnosis_id: UUID) -> MeasuringView:
    """The whole bench, recomputed from the evidence that stands."""
    case = load_case(db, diagnosis_id)
    predictor = case.predictor()
    standing = case.standing(predictor)
    here = case.bench(predictor, standing)
    result = assess(predictor, standing, here, case.prior(predictor))
    likely = [
        predictor.circuit.setup(p.test.setup.controls, frozenset(p.test.setup.unplugged), case.job.temperature_c)
        for p in result.proposals[:3]
    ]
    services().prepare(predictor, [replace(here, setup=setup) for setup in dict.fromkeys(likely)])
    listed = []
    for item in case.stored:
        reading = _reading(predictor, item)
        listed.append(
            ReadingOut(
                id=item.id, seq=item.seq, instrument=item.instrument, instrument_title=INSTRUMENTS[item.instrument].title,
                red=item.red, black=item.black, setup_text=reading.test.setup.describe(),
                controls=item.controls, unplugged=item.unplugged, entry=item.entry, label=reading_label(reading),
                source=item.source, note=item.note, created_at=item.created_at, voided_because=item.voided_because,
                by=item.by, present=item.present,
            )
        )  # fmt: skip
    known = reasons(predictor.circuit, job_record.intake_answers(case.answers))
    return MeasuringView(
        job=job_view(case.job), diagnosis=diagnosis_view(case.diagnosis), readings=listed, exclusions=Exclusions(**case.excluded), assessment=result,
        meter=bool(services().meter_address and case.job.simulated_vehicle),
        meters=[MeterView.model_validate(m.__dict__) for m in case.meters],
        limits=limits_card(predictor.circuit, standing, case.job.temperature_c),
        prior_reasons=(["Belief triage_prior over from the triage"] if case.diagnosis.triage_prior else []) + known,
    )  # fmt: skip


def _test(predictor: Predictor, body: TestIn, temperature_c: float) -> Test:
    device = instrument(body.instrument)
    circuit = predictor.circuit
    setup: Setup = circuit.setup(body.setup.controls, frozenset(body.setup.unplugged), temperature_c)
    if device.kind in FINDINGS:
        setup = circuit.rest_setup(temperature_c)  # what is found does not depend on the key: the same finding twice is a repeat
    for ref in (body.red, body.black):
        point = circuit.point(ref)
        if not point.reachable(setup):
            raise ProblemError(422, "Point not reachable", f"{point.title} can only be touched with {point.connector} unplugged", [
                {"field": "red" if ref == body.red else "black", "message": f"unplug {point.connector} first", "line": None}])  # fmt: skip
    if not device.probes:
        _check_target(predictor, body)
    elif body.red not in circuit.points:
        raise UnknownReferenceError("point", body.red, list(circuit.points))
    elif body.black not in circuit.points:
        raise UnknownReferenceError("point", body.black, list(circuit.points))
    elif circuit.node(body.red) == circuit.node(body.black):
        raise ProblemError(422, "Both leads on one point", f"{body.red} and {body.black} are joined: move one lead", [
            {"field": "black", "message": "choose another point", "line": None}])  # fmt: skip
    return Test(body.instrument, body.red, body.black, setup)


def _check_target(predictor: Predictor, body: TestIn) -> None:
    """An instrument without leads must look at something it can see."""
    device, circuit = INSTRUMENTS[body.instrument], predictor.circuit
    if body.red not in circuit.targets or device not in lookers(circuit, body.red):
        raise field_problem("red", f"the {device.title.lower()} cannot look at {body.red}: choose what it can see")


@api.get("/diagnoses/<uuid:diagnosis_id>/bench", responses={"200": MeasuringView})
def show_bench(path: DiagnosisPath) -> Any:
    """Assessment, readings and next test."""
    with services().transaction() as db:
        return bench_view(db, path.diagnosis_id).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/readings", responses={"201": MeasuringView, "200": MeasuringView})
def add_reading(path: DiagnosisPath, body: ReadingIn) -> Any:
    """Append a reading; answer with the bench as it stands after it. The same client key again changes nothing."""
    with services().transaction() as db:
        case = load_case(db, path.diagnosis_id)
        predictor = case.predictor()
        test = _test(predictor, body, case.job.temperature_c)
        entry = parse_entry(body.entry)
        device = INSTRUMENTS[body.instrument]
        if entry.unit is not None and entry.unit != device.unit:
            raise QuantityError(body.entry, f"{device.unit or 'a word'} from the {device.title.lower()}")
        new_reading = Reading("new", test, entry.value, entry.state, entry.resolution)
        check_reading(new_reading)
        if not body.sure and (meant := meant_instead(predictor, new_reading)) is not None:
            said = reading_label(new_reading)
            raise ProblemError(409, "Order of magnitude", f"{said}? What is likely here is of another size. Did you mean {meant}?", [
                {"field": "entry", "message": f"did you mean {meant}?", "line": None}], meant=meant)  # fmt: skip
        meter = people.meter(db, body.meter_id) if body.meter_id is not None else None
        if body.meter_id is not None and meter is None:
            raise field_problem("meter_id", "no such meter: choose one of the list")
        worse = 0.0
        if meter is not None and entry.value is not None:
            usual = device.error_share * abs(entry.value) + device.error_floor
            worse = max(0.0, meter.error(device.kind, entry.value) - usual)
        new = evidence.NewReading.of(
            body.client_key, test, body.entry, entry, body.source, body.note,
            present=job_record.present_now(predictor.circuit, case.codes, case.answers), meter_id=body.meter_id, meter_error_si=worse,
        )  # fmt: skip
        added = evidence.append_reading(db, case.diagnosis, new)
        if added and body.supersedes is not None:
            key = uuid5(body.client_key, "supersedes")
            if evidence.void_reading(db, case.diagnosis, body.supersedes, key, f"Corrected to {body.entry}") == "unknown":
                raise field_problem("supersedes", f"this bench has no reading {body.supersedes}", 404)
    # Committed: from here on the reading is safe, whatever happens to the answer.
    with services().transaction() as db:
        return bench_view(db, path.diagnosis_id).model_dump(mode="json"), 201 if added else 200


@api.post("/diagnoses/<uuid:diagnosis_id>/readings/<uuid:reading_id>/void", responses={"200": MeasuringView})
def void_(path: ReadingPath, body: VoidIn) -> Any:
    """Take a reading back, with the reason; it stays in the record and no longer counts."""
    with services().transaction() as db:
        _, diagnosis = known_diagnosis(db, path.diagnosis_id)
        if evidence.void_reading(db, diagnosis, path.reading_id, body.client_key, body.reason) == "unknown":
            raise ProblemError(404, "No such reading", f"diagnosis has no reading {path.reading_id}")
    with services().transaction() as db:
        return bench_view(db, path.diagnosis_id).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/exclusions", responses={"200": MeasuringView})
def exclude(path: DiagnosisPath, body: ExclusionIn) -> Any:
    """Rule out a point, place or instrument ("can't reach", "don't have it"), or bring it back."""
    with services().transaction() as db:
        job, diagnosis = known_diagnosis(db, path.diagnosis_id)
        circuit = services().predictor(diagnosis.circuit_version_id, job.temperature_c).circuit
        if body.kind == "instrument":
            instrument(body.name)
        elif body.name not in {p.place for p in circuit.points.values()}:
            circuit.point(body.name)
        evidence.append_exclusion(db, diagnosis, body.client_key, body.kind, body.name, body.excluded)
    with services().transaction() as db:
        return bench_view(db, path.diagnosis_id).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/preview", responses={"200": ProposalView})
def preview(path: DiagnosisPath, body: TestIn) -> Any:
    """The reckoning of a test of the technician's own choice: expected value, minutes, saving_per_min, outcomes."""
    with services().transaction() as db:
        case = load_case(db, path.diagnosis_id)
    predictor = case.predictor()
    test = _test(predictor, body, case.job.temperature_c)
    standing = case.standing(predictor)
    belief = update(predictor, standing, case.prior(predictor))
    proposal = evaluate(predictor, belief, case.bench(predictor, standing), test)
    if proposal is None:
        raise ProblemError(422, "Not a test Sondar stands behind", _why_not(predictor, test))
    return proposal_view(predictor, belief, proposal).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/trace", responses={"200": TraceView})
def trace(path: DiagnosisPath, body: TestIn) -> Any:
    """What an oscilloscope would draw at the test's points, healthy and for the leading suspect."""
    with services().transaction() as db:
        case = load_case(db, path.diagnosis_id)
    predictor = case.predictor()
    test = _test(predictor, body, case.job.temperature_c)
    if not INSTRUMENTS[test.instrument].probes:
        raise field_problem("instrument", "an oscilloscope has leads: choose an instrument that touches two points")
    belief = update(predictor, case.standing(predictor), case.prior(predictor))
    return TraceView(**trace_of(predictor, belief, test)).model_dump(mode="json")


def _why_not(predictor: Predictor, test: Test) -> str:
    device = INSTRUMENTS[test.instrument]
    if not device.probes:
        return "It tells nothing about this circuit here. The reading can still be recorded."
    if device.kind == "lamp" and not predictor.finder.lamp_allowed(test.red, test.black):
        return "A test lamp would overload a module's input or driver here, or feed supply where none belongs. Use the voltmeter."
    if device.kind == "ohms":
        return "Resistance is only measured with the key off and along or across one part. Put the key off or choose other points."
    return "These two points tell nothing about this circuit that a better pair would not. The reading can still be recorded."


def _controls(text: str) -> dict[str, str]:
    try:
        found = json.loads(text)
    except ValueError:
        found = None
    if not isinstance(found, dict) or not all(isinstance(v, str) for v in found.values()):
        raise field_problem("controls", 'not an object of control positions, e.g. {"key": "on"}')
    return found


@api.get("/diagnoses/<uuid:diagnosis_id>/expected-values", responses={"200": ExpectedOverlay})
def ghosts(path: DiagnosisPath, query: OverlayQuery) -> Any:
    """What a voltmeter would show all over the circuit if a unit were at fault, in a set-up; for laying over the drawing."""
    with services().transaction() as db:
        case = load_case(db, path.diagnosis_id)
    predictor = case.predictor()
    setup = predictor.circuit.setup(
        _controls(query.controls), frozenset(filter(None, query.unplugged.split(","))), case.job.temperature_c
    )
    readings = case.standing(predictor)
    view = expected_values(predictor, update(predictor, readings, case.prior(predictor)), query.unit, setup)
    return ExpectedOverlay(**view).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/meter", responses={"200": MeterReading, "502": ProblemDetails})
def meter(path: DiagnosisPath, body: TestIn) -> Any:
    """What the connected meter shows with its leads where the test puts them; nothing is recorded."""
    with services().transaction() as db:
        job, diagnosis = known_diagnosis(db, path.diagnosis_id)
    if not services().meter_address:
        raise ProblemError(502, "Meter not read", "no meter is connected: type the reading")
    predictor = services().predictor(diagnosis.circuit_version_id, job.temperature_c)
    test = _test(predictor, body, job.temperature_c)
    entry = read_meter(
        services().meter_address, test.instrument, Placement(job.simulated_vehicle, test.setup, test.red, test.black)
    )
    return MeterReading(entry=entry).model_dump(mode="json")


@api.post("/diagnoses/<uuid:diagnosis_id>/conclusion", responses={"201": MeasuringView})
def conclude(path: DiagnosisPath, body: ConclusionIn) -> Any:
    """Call the conclusion as it stands now and keep it with its certainty."""
    with services().transaction() as db:
        _, diagnosis = known_diagnosis(db, path.diagnosis_id)
        standing = bench_view(db, path.diagnosis_id).assessment.conclusion
        evidence.append_conclusion(
            db, diagnosis, body.client_key,
            {"sentence": standing.sentence, "group": standing.group, "units": standing.units, "certainty": min(1.0, standing.certainty),
             "settled": standing.settled},
        )  # fmt: skip
    with services().transaction() as db:
        return bench_view(db, path.diagnosis_id).model_dump(mode="json"), 201
