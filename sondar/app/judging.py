"""What follows from a case: these functions run in a worker, are given what the worker keeps, and know no database.

What leaves the worker is small: a view, a checked test, a sentence.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from sondar.app import job_record
from sondar.app.case import Case
from sondar.app.computed import Computed
from sondar.core import ENGINE_VERSION
from sondar.core.circuit.model import CHASSIS, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.after_repair import RepairedJudgement, before_now, judge_repaired
from sondar.core.diagnosis.belief import Array, Belief, starting_prior, update
from sondar.core.diagnosis.costs import Situation, after_cranking, labour_minutes, made_in, reached_by
from sondar.core.diagnosis.entry_check import meant_instead
from sondar.core.diagnosis.expected_values import expected_values
from sondar.core.diagnosis.judge import Judgement
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import candidate_setups, evaluate
from sondar.core.diagnosis.variants import Way
from sondar.core.diagnosis.waveform import waveform_of
from sondar.core.errors import ConflictError, FieldProblem, InvalidError, UnknownReferenceError, invalid
from sondar.core.former_names import current_id, current_word
from sondar.core.instruments import BREAK_OUT_LEADS, INSTRUMENTS, at_hand, instrument
from sondar.core.instruments.access import access_of
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading
from sondar.core.instruments.voltmeter import Voltmeter
from sondar.core.limits.card import LimitView, limits_card
from sondar.core.present.assessment import ProposalView, open_figures, proposal_view
from sondar.core.present.overlays import ExpectedOverlay, WaveformView, overlay_view, waveform_view
from sondar.core.quantities import Entry
from sondar.core.triage.prior_factors import Answers, fault_factors, reasons
from sondar.core.wording import conclusion as words
from sondar.core.wording.labels import describe_test, reading_label
from sondar.store import evidence
from sondar.store.circuits import CircuitVersion

T = TypeVar("T")


@dataclass(frozen=True)
class Measuring:
    """A case with what follows from it; it stays in the process that computed it, and only views of it leave."""

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
class CheckedEntry:
    """An entry that can be stored.

    Attributes:
        usual_error: what an ordinary meter is wrong by, in the unit of the reading.
        present: chance that the fault is there while it is read.
    """

    test: Test
    entry: Entry
    usual_error: float
    present: float


@dataclass(frozen=True)
class Said:
    """What is said of a case, to be kept beside it."""

    sentence: str
    group: str
    units: list[str]
    certainty: float
    settled: bool


def predictor_of(computed: Computed, case: Case) -> Predictor:
    """The predictor of a case's circuit, for the tools of the workshop."""
    known_to = job_record.temperature_sd(case.answers)
    return computed.predictor(case.version, case.job.temperature_c, at_hand(case.workshop.tools), known_to)


def ways_of(computed: Computed, case: Case) -> tuple[Way, ...]:
    """Other ways in which a case's circuit may be built; none are worked out before anything has been read."""
    if not case.valid or case.repairs:
        return ()
    known_to = job_record.temperature_sd(case.answers)
    return computed.ways(case.version, case.job.temperature_c, at_hand(case.workshop.tools), known_to)


def reading_of(predictor: Predictor, stored: evidence.StoredReading) -> Reading:
    """A stored reading as the engine takes it; former names of instruments and words are read as those of today."""
    setup = predictor.circuit.setup(stored.controls, frozenset(stored.unplugged), stored.temperature_c)
    test = Test(current_id(stored.instrument), stored.red, stored.black, setup)
    state = None if stored.state is None else current_word(stored.state)
    return Reading(str(stored.id), test, stored.value_si, state, stored.resolution_si, stored.present, stored.meter_error_si)


def intake_of(case: Case) -> Answers:
    """What was said at the door, and what the workshop knows of how often what fails."""
    return job_record.intake_answers(case.answers, case.workshop.group_shares)


def prior_of(case: Case, predictor: Predictor) -> Array:
    """Belief before the first reading: from the triage, or from the history."""
    factors = fault_factors(predictor.circuit, intake_of(case))
    return starting_prior(predictor.hypotheses, case.diagnosis.triage_prior, factors)


def known_of(case: Case, predictor: Predictor) -> list[Reading]:
    """What was measured at intake: the battery's voltage, key off."""
    volts = intake_of(case).battery_v
    if volts is None:
        return []
    circuit = predictor.circuit
    test = Test(Voltmeter.id, f"{circuit.battery}.pos", circuit.black_reference, circuit.rest_setup(case.job.temperature_c))
    return [Reading("intake", test, volts, None, 0.005)]


