"""The ordered list of places to test, with what each explains, what it should have set as well, and why."""

from __future__ import annotations

from collections.abc import Sequence

from sondar.core.circuit.vehicle import Section
from sondar.core.triage.evidence import Evidence
from sondar.core.triage.model import Posterior, TriageModel
from sondar.core.triage.views import Candidate, CodeLink

KIND_ORDER = {"electrical": 0, "rationality": 1, "system": 2}
LISTED_ABOVE = 0.004
IDLE_BELOW = 0.06
"""A candidate that explains nothing of what is known is listed only above this."""


def candidates(model: TriageModel, evidence: Evidence, posterior: Posterior) -> list[Candidate]:
    """Places where a cause may lie, the one to test first in front, each with what it explains."""
    seen = {c.code for c in evidence.codes}
    names = model.observables.codes
    matrix = model.observables.code
    groups: dict[str, list[int]] = {}
    for index, section in enumerate(model.sections):
        groups.setdefault(section.id, []).append(index)
    made = []
    for section_id, rows in groups.items():
        share = posterior.fault[rows]
        probability = float(min(share.sum(), 1.0))
        if probability < LISTED_ABOVE:
            continue
        section = model.sections[rows[0]]
        expected = share @ matrix[rows] / share.sum()
        symptoms = share @ model.observables.symptom[rows] / share.sum()
        silent = share @ model.observables.silent[rows] / share.sum()
        explains = [CodeLink(code=n, share=float(p)) for n, p in zip(names, expected, strict=True) if n in seen and p > 0.3]
        explains += _followers(model, seen, {link.code for link in explains})
        missing = [
            CodeLink(code=n, share=float(p)) for n, p in zip(names, expected, strict=True)
            if n not in seen and p > 0.5 and _was_read(model, n, evidence)
        ]  # fmt: skip
        units: dict[str, float] = {}
        for row in rows:
            unit = model.listed[row][0].unit
            units[unit] = units.get(unit, 0.0) + float(posterior.fault[row])
        leading = sorted(units, key=lambda u: -units[u])[:3]
        made.append(
            Candidate(
                id=section_id, title=section.title, circuits=list(section.circuits), shared=len(section.circuits) > 1,
                probability=probability, explains=explains, should_have_set=missing,
                shows=[n for n, p in zip(model.observables.symptoms, symptoms, strict=True) if n in evidence.symptoms and p > 0.3],
                silences=[n for n, p in zip(model.observables.modules, silent, strict=True) if n in evidence.silent and p > 0.3],
                units=[model.circuit.units[u].title for u in leading],
                open_circuit=_circuit_to_open(model, section, seen | evidence.symptoms), reason="",
            )
        )  # fmt: skip
    if not evidence.is_empty:
        made = [c for c in made if c.explains or c.shows or c.silences or c.probability > IDLE_BELOW]
    made.sort(key=lambda c: -_urgency(model, c))
    return [item.model_copy(update={"reason": _reason(model, item, evidence)}) for item in made]


def _urgency(model: TriageModel, candidate: Candidate) -> float:
    """Probability first; of near equals electrical codes before rationality before system, and more explained before less."""
    kinds = [KIND_ORDER[model.circuit.document.codes[link.code].kind] for link in candidate.explains]
    return candidate.probability * (1.0 + 0.02 * len(candidate.explains)) * (1.0 - 0.05 * min(kinds, default=0))


def _was_read(model: TriageModel, code: str, evidence: Evidence) -> bool:
    module = model.circuit.document.codes[code].module
    return code not in evidence.untested and (bool(evidence.codes) if evidence.read is None else module in evidence.read)


def _circuit_to_open(model: TriageModel, section: Section, seen: set[str]) -> str:
    """Of the circuits that share it, the one with most of what is seen: there most can be measured."""

    def shown(circuit: str) -> int:
        document = model.vehicle.circuits[circuit]
        return len(seen & {*document.codes, *document.symptoms})

    return min(section.circuits, key=lambda c: (-shown(c), c))


def _followers(model: TriageModel, seen: set[str], explained: set[str]) -> list[CodeLink]:
    """Codes that those explained may have upset."""
    codes = model.circuit.document.codes
    found = {}
    for name in sorted(seen - explained):
        chances = [chance for cause, chance in codes[name].follows.items() if cause in explained] if name in codes else []
        if chances:
            found[name] = max(chances)
    return [CodeLink(code=name, share=chance, follows=True) for name, chance in found.items()]


def _reason(model: TriageModel, candidate: Candidate, evidence: Evidence) -> str:
    total = len({c.code for c in evidence.codes})
    parts = []
    if total:
        explained = len(candidate.explains)
        parts.append(
            f"explains {explained} of {total} code{'s' if total > 1 else ''}" if explained else "explains none of the codes"
        )
    titles = model.circuit.document.symptoms
    parts += [f"would show as: {titles[s].title.lower()}" for s in candidate.shows]
    parts += [f"would silence {m}" for m in candidate.silences]
    if candidate.should_have_set:
        codes = ", ".join(link.code for link in candidate.should_have_set[:3])
        parts.append(f"but {codes} should then be there too")
    elif total and candidate.explains:
        parts.append("and no code is missing that it would set")
    return "; ".join(parts)


def sentence(model: TriageModel, evidence: Evidence, posterior: Posterior, found: Sequence[Candidate]) -> str:
    """One cause or several, and where to begin."""
    if evidence.is_empty:
        return "Nothing to go by yet: read the codes or say what is noticed."
    if not found or posterior.count[0] > 0.5:
        return "Nothing on this vehicle's drawings need be wrong now: the codes may tell of an earlier time."
    one, several = float(posterior.count[1]), float(posterior.count[2:].sum())
    first = found[0]
    n = len({c.code for c in evidence.codes})
    what = f"all {n} codes" if n > 1 else "it"
    if one >= several and (n <= 1 or len(first.explains) == n):
        return f"One cause explains {what} best: {first.title}."
    if one >= several:
        return f"Probably one cause, {first.title}; some codes look like its followers or like history."
    return f"More than one cause is likely. Begin with {first.title}: it explains most."


def unexplained(model: TriageModel, evidence: Evidence) -> list[str]:
    """Codes that no circuit of this vehicle knows."""
    return [c.code for c in evidence.codes if c.code not in model.circuit.document.codes]
