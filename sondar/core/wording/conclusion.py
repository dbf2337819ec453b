"""What is said when measuring has done its work: the diagnosis, what else it could be, what to do, what can hurt."""

from __future__ import annotations

import numpy as np

from sondar.core.circuit.families import Fuse
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.hypotheses import NONE, UNKNOWN, Suspect
from sondar.core.diagnosis.judge import Judgement
from sondar.core.diagnosis.pairs import Pair
from sondar.core.instruments.finding import GONE
from sondar.core.instruments.new_fuse import BLOWS, NewFuse
from sondar.core.instruments.substitution import Substitution
from sondar.core.quantities import format_share
from sondar.core.wording.labels import describe_test, unit_title

PAIR_SAID_ABOVE = 0.2
SURE_FROM = 0.9
TELLS_FROM = 0.3
NO_TEST = "no test that is proposed here"
PLAIN_SEVERITIES = ("", "open", "on", "closed", "dead")

CAUTION_TEXT = {
    "battery": "Battery work: no sparks, no tools across the posts, follow the manufacturer's order of disconnecting.",
    "message": "A meter sees supply, ground and activity here, never whether the message is right: believe the module's own value for that.",
    "moving": "The motor can start without warning. Keep hands, cloth and probes clear.",
}
CAUTION_ALWAYS = "The manufacturer's instructions, local codes and licensed practice come first."

INCONCLUSIVE = "Inconclusive: no single fault on this drawing explains the readings. Check set-up and points, then ask for help."


def reason_text(judgement: Judgement) -> str:
    """Why measuring goes on, or why not."""
    ranking = judgement.ranking
    threshold = format_share(judgement.situation.decision_threshold)
    return {
        "certain": f"certain enough: {format_share(ranking.certainty)} against the workshop's decision threshold of {threshold}",
        "no test": "no test is left with the tools and points at hand",
        "not worth it": "no remaining test saves more time than it takes",
        "pays": "another test saves more time than it takes",
        "second": "what leads is certain; a second fault beside it would be shown by this test before anything is ordered",
        "verify": "the repair is proved by the tests that failed before it",
        "ways": "what leads is certain only if the circuit is built as drawn; this test shows how it is built",
        "look up": "what leads is certain only if the typical figures hold; a published figure costs less than a wrong part",
        "look": "what leads can be seen: look before it is repaired",
        "two pay": "two tests together save more time than they take",
    }[ranking.reason]


def leading_suspect(judgement: Judgement) -> Suspect:
    """The likeliest fault of the leading unit."""
    suspects, now = judgement.belief.hypotheses.suspects, judgement.belief.now
    inside = [h for h, suspect in enumerate(suspects) if suspect.unit == judgement.ranking.leading[0]]
    return suspects[max(inside, key=lambda h: now[h])]


def sentence(judgement: Judgement) -> str:
    """The diagnosis in a sentence or two."""
    return _single(judgement) + _two_faults(judgement)


def _single(judgement: Judgement) -> str:
    ranking, circuit = judgement.ranking, judgement.predictor.circuit
    suspect = leading_suspect(judgement)
    if suspect.unit == NONE and judgement.repaired:
        done = ", ".join(unit_title(circuit, unit) for unit in judgement.repaired)
        if not judgement.readings:
            return f"Repaired: {done}. Not verified yet: nothing has been measured since."
        seen = "no fault is left here" if ranking.certainty >= judgement.situation.decision_threshold else "no fault shows so far"
        return f"After the repair of {done} {seen} ({format_share(ranking.certainty)})."
    if suspect.unit == NONE:
        return f"No fault is present while measuring ({format_share(ranking.certainty)}). It may be intermittent: do not replace anything."
    if suspect.unit == UNKNOWN:
        again = [r.test.red for r in judgement.readings if r.test.instrument == NewFuse.id and r.state == BLOWS]
        return INCONCLUSIVE + (f" A new fuse at {again[-1]} blew again: what overloads it is still there." if again else "")
    prefix = "" if ranking.certainty >= SURE_FROM else "Not certain yet. Most likely: "
    group, fault = suspect.group.capitalize(), circuit.faults[suspect.fault].title
    if len(ranking.leading) == 1:
        return f"{prefix}{group}: {fault} ({format_share(ranking.certainty)})."
    others = ", ".join(unit_title(circuit, unit) for unit in ranking.leading[1:])
    return (
        f"{prefix}{group}: {fault}, or equally {others}: {len(ranking.leading)} units that no test allowed here "
        f"can tell apart ({format_share(ranking.certainty)} together)."
    )


