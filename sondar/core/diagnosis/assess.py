"""The whole judgement in one call: belief, plan, effects of readings, suspects, verdict, as ``views``.

Also the words: why a test, what an outcome would mean, the sentence of the verdict. All text is built here, once, from the
same numbers, so the screen, the command line and a report say the same.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.families import Fuse, PulledInput
from sondar.core.circuit.model import CHASSIS, Setup, Unit
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.probing import driven_part
from sondar.core.diagnosis.belief import Belief, Reading, density, slip_of, unit_log_bayes_factors, update
from sondar.core.diagnosis.findings import by_substitution
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, Suspect
from sondar.core.diagnosis.pairs import Pair, explaining_pairs
from sondar.core.diagnosis.plan import Bench, Plan, Proposal, make_plan
from sondar.core.diagnosis.predictions import DRIVES, Predictor, class_label, range_label
from sondar.core.diagnosis.tests import Test
from sondar.core.diagnosis.views import (
    Alternative,
    Assessment,
    Evidence,
    FaultShare,
    Gauge,
    GroupShare,
    Movement,
    OutcomeCard,
    OutcomeLead,
    ProposalView,
    ReadingEffect,
    SetupView,
    SuspectView,
    TestView,
    UnitHistory,
    VerdictView,
)
from sondar.core.instruments import INSTRUMENTS, LOG_KINDS, Display, from_working, instrument, working
from sondar.core.quantities import format_share, format_si

Array = npt.NDArray[np.float64]

NONE_TITLE = "No fault present now"
UNKNOWN_TITLE = "Something not on the drawing"
WIDE_SHARE = 0.1
"""A reading left open by more than this share is written as a range."""
HEALTHY_SDS = 2.5
"""A figure within this many standard deviations of the healthy prediction is called as when healthy."""
HISTORY_UNITS = 6
CLEARED_BELOW = 0.003
SHOWN_ABOVE = 0.002
PAIR_SAID_ABOVE = 0.2
SLIP_SAID_ABOVE = 0.5
"""A reading that was more likely a slip than not, as all readings together have it, is told so."""

CAUTION_TEXT = {
    "battery": "Battery work: no sparks, no tools across the posts, follow the maker's order of disconnecting.",
    "message": "A meter sees supply, ground and activity here, never whether the message is right: believe the module's own value for that.",
    "moving": "The motor can start without warning. Keep hands, cloth and leads clear.",
}
CAUTION_DRIVE = (
    "Powered probe: never on a reference, a signal or a module's driver line, never on an airbag circuit. "
    "What it runs can move at once."
)
CAUTION_SWAP = "Try no part that is coded, locks the immobiliser or belongs to a restraint system."
WHERE_FOUND = {
    "answers": "Ask {} with the scan tool: does it answer?",
    "look": "Look closely at {}: corrosion, chafe, water marks, bent or pushed-back pins. Photograph damage before touching it.",
    "wiggle": "Move {} and the harness beside it while a reading or the live value is watched. Say whether it reacts.",
    "swap": "Put a known-good part in place of {} and try the complaint again. Check the new part first.",
    "clean": "Clean {} by the maker's method and repeat what failed.",
    "gauge": "Measure with an independent gauge or thermometer what {} claims, and compare.",
}
CAUTION_UNPLUG = "Key off before parting or mating a module plug. Do not use force on locks or seals."
CAUTION_OHMS = "Resistance only on a dead circuit: key off, no supply on the stretch."
CAUTION_ALWAYS = "The maker's instructions, local codes and licensed practice come first."


def assess(predictor: Predictor, readings: Sequence[Reading], bench: Bench, prior: Array | None = None) -> Assessment:
    """Judge a circuit from the readings that stand and say what to do next; ``prior`` (H,) carries what was known before."""
    belief = update(predictor, readings, prior)
    done = frozenset(reading.test for reading in readings)
    bench = replace(bench, done=bench.done | done)
    plan = make_plan(predictor, belief, bench)
    circuit = predictor.circuit
    suspects = _suspects(circuit, belief, readings)
    # Only when a call is due: while measuring goes on the next reading is the better answer, and it must come at once.
    pairs = explaining_pairs(predictor, belief, readings) if plan.settled else []
    return Assessment(
        setup=setup_view(bench.setup),
        proposals=[proposal_view(predictor, belief, proposal) for proposal in plan.proposals],
        effects=[_effect(predictor, belief, readings, index) for index in range(len(readings))],
        suspects=suspects,
        track=[GroupShare(**belief.groups(step)) for step in range(len(readings) + 1)],
        history=_history(circuit, belief),
        free=[proposal_view(predictor, belief, proposal) for proposal in plan.free],
        branch_weights=_branch_weights(circuit, belief),
        verdict=_verdict(predictor, belief, plan, suspects, pairs, readings),
    )


def setup_view(setup: Setup) -> SetupView:
    """A set-up for the outside."""
    return SetupView(
        controls=dict(setup.controls), unplugged=sorted(setup.unplugged), temperature_c=setup.temperature_c, text=setup.describe()
    )


def test_view(circuit: Circuit, test: Test) -> TestView:
    """A test for the outside."""
    device = instrument(test.instrument)
    return TestView(
        instrument=device.id, instrument_title=device.title, kind=device.kind, unit=device.unit, words=list(device.words),
        red=test.red, red_title=circuit.point(test.red).title, black=test.black, black_title=circuit.point(test.black).title,
        where=_where(circuit, test), leads=device.probes, only_words=device.only_words, setup=setup_view(test.setup),
    )  # fmt: skip


def _where(circuit: Circuit, test: Test) -> str:
    device, red = INSTRUMENTS[test.instrument], circuit.point(test.red).title
    if device.kind == "senses":
        acts = circuit.parts[test.red].acts(test.red, test.setup) if test.red in circuit.parts else None
        return f"Watch, listen and feel: {red}. Acting, it {acts.verb if acts else 'moves'}."
    if device.kind == "amps":
        return f"Clamp {red}, this wire alone."
    if device.kind in WHERE_FOUND:
        return WHERE_FOUND[device.kind].format(red)
    if device.kind == "drive":
        lead = "ground" if test.instrument == "probe-ground" else "supply"
        own = "" if lead == "ground" else f", its ground lead on {circuit.point(test.black).title}"
        driven_by = driven_part(circuit, test.setup, DRIVES[test.instrument], test.red, test.black)
        watched = f" and watch {circuit.parts[driven_by[0]].name(driven_by[0])}: it {driven_by[1].verb}" if driven_by else ""
        return f"Put {lead} on {red}{own}{watched}. A second or two at a time."
    if device.kind == "scan":
        part = circuit.parts[test.red]
        own = ""
        if isinstance(part, PulledInput) and part.substitutes:
            own = f" Out of range it shows a value of its own, {format_si(part.substitute_v, 'V')}: that is no measurement."
        return f"Read on the scan tool what the module takes {red} to be. It is the module's opinion.{own}"
    return f"Red on {red}; black on {circuit.point(test.black).title}."


test_view.__test__ = False  # type: ignore[attr-defined]


def unit_title(circuit: Circuit, unit: str) -> str:
    """Name of a unit, or of one of the two answers that are not units."""
    if unit == NONE:
        return NONE_TITLE
    return UNKNOWN_TITLE if unit == UNKNOWN else circuit.units[unit].title


def fault_words(circuit: Circuit, suspect: Suspect) -> str:
    """A fault with its strength where that is a figure: ``Wire W8 corroded or partly broken, about 300 Ω``."""
    fault = circuit.faults.get(suspect.fault)
    if fault is None:
        return unit_title(circuit, suspect.unit)
    return fault.title + (f", about {suspect.severity}" if suspect.severity[:1].isdigit() else "")


def healthy_range(shown: Display) -> tuple[str, float | None, float | None]:
    """What a healthy circuit shows at one test (display of one pair): label, and both ends in SI units."""
    device = shown.instrument
    words = shown.words[0, 0]
    if device.only_words or words.sum() > 0.5:
        return device.words[int(np.argmax(words))], None, None
    mean, sd = float(shown.mean[0, 0]), float(shown.sd[0, 0])
    low, high = mean - 2 * sd, mean + 2 * sd
    if device.kind in LOG_KINDS:
        return range_label(device.id, low, high), from_working(device.kind, low), from_working(device.kind, high)
    label = range_label(device.id, low, high)
    if words.sum() > 0.2:
        label += ", or bouncing"
    return label, low, high


def reading_label(reading: Reading) -> str:
    """A reading as a person writes it."""
    device = INSTRUMENTS[reading.test.instrument]
    if reading.state is not None:
        return reading.state
    assert reading.value is not None
    if reading.resolution > WIDE_SHARE * max(abs(reading.value), 1e-9) and reading.resolution > 2 * device.error_floor:
        low, high = reading.value - reading.resolution, reading.value + reading.resolution
        return f"{format_si(low, device.unit)} to {format_si(high, device.unit)}"
    return format_si(reading.value, device.unit)


def is_as_healthy(reading: Reading, shown: Display) -> bool:
    """True if a healthy circuit would show this."""
    device = shown.instrument
    if reading.state is not None:
        return bool(density(reading, shown)[0, 0] > 0.2)
    assert reading.value is not None
    if shown.words[0, 0].sum() > 0.8:
        return False
    distance = abs(float(working(device.kind, reading.value)) - shown.mean[0, 0])
    ends = working(device.kind, [reading.value - reading.resolution, reading.value + reading.resolution])
    return bool(distance <= HEALTHY_SDS * shown.sd[0, 0] + 0.5 * float(ends[1] - ends[0]))


def proposal_view(predictor: Predictor, belief: Belief, proposal: Proposal) -> ProposalView:
    """A proposal with its words."""
    circuit = predictor.circuit
    shown = predictor.display_of(proposal.test)
    label, low, high = healthy_range(shown)
    names = belief.hypotheses.units
    table = proposal.predictions.outcome[proposal.index]
    cards = []
    for view in proposal.outcomes:
        order = np.argsort(-np.array(view.units))[:3]
        leads = [
            OutcomeLead(unit=names[u], title=unit_title(circuit, names[u]), probability=view.units[u])
            for u in order
            if view.units[u] > 0.04
        ]
        as_healthy = bool(table[view.index, 0] > 0.3)
        label_k = class_label(proposal.predictions, proposal.index, view.index)
        cards.append(OutcomeCard(label=label_k, probability=view.probability, as_healthy=as_healthy, leads=leads))
    return ProposalView(
        test=test_view(circuit, proposal.test), expected=label, expected_low=low, expected_high=high, minutes=proposal.minutes,
        setup_minutes=proposal.setup_minutes, steps=list(proposal.steps), saves_min=proposal.fall, worth=proposal.worth,
        why=_why(cards, proposal), outcomes=cards, cautions=_cautions(circuit, proposal),
    )  # fmt: skip


def _why(cards: Sequence[OutcomeCard], proposal: Proposal) -> str:
    telling = [card for card in cards if card.leads][:3]
    if len(telling) < 2:
        return "Whatever it shows, the suspects stay much as they are."
    parts = [f"{card.label} points to {card.leads[0].title} ({format_share(card.leads[0].probability)})" for card in telling]
    return f"{'; '.join(parts)}. Costs {proposal.minutes:.1f} min, saves {proposal.fall:.0f} min of expected loss."


def _cautions(circuit: Circuit, proposal: Proposal) -> list[str]:
    found = []
    test = proposal.test
    for name, value in test.setup.controls:
        control = circuit.document.controls.get(name)
        if control is not None and control.caution and value != control.values[0]:
            found.append(control.caution)
    if any(step.startswith(("unplug", "plug in")) for step in proposal.steps):
        found.append(CAUTION_UNPLUG)
    if test.instrument == "ohmmeter":
        found.append(CAUTION_OHMS)
    if INSTRUMENTS[test.instrument].kind == "drive":
        found.append(CAUTION_DRIVE)
    if test.instrument == "swap":
        found.append(CAUTION_SWAP)
    # The circuit's own caution stands for anything commanded, unless the control brought a closer one.
    if (
        not found
        and circuit.document.cautions
        and any(b != a[0] for a, b in ((circuit.controls[n], v) for n, v in test.setup.controls))
    ):
        found.extend(circuit.document.cautions)
    return list(dict.fromkeys(found))


def _effect(predictor: Predictor, belief: Belief, readings: Sequence[Reading], index: int) -> ReadingEffect:
    circuit, reading = predictor.circuit, readings[index]
    shown = predictor.display_of(reading.test)
    before, after = belief.units(index), belief.units(index + 1)
    names = belief.hypotheses.units
    order = np.argsort(-np.abs(after - before))[:4]
    moved = [
        Movement(unit=names[u], title=unit_title(circuit, names[u]), before=float(before[u]), after=float(after[u]))
        for u in order
        if abs(after[u] - before[u]) > 0.01
    ]
    cleared = [names[u] for u in np.flatnonzero((before >= CLEARED_BELOW) & (after < CLEARED_BELOW))]
    label, _, _ = healthy_range(shown)
    weights = belief.log_likelihood[index]
    unlikely = bool(weights[:-1].max() < weights[-1] + np.log(0.5))  # nothing drawn explains it half as well as the unknown does
    note = "No single fault of this circuit predicts this. Check the points and the set-up, or measure again." if unlikely else ""
    slip = slip_of(predictor, belief, reading)
    if slip.probability > SLIP_SAID_ABOVE and names[int(np.argmax(belief.units()))] != UNKNOWN:
        where = f" {slip.looks_like.red} against {slip.looks_like.black} would show it." if slip.looks_like else ""
        note = f"Does not go with the other readings: perhaps a lead at a wrong place.{where} Measure again."
    return ReadingEffect(
        reading=reading.id, expected=label, gauge=_gauge(reading, shown), as_healthy=is_as_healthy(reading, shown), note=note,
        weight=0.5 * float(np.abs(after - before).sum()), moved=moved, cleared=cleared,
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


def _gauge(reading: Reading, shown: Display) -> Gauge | None:
    """A figure and the healthy range in the working scale; None for words."""
    device = shown.instrument
    if reading.value is None or shown.words[0, 0].sum() > 0.5:
        return None
    mean, sd = float(shown.mean[0, 0]), float(shown.sd[0, 0])
    bound = device.error_share * abs(reading.value) + device.error_floor + reading.meter_error + reading.resolution
    ends = working(device.kind, [reading.value - bound, reading.value + bound])
    value = float(working(device.kind, reading.value))
    return Gauge(
        low=mean - 2 * sd, high=mean + 2 * sd, value=value, doubt=0.5 * float(ends[1] - ends[0]), log=device.kind in LOG_KINDS
    )


def _suspects(circuit: Circuit, belief: Belief, readings: Sequence[Reading]) -> list[SuspectView]:
    names, share, prior = belief.hypotheses.units, belief.units(), belief.units(0)
    factors = [unit_log_bayes_factors(belief, index) for index in range(len(readings))]
    found: list[SuspectView] = []
    for u in np.argsort(-share):
        if share[u] < SHOWN_ABOVE and len(found) >= 3:
            break
        unit = names[u]
        faults: dict[str, float] = {}
        for suspect, probability in zip(belief.hypotheses.suspects, belief.now, strict=True):
            if suspect.unit == unit and suspect.fault in circuit.faults:
                title = fault_words(circuit, suspect)
                faults[f"{suspect.fault}\t{title}"] = faults.get(f"{suspect.fault}\t{title}", 0.0) + float(probability)
        ranked = sorted(faults.items(), key=lambda item: -item[1])[:3]
        known = circuit.units.get(unit) or Unit(unit, unit_title(circuit, unit), "component", 0.0, 0.0)
        found.append(
            SuspectView(
                unit=unit, title=unit_title(circuit, unit), group=unit if unit in (NONE, UNKNOWN) else known.group, place=known.place,
                probability=float(share[u]), prior=float(prior[u]),
                faults=[FaultShare(title=k.split("\t")[1], probability=p, repair=circuit.faults[k.split("\t")[0]].repair)
                        for k, p in ranked if p > 0.05 * share[u]],
                evidence=[Evidence(reading=readings[i].id, weight_ban=float(f[u])) for i, f in enumerate(factors)],
            )
        )  # fmt: skip
    return found


def _branch_weights(circuit: Circuit, belief: Belief) -> dict[str, float]:
    weights: dict[str, float] = {}
    for suspect, probability in zip(belief.hypotheses.suspects, belief.now, strict=True):
        fault = circuit.faults.get(suspect.fault)
        if fault is not None:
            branch = circuit.parts[fault.part]
            key = fault.branch if branch.family in ("relay", "splice", "module_input") else fault.part  # type: ignore[attr-defined]
            weights[key] = weights.get(key, 0.0) + float(probability)
    return {name: weight for name, weight in weights.items() if weight > 1e-4}


def _verdict(
    predictor: Predictor,
    belief: Belief,
    plan: Plan,
    suspects: Sequence[SuspectView],
    pairs: Sequence[Pair],
    readings: Sequence[Reading],
) -> VerdictView:
    circuit = predictor.circuit
    lead = plan.leading[0]
    top = next(s for s in suspects if s.unit == lead)
    inseparable = len(plan.leading) > 1
    rest = [s for s in suspects if s.unit not in plan.leading and s.probability > 0.01][:4]
    alternatives = [
        Alternative(unit=s.unit, title=s.title, probability=s.probability, told_by=_told_by(predictor, belief, plan, lead, s.unit))
        for s in rest
    ]
    return VerdictView(
        settled=plan.settled, reason=plan.reason, sentence=_sentence(plan, top, inseparable, circuit) + _two_faults(circuit, pairs),
        group=top.group,
        units=list(plan.leading), certainty=plan.certainty, inseparable=inseparable, alternatives=alternatives,
        changes_mind=_changes_mind(plan, alternatives), actions=_actions(circuit, plan, top, readings), cautions=_repair_cautions(circuit, plan),
        expected_loss_min=plan.expected_loss,
    )  # fmt: skip


def _two_faults(circuit: Circuit, pairs: Sequence[Pair]) -> str:
    """The likeliest pair in words; nothing if it is not likely."""
    if not pairs or pairs[0].probability < PAIR_SAID_ABOVE:
        return ""
    first = pairs[0]
    named = " and ".join(
        f"{circuit.faults[fault].title}{f' ({severity})' if severity not in ('', 'open', 'on', 'closed', 'dead') else ''}"
        for fault, severity in zip(first.faults, first.severities, strict=True)
    )
    return f" Only two faults together explain every reading: {named} ({format_share(first.probability)}). Prove each by itself."


def _sentence(plan: Plan, top: SuspectView, inseparable: bool, circuit: Circuit) -> str:
    if top.unit == NONE:
        return f"No fault is present while measuring ({format_share(plan.certainty)}). It may be intermittent: do not replace anything."
    if top.unit == UNKNOWN:
        return "I do not know. No single fault on this drawing explains the readings: check set-up and points, then call for help."
    prefix = "" if plan.certainty >= 0.9 else "Not settled. Most likely: "
    fault = top.faults[0].title if top.faults else top.title
    if not inseparable:
        return f"{prefix}{top.group.capitalize()}: {fault} ({format_share(plan.certainty)})."
    others = ", ".join(unit_title(circuit, unit) for unit in plan.leading[1:])
    return (
        f"{prefix}{top.group.capitalize()}: {fault}, or equally {others}: one class of {len(plan.leading)} that no test allowed here "
        f"can separate ({format_share(plan.certainty)} together)."
    )


def _told_by(predictor: Predictor, belief: Belief, plan: Plan, lead: str, other: str) -> str:
    """The proposed test that best tells two units apart, in words."""
    hypotheses = belief.hypotheses
    one, two = (hypotheses.member[:, hypotheses.units.index(u)] * belief.now for u in (lead, other))
    best, words = 0.3, "no test that is proposed here"
    for proposal in plan.proposals:
        table = proposal.predictions.outcome[proposal.index]
        distance = 0.5 * float(np.abs(table @ (one / one.sum()) - table @ (two / two.sum())).sum())
        if distance > best:
            best, words = distance, describe_test(predictor.circuit, proposal.test)
    return words


def describe_test(circuit: Circuit, test: Test) -> str:
    """A test in one phrase."""
    device = INSTRUMENTS[test.instrument]
    usual = test.black in (circuit.black_reference, CHASSIS)
    leads = f"at {test.red}" if usual else f"from {test.red} to {test.black}"
    return f"{device.title.lower()} {leads}, {test.setup.describe()}"


def _changes_mind(plan: Plan, alternatives: Sequence[Alternative]) -> str:
    if not alternatives:
        return "Nothing that can be measured here with these tools; the check after the repair will."
    telling = next((a for a in alternatives if not a.told_by.startswith("no test")), None)
    if telling is None:
        return (
            f"{alternatives[0].title} ({format_share(alternatives[0].probability)}) is left, and no proposed test tells it apart."
        )
    return f"A result that favours {telling.title}: {telling.told_by}."


def _actions(circuit: Circuit, plan: Plan, top: SuspectView, readings: Sequence[Reading]) -> list[str]:
    if top.unit == NONE:
        return [
            "Wiggle, warm or wet the harness while watching a reading",
            "Hand back only after the complaint was reproduced or explained",
        ]
    if top.unit == UNKNOWN:
        return [
            "Check that every reading was taken at the point and in the set-up shown",
            "Take the readings to someone who knows the vehicle",
        ]
    steps = []
    if any(isinstance(circuit.parts.get(unit), Fuse) for unit in plan.leading):
        steps.append(
            "A blown fuse has a cause: with it out and the key off, measure from its output to ground before a new one goes in. "
            "If that reads low, part what it feeds one by one"
        )
    for unit in plan.leading:
        suspect = circuit.units[unit]
        faults = [f for f in circuit.faults.values() if f.unit == unit]
        repair = top.faults[0].repair if unit == top.unit and top.faults else faults[0].repair
        where = f" ({suspect.place})" if suspect.place else ""
        steps.append(f"{repair}{where}, about {suspect.fit_min:.0f} min")
        if suspect.coded:
            steps.append("Before that, prove its feeds and grounds under load; save its coding while it is still fitted")
    if len(plan.leading) > 1:
        steps.insert(0, "Look at these places first, the quickest to reach first; then repair in this order")
    if by_substitution([(r.test.instrument, r.state) for r in readings]):
        steps.append(
            "Found by substitution only: say so in the report, and check the old part on the bench before it is thrown away"
        )
    steps.append("Repeat the reading that failed, clear the codes, read again")
    return steps


def _repair_cautions(circuit: Circuit, plan: Plan) -> list[str]:
    tags = [tag for unit in plan.leading if unit in circuit.units for tag in circuit.units[unit].cautions]
    return [*circuit.document.cautions, *(CAUTION_TEXT[tag] for tag in dict.fromkeys(tags)), CAUTION_ALWAYS]
