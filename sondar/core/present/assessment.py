"""A judgement for the outside: proposals, effects of readings, suspects, conclusion."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, Field

from sondar.core.circuit.families.doubts import FIGURES
from sondar.core.circuit.model import Unit
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN
from sondar.core.diagnosis.judge import Effect, Judgement
from sondar.core.diagnosis.look_ups import LookUp, figure_name
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Proposal
from sondar.core.diagnosis.variants import Ways, named, offered
from sondar.core.present.tests import SetupView, TestView, setup_view, test_view
from sondar.core.quantities import format_si
from sondar.core.wording import conclusion as words
from sondar.core.wording.effects import effect_note
from sondar.core.wording.labels import describe_test, expected_range, fault_title, range_of, unit_title
from sondar.core.wording.learned import learned_notes, misfit_notes
from sondar.core.wording.proposals import outcome_label, proposal_cautions, step_text, why

HISTORY_UNITS = 6
CLEARED_BELOW = 0.003
SHOWN_ABOVE = 0.002
OUTCOME_SUSPECTS, OUTCOME_SUSPECT_ABOVE = 3, 0.04
ALTERNATIVES, ALTERNATIVE_ABOVE = 4, 0.01
MOST_LOOK_UPS = 3


class OutcomeSuspect(BaseModel):
    """A unit that an outcome would put in front, with the probability it would have."""

    unit: str
    title: str
    probability: float


class OutcomeView(BaseModel):
    """One possible result of a test and what it would leave."""

    label: str
    probability: float
    within_expected: bool
    suspects: list[OutcomeSuspect]


class ProposalView(BaseModel):
    """A test with its cost, its expected saving and its reasons."""

    test: TestView
    expected: str = Field(description="Range a healthy circuit shows.")
    expected_low: float | None = None
    expected_high: float | None = None
    minutes: float
    setup_minutes: float
    steps: list[str]
    expected_saving_min: float = Field(description="Expected fall of the expected loss, minutes.")
    saving_per_min: float = Field(description="Minutes saved per minute spent.")
    why: str
    outcomes: list[OutcomeView]
    cautions: list[str]


class Movement(BaseModel):
    """A unit whose probability a reading moved."""

    unit: str
    title: str
    before: float
    after: float


class Gauge(BaseModel):
    """A figure against what a healthy circuit shows, for drawing: all in one scale, log10 of ohms or the figure itself."""

    low: float = Field(description="Least a healthy circuit shows.")
    high: float
    value: float
    doubt: float = Field(description="Half-width that meter and entry leave open.")
    log: bool


class ReadingEffect(BaseModel):
    """What one reading did."""

    reading: str
    expected: str
    gauge: Gauge | None = Field(None, description="Left out for words.")
    weight: float = Field(0.0, description="How far it moved belief: total variation between before and after, 0 to 1.")
    within_expected: bool
    note: str
    moved: list[Movement]
    cleared: list[str]


class Evidence(BaseModel):
    """A reading for or against a unit; weight in bans (log10 Bayes factor)."""

    reading: str
    weight_ban: float


class FaultShare(BaseModel):
    """A way a unit may have failed."""

    id: str
    title: str
    probability: float
    repair: str


class SuspectView(BaseModel):
    """A replaceable unit under suspicion."""

    unit: str
    title: str
    group: str
    place: str
    probability: float
    prior: float
    faults: list[FaultShare]
    evidence: list[Evidence]


class GroupShare(BaseModel):
    """Belief by group at one step of the track."""

    wiring: float
    module: float
    component: float
    system: float = 0.0
    setting: float = 0.0
    none: float
    unknown: float


class UnitHistory(BaseModel):
    """Belief in one unit over the readings."""

    unit: str
    title: str
    shares: list[float]


class Alternative(BaseModel):
    """What else it could be, and what would tell."""

    unit: str
    title: str
    probability: float
    distinguished_by: str


class ConclusionView(BaseModel):
    """The diagnosis as it stands, whether or not it is due."""

    settled: bool
    reason: str
    sentence: str
    group: str
    units: list[str]
    certainty: float
    inseparable: bool
    alternatives: list[Alternative]
    would_change: str
    actions: list[str]
    cautions: list[str]
    expected_loss_min: float


class WayView(BaseModel):
    """Another way in which the circuit may be built on this vehicle, as the readings have it."""

    id: str
    title: str
    probability: float
    offered: bool = Field(description="Clear enough to be taken for the drawing.")


class LookUpView(BaseModel):
    """A published figure that would tell as a measurement does."""

    part: str
    field: str
    title: str
    unit: str
    expected: str = Field(description="What the readings have left possible for a good part.")
    minutes: float
    expected_saving_min: float = Field(description="Expected fall of the expected loss, minutes.")
    before_measuring: bool = Field(description="It tells more per minute than the best test.")


class Assessment(BaseModel):
    """Everything Sondar says about a job's circuit, given the readings that have not been voided."""

    setup: SetupView
    proposals: list[ProposalView]
    effects: list[ReadingEffect]
    suspects: list[SuspectView]
    track: list[GroupShare]
    history: list[UnitHistory] = Field(description="Belief of the leading units after each reading, the prior first.")
    same_setup: list[ProposalView] = Field(description="Readings that cost only their own minutes in the first proposal's set-up.")
    branch_weights: dict[str, float] = Field(description="Probability that a drawn branch is at fault.")
    conclusion: ConclusionView
    learned: list[str] = Field(description="What the readings have taught about battery and temperature, whatever is wrong.")
    misfits: list[str] = Field(description="Readings that do not go with the leading suspect, and what to do about them.")
    look_ups: list[LookUpView] = Field(description="Published figures that would tell something, the most worth first.")
    ways: list[WayView] = Field(
        description="Other ways in which the circuit may be built, likeliest first; empty where none is likely."
    )


