"""The bench of a job: assessment, readings, retractions, exclusions, the meter, the verdict."""

from __future__ import annotations

from dataclasses import replace
from typing import Any
from uuid import UUID

from flask_openapi3 import APIBlueprint, Tag

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.assess import assess, proposal_view, reading_label
from sondar.core.diagnosis.belief import Reading, check_reading, update
from sondar.core.diagnosis.plan import Bench, evaluate
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.tests import Test
from sondar.core.diagnosis.views import ProposalView
from sondar.core.errors import QuantityError
from sondar.core.instruments import INSTRUMENTS, instrument
from sondar.core.quantities import parse_entry
from sondar.devices.meter import Placement, read_meter
from sondar.store import evidence
from sondar.store import jobs as job_store
from sondar.store.database import Db
from sondar.web.jobs import job_view
from sondar.web.models import (
    BenchView,
    ExclusionIn,
    Exclusions,
    JobPath,
    MeterReading,
    ProblemDetails,
    ReadingIn,
    ReadingOut,
    ReadingPath,
    RetractionIn,
    TestIn,
    VerdictIn,
)
from sondar.web.problems import ProblemError
from sondar.web.services import services

api = APIBlueprint(
    "bench",
    __name__,
    url_prefix="/api/v1",
    abp_tags=[Tag(name="bench")],
    abp_responses={"404": ProblemDetails, "422": ProblemDetails},
)

ALL_TOOLS = tuple(INSTRUMENTS)


def _job(db: Db, job_id: UUID) -> job_store.Job:
    found = job_store.job_by_id(db, job_id)
    if found is None:
        raise ProblemError(404, "No such job", f"no job {job_id}")
    return found


def _reading(predictor: Predictor, stored: evidence.StoredReading) -> Reading:
    setup = predictor.circuit.setup(stored.controls, frozenset(stored.unplugged), stored.temperature_c)
    test = Test(stored.instrument, stored.red, stored.black, setup)
    return Reading(str(stored.id), test, stored.value_si, stored.state, stored.resolution_si)


def _where_we_stand(predictor: Predictor, job: job_store.Job, readings: list[Reading], excluded: dict[str, list[str]]) -> Bench:
    circuit = predictor.circuit
    setup = readings[-1].test.setup if readings else circuit.rest_setup(job.temperature_c)
    opened = {circuit.point(ref).place for reading in readings for ref in (reading.test.red, reading.test.black)}
    for reading in readings:
        opened |= reading.test.setup.unplugged
    tools = tuple(tool for tool in ALL_TOOLS if tool not in excluded["instrument"])
    return Bench(setup, frozenset(opened), tools, frozenset(excluded["point"]))


def _load(db: Db, job_id: UUID) -> tuple[job_store.Job, list[evidence.StoredReading], dict[str, list[str]]]:
    job = _job(db, job_id)
    return job, evidence.readings_of(db, job_id), evidence.exclusions_of(db, job_id)


def bench_view(db: Db, job_id: UUID) -> BenchView:
    """The whole bench, recomputed from the evidence that stands."""
    job, stored, excluded = _load(db, job_id)
    predictor = services().predictor(job.circuit_version_id, job.temperature_c)
    standing = [_reading(predictor, item) for item in stored if item.retracted_because is None]
    here = _where_we_stand(predictor, job, standing, excluded)
    result = assess(predictor, standing, here)
    likely = [
        predictor.circuit.setup(p.test.setup.controls, frozenset(p.test.setup.unplugged), job.temperature_c)
        for p in result.proposals[:3]
    ]
    services().prepare(predictor, [replace(here, setup=setup) for setup in dict.fromkeys(likely)])
    listed = []
    for item in stored:
        reading = _reading(predictor, item)
        listed.append(
            ReadingOut(
                id=item.id, seq=item.seq, instrument=item.instrument, instrument_title=INSTRUMENTS[item.instrument].title,
                red=item.red, black=item.black, setup_text=reading.test.setup.describe(), entry=item.entry, label=reading_label(reading),
                source=item.source, note=item.note, created_at=item.created_at, retracted_because=item.retracted_because,
            )
        )  # fmt: skip
    return BenchView(
        job=job_view(job), readings=listed, exclusions=Exclusions(**excluded), assessment=result,
        meter=bool(services().meter_address and job.stand_in),
    )  # fmt: skip


def _test(predictor: Predictor, body: TestIn, temperature_c: float) -> Test:
    instrument(body.instrument)
    circuit = predictor.circuit
    setup: Setup = circuit.setup(body.setup.controls, frozenset(body.setup.unplugged), temperature_c)
    for ref in (body.red, body.black):
        point = circuit.point(ref)
        if not point.reachable(setup):
            raise ProblemError(422, "Point not reachable", f"{point.title} can only be touched with {point.connector} unplugged", [
                {"field": "red" if ref == body.red else "black", "message": f"unplug {point.connector} first", "line": None}])  # fmt: skip
    if circuit.node(body.red) == circuit.node(body.black):
        raise ProblemError(422, "Both leads on one point", f"{body.red} and {body.black} are joined: move one lead", [
            {"field": "black", "message": "choose another point", "line": None}])  # fmt: skip
    return Test(body.instrument, body.red, body.black, setup)


@api.get("/jobs/<uuid:job_id>/bench", responses={"200": BenchView})
def show_bench(path: JobPath) -> Any:
    """Assessment, readings and next test."""
    with services().transaction() as db:
        return bench_view(db, path.job_id).model_dump(mode="json")