def _two_faults(judgement: Judgement) -> str:
    """The likeliest pairs in words, those that no test tells apart together; nothing if none is likely."""
    said = [pair for pair in judgement.pairs if pair.probability >= PAIR_SAID_ABOVE]
    if not said:
        return ""
    lead = judgement.ranking.leading[0]
    if all(lead in pair.units for pair in said):
        either = f"with it {', or '.join(_fault_of(judgement, pair, pair.units.index(lead) ^ 1) for pair in said)}"
    else:
        either = "; or ".join(f"{_fault_of(judgement, pair, 0, share=False)} and {_fault_of(judgement, pair, 1)}" for pair in said)
    return f" Only two faults together explain every reading: {either}. Prove each by itself."


def _fault_of(judgement: Judgement, pair: Pair, which: int, *, share: bool = True) -> str:
    """One fault of a pair with its severity and the pair's probability."""
    title, severity = judgement.predictor.circuit.faults[pair.faults[which]].title, pair.severities[which]
    parts = [severity] if severity not in PLAIN_SEVERITIES else []
    parts += [format_share(pair.probability)] if share else []
    return f"{title} ({', '.join(parts)})" if parts else title


def distinguished_by(judgement: Judgement, other: str) -> str:
    """The proposed test that best tells the leading unit and another apart, in words."""
    belief = judgement.belief
    hypotheses = belief.hypotheses
    lead = judgement.ranking.leading[0]
    one, two = (hypotheses.member[:, hypotheses.units.index(u)] * belief.now for u in (lead, other))
    best, words = TELLS_FROM, NO_TEST
    for proposal in judgement.ranking.proposals:
        table = proposal.outlook.chance
        distance = 0.5 * float(np.abs(table @ (one / one.sum()) - table @ (two / two.sum())).sum())
        if distance > best:
            best, words = distance, describe_test(judgement.predictor.circuit, proposal.test)
    return words


def would_change(alternatives: list[tuple[str, float, str]], proposed: str = "") -> str:
    """What result would change the diagnosis; ``alternatives`` are (title, probability, distinguished by).

    Args:
        proposed: the test that is still proposed, if measuring is not done.
    """
    if not alternatives and proposed:
        return f"Only a result that contradicts it: {proposed} is left to confirm it."
    if not alternatives:
        return "Nothing that can be measured here with these tools; the check after the repair will."
    telling = next((a for a in alternatives if a[2] != NO_TEST), None)
    if telling is None:
        title, share, _ = alternatives[0]
        return f"{title} ({format_share(share)}) is left, and no proposed test tells it apart."
    return f"A result that favours {telling[0]}: {telling[2]}."


def actions(judgement: Judgement) -> list[str]:
    """What to do, in order."""
    circuit, ranking = judgement.predictor.circuit, judgement.ranking
    top = leading_suspect(judgement)
    if top.unit == NONE and judgement.repaired:
        return [
            "Measure again what failed before; all of it must be within the expected range",
            "Clear the codes, run what set them, read them again",
            "Put back what was disconnected and removed",
        ]
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
    if any(isinstance(circuit.parts.get(unit), Fuse) for unit in ranking.leading):
        steps.append(
            "A blown fuse has a cause: with it out and the key off, measure from its output to ground before a new one goes in. "
            "If that reads low, disconnect what it supplies one by one"
        )
    for unit in ranking.leading:
        suspect = circuit.units[unit]
        repair = circuit.faults[top.fault].repair if unit == top.unit else _usual_repair(circuit, unit)
        where = f" ({suspect.place})" if suspect.place else ""
        steps.append(f"{repair}{where}, about {suspect.fit_min:.0f} min")
        if suspect.coded:
            steps.append("Before that, prove its supplies and grounds under load; save its coding while it is still fitted")
    if len(ranking.leading) > 1:
        steps.insert(0, "Inspect these places first, the quickest to reach first; then repair in this order")
    if is_by_substitution(judgement):
        steps.append(
            "Found by substitution only: say so in the report, and test the old part on the bench before it is thrown away"
        )
    steps.append("Repeat the reading that failed, clear the codes, read again")
    return steps


def is_by_substitution(judgement: Judgement) -> bool:
    """True if a known-good part made the fault go away: what is found by substitution only is to be said as such."""
    return any(r.test.instrument == Substitution.id and r.state == GONE for r in judgement.readings)


def _usual_repair(circuit: Circuit, unit: str) -> str:
    return next(fault.repair for fault in circuit.faults.values() if fault.unit == unit)


def repair_cautions(judgement: Judgement) -> list[str]:
    """What can hurt during the repair; the manufacturer's instructions always come first."""
    circuit = judgement.predictor.circuit
    tags = [tag for unit in judgement.ranking.leading if unit in circuit.units for tag in circuit.units[unit].cautions]
    return [*circuit.document.cautions, *(CAUTION_TEXT[tag] for tag in dict.fromkeys(tags)), CAUTION_ALWAYS]