def assessment(judgement: Judgement, earlier: Sequence[Effect] = ()) -> Assessment:
    """A judgement for the outside; ``earlier`` are effects of readings before a repair."""
    predictor, belief, ranking = judgement.predictor, judgement.belief, judgement.ranking
    circuit, starting = predictor.circuit, judgement.situation.starting
    suspects = _suspects(judgement)
    return Assessment(
        setup=setup_view(judgement.situation.setup),
        proposals=[proposal_view(predictor, belief, proposal, starting) for proposal in ranking.proposals],
        effects=[_effect(circuit, belief, effect) for effect in (*earlier, *judgement.effects)],
        suspects=suspects,
        track=[GroupShare(**belief.groups(step)) for step in range(len(judgement.readings) + 1)],
        history=_history(circuit, belief),
        same_setup=[proposal_view(predictor, belief, proposal, starting) for proposal in ranking.same_setup],
        branch_weights=_branch_weights(circuit, belief),
        conclusion=_conclusion(judgement, suspects),
        learned=learned_notes(judgement),
        misfits=misfit_notes(judgement),
        look_ups=_look_ups(judgement),
        ways=_ways(judgement.ways),
    )


def _look_ups(judgement: Judgement) -> list[LookUpView]:
    proposals = judgement.ranking.proposals
    best = proposals[0].saving_per_min if proposals else 0.0
    return [_look_up(judgement.predictor.circuit, one, best) for one in judgement.look_ups[:MOST_LOOK_UPS]]


def open_figures(circuit: Circuit) -> dict[str, str]:
    """PART.field of every figure that is only a range here -> what it is called."""
    return {
        figure_name(part, field): figure_title(circuit, part, field)
        for part, field, _ in circuit.doubts.values()
        if field in FIGURES
    }


def figure_title(circuit: Circuit, part: str, field: str) -> str:
    """A figure of a part in words: ``Coil resistance of Idle valve (Y)``."""
    return f"{FIGURES[field][0]} of {circuit.parts[part].name(part)}"


def _look_up(circuit: Circuit, one: LookUp, best: float) -> LookUpView:
    unit = FIGURES[one.field][1]
    return LookUpView(
        part=one.part, field=one.field, title=figure_title(circuit, one.part, one.field), unit=unit,
        expected=f"{format_si(one.low, unit, 2)} to {format_si(one.high, unit, 2)}", minutes=one.minutes,
        expected_saving_min=one.saving_min, before_measuring=one.saving_per_min > best,
    )  # fmt: skip