@api.post("/jobs/<uuid:job_id>/readings", responses={"201": BenchView, "200": BenchView})
def add_reading(path: JobPath, body: ReadingIn) -> Any:
    """Append a reading; answer with the bench as it stands after it. The same client key again changes nothing."""
    with services().transaction() as db:
        job = _job(db, path.job_id)
        predictor = services().predictor(job.circuit_version_id, job.temperature_c)
        test = _test(predictor, body, job.temperature_c)
        entry = parse_entry(body.entry)
        expected_unit = INSTRUMENTS[body.instrument].unit
        if entry.unit is not None and entry.unit != expected_unit:
            raise QuantityError(body.entry, f"{expected_unit or 'a word'} from the {INSTRUMENTS[body.instrument].title.lower()}")
        check_reading(Reading("new", test, entry.value, entry.state, entry.resolution))
        new = evidence.NewReading.of(body.client_key, test, body.entry, entry, body.source, body.note)
        added = evidence.append_reading(db, path.job_id, new)
    # Committed: from here on the reading is safe, whatever happens to the answer.
    with services().transaction() as db:
        return bench_view(db, path.job_id).model_dump(mode="json"), 201 if added else 200


@api.post("/jobs/<uuid:job_id>/readings/<uuid:reading_id>/retraction", responses={"200": BenchView})
def retract(path: ReadingPath, body: RetractionIn) -> Any:
    """Take a reading back, with the reason; it stays in the record and no longer counts."""
    with services().transaction() as db:
        _job(db, path.job_id)
        if evidence.retract_reading(db, path.job_id, path.reading_id, body.client_key, body.reason) == "unknown":
            raise ProblemError(404, "No such reading", f"job has no reading {path.reading_id}")
    with services().transaction() as db:
        return bench_view(db, path.job_id).model_dump(mode="json")


@api.post("/jobs/<uuid:job_id>/exclusions", responses={"200": BenchView})
def exclude(path: JobPath, body: ExclusionIn) -> Any:
    """Rule out a point, place or instrument ("can't reach", "don't have it"), or bring it back."""
    with services().transaction() as db:
        job = _job(db, path.job_id)
        circuit = services().predictor(job.circuit_version_id, job.temperature_c).circuit
        if body.kind == "instrument":
            instrument(body.name)
        elif body.name not in {p.place for p in circuit.points.values()}:
            circuit.point(body.name)
        evidence.append_exclusion(db, path.job_id, body.client_key, body.kind, body.name, body.excluded)
    with services().transaction() as db:
        return bench_view(db, path.job_id).model_dump(mode="json")


@api.post("/jobs/<uuid:job_id>/preview", responses={"200": ProposalView})
def preview(path: JobPath, body: TestIn) -> Any:
    """The reckoning of a test of the technician's own choice: expected value, minutes, worth, outcomes."""
    with services().transaction() as db:
        job, stored, excluded = _load(db, path.job_id)
    predictor = services().predictor(job.circuit_version_id, job.temperature_c)
    test = _test(predictor, body, job.temperature_c)
    standing = [_reading(predictor, item) for item in stored if item.retracted_because is None]
    belief = update(predictor, standing)
    proposal = evaluate(predictor, belief, _where_we_stand(predictor, job, standing, excluded), test)
    if proposal is None:
        raise ProblemError(422, "Not a test Sondar stands behind", _why_not(predictor, test))
    return proposal_view(predictor, belief, proposal).model_dump(mode="json")


def _why_not(predictor: Predictor, test: Test) -> str:
    device = INSTRUMENTS[test.instrument]
    if device.kind == "lamp" and not predictor.finder.lamp_allowed(test.red, test.black):
        return "A test lamp would overload a module's input or driver here, or feed supply where none belongs. Use the voltmeter."
    if device.kind == "ohms":
        return "Resistance is only measured with the key off and along or across one part. Put the key off or choose other points."
    return "These two points tell nothing about this circuit that a better pair would not. The reading can still be recorded."


@api.post("/jobs/<uuid:job_id>/meter", responses={"200": MeterReading, "502": ProblemDetails})
def meter(path: JobPath, body: TestIn) -> Any:
    """What the connected meter shows with its leads where the test puts them; nothing is recorded."""
    with services().transaction() as db:
        job = _job(db, path.job_id)
    if not services().meter_address:
        raise ProblemError(502, "Meter not read", "no meter is connected: type the reading")
    predictor = services().predictor(job.circuit_version_id, job.temperature_c)
    test = _test(predictor, body, job.temperature_c)
    entry = read_meter(services().meter_address, test.instrument, Placement(job.stand_in, test.setup, test.red, test.black))
    return MeterReading(entry=entry).model_dump(mode="json")


@api.post("/jobs/<uuid:job_id>/verdict", responses={"201": BenchView})
def call_verdict(path: JobPath, body: VerdictIn) -> Any:
    """Call the verdict as it stands now and keep it with its certainty."""
    with services().transaction() as db:
        standing = bench_view(db, path.job_id).assessment.verdict
        evidence.append_verdict(
            db, path.job_id, body.client_key,
            {"sentence": standing.sentence, "group": standing.group, "units": standing.units, "certainty": min(1.0, standing.certainty),
             "settled": standing.settled},
        )  # fmt: skip
    with services().transaction() as db:
        return bench_view(db, path.job_id).model_dump(mode="json"), 201