def situation_of(case: Case, predictor: Predictor, readings: Sequence[Reading]) -> Situation:
    """Where the technician stands after these readings."""
    circuit = predictor.circuit
    setup = circuit.rest_setup(case.job.temperature_c)
    for reading in readings:
        if reading.device.as_it_stands or not reading.device.finding:
            setup = made_in(circuit, setup, reading.test)
            setup = circuit.setup(after_cranking(circuit, dict(setup.controls)), setup.unplugged, setup.temperature_c)
    opened: set[str] = set()
    for reading in readings:
        opened |= reached_by(circuit, reading.test) | reading.test.setup.unplugged
    tools = set(at_hand(case.workshop.tools)) - set(map(current_id, case.excluded["instrument"]))
    seized = [
        (item.name, item.minutes + labour_minutes(item.price, float(case.workshop.rate_per_hour)))
        for item in still_seized(case, circuit)
    ]
    return Situation(
        setup, frozenset(opened), tuple(name for name in INSTRUMENTS if name in tools), frozenset(case.excluded["point"]),
        decision_threshold=case.workshop.decision_threshold, rate_per_hour=float(case.workshop.rate_per_hour),
        present=job_record.present_now(circuit, case.codes, case.answers), not_found=frozenset(case.excluded["figure"]),
        break_out_leads=BREAK_OUT_LEADS in case.workshop.tools, starting=case.job.starting, seized=tuple(seized),
    )  # fmt: skip


def still_seized(case: Case, circuit: Circuit) -> list[evidence.Seized]:
    """What is seized and has not come apart since: no later reading was taken with the connector apart, or with probes at the part."""

    def got_at(reading: evidence.StoredReading) -> set[str]:
        refs = (reading.red, reading.black) if instrument(reading.instrument).probes else ()
        places = {circuit.point(ref).place for ref in refs}
        return {*reading.unplugged} | (places - {*circuit.document.connectors})

    return [
        item for item in case.seized if not any(item.name in got_at(reading) for reading in case.valid if reading.seq > item.seq)
    ]


def judge_case(computed: Computed, case: Case, meter: bool) -> Measuring:
    """Judge a case; ``meter`` says whether one is connected."""
    predictor = predictor_of(computed, case)
    found, readings = judged(case, predictor, ways=ways_of(computed, case))
    carried = ["Prior probabilities from the triage"] if case.diagnosis.triage_prior else []
    return Measuring(
        case, predictor, found, limits_card(predictor.circuit, readings, case.job.temperature_c),
        carried + reasons(predictor.circuit, intake_of(case)), meter,
    )  # fmt: skip


def judged(
    case: Case, predictor: Predictor, more: Sequence[Reading] = (), ways: Sequence[Way] = ()
) -> tuple[RepairedJudgement, list[Reading]]:
    """The vehicle as it is now, and all readings that stand; ``more`` are taken as if they had been read after them."""
    readings = [*(reading_of(predictor, item) for item in case.valid), *more]
    found = judge_repaired(
        predictor,
        readings,
        situation_of(case, predictor, readings),
        case.repaired,
        prior_of(case, predictor),
        known_of(case, predictor),
        ways,
        lambda way: prior_of(case, way),
    )
    return found, readings


def belief_of(case: Case, predictor: Predictor) -> tuple[Belief, list[Reading]]:
    """Belief about the vehicle as it is now, and all readings that stand."""
    readings = [reading_of(predictor, item) for item in case.valid]
    known = known_of(case, predictor)
    situation = situation_of(case, predictor, readings)
    prior, start, _ = before_now(predictor, readings, situation, case.repaired, prior_of(case, predictor), known)
    return update(predictor, readings[start:], prior, known), readings


def said_before(found: Measuring) -> evidence.Statement | None:
    """What another version of the engine said of the same readings, where it named other units; None if nothing differs."""
    said, valid = found.case.said, found.case.valid
    if said is None or said.engine == ENGINE_VERSION or said.readings != len(valid):
        return None
    same = valid and said.last_reading == valid[-1].id
    return said if same and said.units != list(found.judgement.ranking.leading) else None


# -- what is asked of a worker -----------------------------------------------------------------------------


def assessed(computed: Computed, case: Case, meter: bool, view: Callable[[Measuring], T]) -> tuple[T, Said]:
    """A case as ``view`` shows it, and what is said of it; the likely next steps are prepared when nobody waits."""
    found = judge_case(computed, case, meter)
    ranking = found.judgement.ranking
    likely = dict.fromkeys(proposal.test.setup for proposal in ranking.proposals[:3])
    tests = [proposal.test for proposal in (*ranking.proposals[:3], *ranking.same_setup)]
    computed.prepare(found.predictor, [replace(found.judgement.situation, setup=setup) for setup in likely], tests)
    said = Said(
        words.sentence(found.judgement), words.leading_suspect(found.judgement).group, list(ranking.leading), min(1.0, ranking.certainty),
        ranking.settled,
    )  # fmt: skip
    return view(found), said


def checked_test(computed: Computed, case: Case, wanted: WantedTest) -> Test:
    """A test that somebody asks for, checked against the circuit, see ``wanted_test``."""
    return wanted_test(computed.circuit(case.version), wanted, case.job.temperature_c)