def _ways(ways: Ways) -> list[WayView]:
    taken = offered(ways)
    return [WayView(id=one.way.id, title=one.way.title, probability=one.probability, offered=one is taken) for one in named(ways)]


def proposal_view(predictor: Predictor, belief: Belief, proposal: Proposal, starting: str = "") -> ProposalView:
    """A proposal with its words; ``starting``: how the vehicle is switched on."""
    circuit = predictor.circuit
    label, low, high = expected_range(proposal.outlook.shown)
    names = belief.hypotheses.units
    table = proposal.outlook.chance
    outcomes = []
    for outcome in proposal.outcomes:
        ahead = leading_suspects(circuit, names, outcome.units)
        outcomes.append(
            OutcomeView(
                label=outcome_label(proposal.outlook, outcome.index), probability=outcome.probability,
                within_expected=bool(table[outcome.index, 0] > 0.3), suspects=ahead,
            )
        )  # fmt: skip
    telling = [(o.label, o.suspects[0].title, o.suspects[0].probability) for o in outcomes if o.suspects]
    return ProposalView(
        test=test_view(circuit, proposal.test), expected=label, expected_low=low, expected_high=high, minutes=proposal.minutes,
        setup_minutes=proposal.setup_minutes, steps=[step_text(step, starting) for step in proposal.steps],
        expected_saving_min=proposal.saving_min, saving_per_min=proposal.saving_per_min, why=why(telling, proposal), outcomes=outcomes,
        cautions=proposal_cautions(circuit, proposal, starting),
    )  # fmt: skip


def leading_suspects(circuit: Circuit, names: Sequence[str], shares: npt.ArrayLike) -> list[OutcomeSuspect]:
    """The units that some result leaves in front; ``shares`` (U,) are their probabilities."""
    share = np.asarray(shares, dtype=float)
    return [
        OutcomeSuspect(unit=names[u], title=unit_title(circuit, names[u]), probability=float(share[u]))
        for u in np.argsort(-share)[:OUTCOME_SUSPECTS]
        if share[u] > OUTCOME_SUSPECT_ABOVE
    ]


def _effect(circuit: Circuit, belief: Belief, effect: Effect) -> ReadingEffect:
    names, before, after = belief.hypotheses.units, effect.before, effect.after
    order = np.argsort(-np.abs(after - before))[:4]
    moved = [
        Movement(unit=names[u], title=unit_title(circuit, names[u]), before=float(before[u]), after=float(after[u]))
        for u in order
        if abs(after[u] - before[u]) > 0.01
    ]
    return ReadingEffect(
        reading=effect.reading.id, expected=effect_range(effect), gauge=_gauge(effect), within_expected=effect.within_expected,
        note=effect_note(effect), weight=0.5 * float(np.abs(after - before).sum()), moved=moved,
        cleared=[names[u] for u in np.flatnonzero((before >= CLEARED_BELOW) & (after < CLEARED_BELOW))],
    )  # fmt: skip


def effect_range(effect: Effect) -> str:
    """What a healthy vehicle would have shown, as far as the readings before it told."""
    expected = effect.expected
    return range_of(effect.reading.device, expected.mean, expected.sd, expected.words)[0]


def _gauge(effect: Effect) -> Gauge | None:
    """A figure and the healthy range in the working scale; None for words."""
    reading, mean, sd = effect.reading, effect.expected.mean, effect.expected.sd
    device = reading.device
    if reading.value is None or effect.expected.words.sum() > 0.5:
        return None
    bound = device.error_share * abs(reading.value) + device.error_floor + reading.meter_error + reading.resolution
    ends = device.working([reading.value - bound, reading.value + bound])
    return Gauge(
        low=mean - 2 * sd, high=mean + 2 * sd, value=float(device.working(reading.value)), doubt=0.5 * float(ends[1] - ends[0]),
        log=device.log_scale,
    )  # fmt: skip


def _history(circuit: Circuit, belief: Belief) -> list[UnitHistory]:
    """The units that lead at some step, each with its share after every reading."""
    shares = belief.steps @ belief.hypotheses.member
    leading = dict.fromkeys(int(u) for row in shares[::-1] for u in np.argsort(-row)[:3])
    names = belief.hypotheses.units
    return [
        UnitHistory(unit=names[u], title=unit_title(circuit, names[u]), shares=[float(v) for v in shares[:, u]])
        for u in list(leading)[:HISTORY_UNITS]
    ]


def _suspects(judgement: Judgement) -> list[SuspectView]:
    circuit, belief, readings = judgement.predictor.circuit, judgement.belief, judgement.readings
    names, share, prior = belief.hypotheses.units, belief.units(), belief.units(0)
    found: list[SuspectView] = []
    for u in np.argsort(-share):
        if share[u] < SHOWN_ABOVE and len(found) >= 3:
            break
        unit = names[u]
        known = circuit.units.get(unit) or Unit(unit, unit_title(circuit, unit), "component", 0.0, 0.0)
        found.append(
            SuspectView(
                unit=unit, title=unit_title(circuit, unit), group=unit if unit in (NONE, UNKNOWN) else known.group, place=known.place,
                probability=float(share[u]), prior=float(prior[u]), faults=_faults(circuit, belief, unit, float(share[u])),
                evidence=[Evidence(reading=r.id, weight_ban=float(judgement.factors[i, u])) for i, r in enumerate(readings)],
            )
        )  # fmt: skip
    return found


def _faults(circuit: Circuit, belief: Belief, unit: str, share: float) -> list[FaultShare]:
    """The likeliest ways in which a unit may have failed, severities that read alike taken together."""
    found: dict[tuple[str, str], float] = {}
    for suspect, probability in zip(belief.hypotheses.suspects, belief.now, strict=True):
        if suspect.unit == unit and suspect.fault in circuit.faults:
            key = (suspect.fault, fault_title(circuit, suspect))
            found[key] = found.get(key, 0.0) + float(probability)
    ranked = sorted(found.items(), key=lambda item: -item[1])[:3]
    return [
        FaultShare(id=fault, title=title, probability=p, repair=circuit.faults[fault].repair)
        for (fault, title), p in ranked
        if p > 0.05 * share
    ]


def _branch_weights(circuit: Circuit, belief: Belief) -> dict[str, float]:
    weights: dict[str, float] = {}
    for suspect, probability in zip(belief.hypotheses.suspects, belief.now, strict=True):
        fault = circuit.faults.get(suspect.fault)
        if fault is not None:
            key = fault.branch if circuit.parts[fault.part].SEVERAL_SYMBOLS else fault.part
            weights[key] = weights.get(key, 0.0) + float(probability)
    return {name: weight for name, weight in weights.items() if weight > 1e-4}


def _conclusion(judgement: Judgement, suspects: Sequence[SuspectView]) -> ConclusionView:
    ranking = judgement.ranking
    rest = [s for s in suspects if s.unit not in ranking.leading and s.probability > ALTERNATIVE_ABOVE][:ALTERNATIVES]
    alternatives = [
        Alternative(
            unit=s.unit, title=s.title, probability=s.probability, distinguished_by=words.distinguished_by(judgement, s.unit)
        )
        for s in rest
    ]
    further = ranking.proposals[0].test if ranking.proposals and not ranking.settled else None
    proposed = "" if further is None else describe_test(judgement.predictor.circuit, further)
    return ConclusionView(
        settled=ranking.settled, reason=words.reason_text(judgement), sentence=words.sentence(judgement),
        group=words.leading_suspect(judgement).group, units=list(ranking.leading), certainty=ranking.certainty,
        inseparable=len(ranking.leading) > 1, alternatives=alternatives,
        would_change=words.would_change([(a.title, a.probability, a.distinguished_by) for a in alternatives], proposed),
        actions=words.actions(judgement), cautions=words.repair_cautions(judgement), expected_loss_min=ranking.expected_loss,
    )  # fmt: skip