def checked_entry(computed: Computed, case: Case, wanted: WantedTest, text: str, sure: bool) -> CheckedEntry:
    """What an entry for a test means; its order of magnitude is asked about unless that is meant.

    Raises:
        InvalidError: point, set-up or entry not possible. ConflictError: another order of magnitude was probably meant.
    """
    circuit = computed.circuit(case.version)
    test = wanted_test(circuit, wanted, case.job.temperature_c)
    device = instrument(test.instrument)
    entry = device.understand(text)
    reading = Reading("new", test, entry.value, entry.state, entry.resolution)
    if not sure and (meant := meant_instead(predictor_of(computed, case), reading)) is not None:
        detail = f"{reading_label(reading)}? What is likely here is of another size. Did you mean {meant}?"
        raise ConflictError("Order of magnitude", detail, [FieldProblem(("entry",), f"did you mean {meant}?")], meant=meant)
    usual = 0.0 if entry.value is None else device.error_share * abs(entry.value) + device.error_floor
    return CheckedEntry(test, entry, usual, job_record.present_now(circuit, case.codes, case.answers))


def checked_exclusion(computed: Computed, case: Case, kind: str, name: str) -> None:
    """Raise unless there is such an instrument, place or point.

    Raises:
        UnknownReferenceError: there is not.
    """
    circuit = computed.circuit(case.version)
    if kind == "instrument":
        instrument(name)
    elif kind == "figure":
        known = open_figures(circuit)
        if name not in known:
            raise UnknownReferenceError("open figure", name, list(known))
    elif kind == "seized":
        places = sorted({*circuit.document.connectors, *(point.place for point in circuit.points.values())} - {CHASSIS, "body"})
        if name not in places:
            raise UnknownReferenceError("connector or part", name, places)
    elif name not in {p.place for p in circuit.points.values()}:
        circuit.point(name)


def checked_units(computed: Computed, case: Case, units: Sequence[str]) -> None:
    """Raise unless the circuit has these units.

    Raises:
        InvalidError: it has not, with what there is.
    """
    known = computed.circuit(case.version).units
    for index, unit in enumerate(units):
        if unit not in known:
            raise InvalidError(
                "Not a unit of this circuit", f"{unit} is not in it; there are {', '.join(sorted(known))}",
                [FieldProblem(("units", str(index)), "choose a part, wire or connector of the circuit")],
            )  # fmt: skip


def previewed(computed: Computed, case: Case, wanted: WantedTest) -> ProposalView:
    """Cost and expected saving of a test of the technician's own choice.

    Raises:
        InvalidError: it is not among the tests Sondar stands behind; says why.
    """
    predictor = predictor_of(computed, case)
    test = wanted_test(predictor.circuit, wanted, case.job.temperature_c)
    belief, readings = belief_of(case, predictor)
    proposal = evaluate(predictor, belief, situation_of(case, predictor, readings), test)
    if proposal is None:
        impossible = predictor.circuit.impossible(test.setup)
        why = (
            f"{impossible}. What was read can still be recorded."
            if impossible
            else (instrument(test.instrument).why_not(access_of(predictor.circuit), test))
        )
        raise InvalidError("Not a test Sondar stands behind", why)
    return proposal_view(predictor, belief, proposal, case.job.starting)


def drawn_waveform(computed: Computed, case: Case, wanted: WantedTest) -> WaveformView:
    """What an oscilloscope would draw at a test's points."""
    predictor = predictor_of(computed, case)
    test = wanted_test(predictor.circuit, wanted, case.job.temperature_c)
    if not instrument(test.instrument).probes:
        raise invalid("instrument", "an oscilloscope has probes: choose an instrument that touches two points")
    return waveform_view(predictor.circuit, waveform_of(predictor, belief_of(case, predictor)[0], test))


def overlaid(computed: Computed, case: Case, unit: str, controls: dict[str, str], unplugged: Sequence[str]) -> ExpectedOverlay:
    """Predicted voltages under the most likely fault of a unit, or of a healthy circuit."""
    predictor = predictor_of(computed, case)
    setup = predictor.circuit.setup(controls, frozenset(unplugged), case.job.temperature_c)
    return overlay_view(predictor.circuit, expected_values(predictor, belief_of(case, predictor)[0], unit, setup))


def unproved(computed: Computed, case: Case) -> list[str]:
    """Tests that failed before a repair and have not been within the expected range since, in words."""
    found, _ = judged(case, predictor_of(computed, case))
    return [describe_test(found.now.predictor.circuit, item.test) for item in found.to_verify if not item.passed]


def first_step(
    computed: Computed, version: CircuitVersion, temperature_c: float, tools: Sequence[str], temperature_sd: float
) -> None:
    """Work out the first step on a circuit that is likely to be opened next, with the tools of this workshop."""
    predictor = computed.predictor(version, temperature_c, tools, temperature_sd)
    for setup in candidate_setups(predictor, Situation(predictor.circuit.rest_setup(temperature_c))):
        predictor.setup(setup)


# -- what may be asked for ------------------------------------------------------------------------------


def wanted_test(circuit: Circuit, wanted: WantedTest, temperature_c: float) -> Test:
    """The test that is asked for, checked against the circuit.

    Raises:
        InvalidError: a point that cannot be touched in the set-up, both probes on one point, or nothing there to look at.
    """
    device = instrument(wanted.instrument)
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
