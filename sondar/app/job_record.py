"""What the store keeps of a job, put together for triage, measuring and screen. No SQL and no formulas: only who goes where."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sondar.core.circuit.model import Group
from sondar.core.circuit.network import Circuit
from sondar.core.codes import (
    Classified,
    FoundCode,
    ReRead,
    chance_present,
    classify,
    evidence_weight,
    is_stored,
)
from sondar.core.diagnosis.predictions import TEMPERATURE_SD
from sondar.core.former_names import current_stage
from sondar.core.quantities import format_distance
from sondar.core.triage.evidence import Evidence, SeenCode
from sondar.core.triage.model import TriageModel
from sondar.core.triage.prior_factors import Answers
from sondar.core.verification import Look
from sondar.core.vin import vin_problem, vin_warning
from sondar.store.codes import Clearing, Scan
from sondar.store.intake import Answer

ASKED_TEMPERATURE_SD = 6.0
"""Kelvins by which parts differ from the temperature of the surroundings that was asked for: sun, wind, an engine that has run."""

RUN_CONDITIONS = ("key cycled", "engine run", "warm", "cold", "driven", "load", "wet", "actuator commanded")
"""What can be run between clearing and re-reading."""

RUN_FOR_COMPLAINT = {"cold": "cold", "hot": "warm", "wet": "wet", "bumps": "driven", "load": "load", "start": "engine run"}
WEIGHT_OF = {"hard": 1.0, "new": 1.0, "conditional": 0.97, "intermittent": 0.9, "history": 0.3}


# -- answers --------------------------------------------------------------------------------------------


def value_of(answers: Mapping[str, Answer], field: str, default: Any) -> Any:
    """The latest answer, or the default; a stage in its former spelling reads as that of today."""
    found = answers.get(field)
    value = default if found is None or found.value is None else found.value
    return current_stage(value) if field == "stage" else value


def noticed(answers: Mapping[str, Answer], complaint: str) -> tuple[str, list[str]]:
    """The complaint as it was last said, the one of the check-in by default, and the symptoms that were picked."""
    return str(value_of(answers, "complaint", complaint)), list(value_of(answers, "symptoms", []))


def temperature_sd(answers: Mapping[str, Answer]) -> float:
    """How well the temperature of the parts is known, in kelvin."""
    return ASKED_TEMPERATURE_SD if value_of(answers, "temperature_c", None) is not None else TEMPERATURE_SD


def intake_answers(answers: Mapping[str, Answer], group_shares: Mapping[Group, float]) -> Answers:
    """The answers that speak about faults; ``group_shares`` are the workshop's own figures for what fails."""
    return Answers(
        conditions=frozenset(value_of(answers, "conditions", [])), environments=frozenset(value_of(answers, "environment", [])),
        recent_work=frozenset(value_of(answers, "recent_work", [])), battery_v=value_of(answers, "battery_v", None),
        reproduced=value_of(answers, "reproduced", None), group_shares=group_shares,
    )  # fmt: skip


def warnings(
    answers: Mapping[str, Answer], vin: str, mileage_km: int | None, mileage_before: int | None, distance_unit: str = "km"
) -> list[str]:
    """What should make someone look twice."""
    found = []
    if vin and vin_problem(vin) is None:
        said = vin_warning(vin)
        if said:
            found.append(f"VIN: {said}.")
    if mileage_km is not None and mileage_before is not None and mileage_km < mileage_before:
        before, now = (format_distance(km, distance_unit) for km in (mileage_before, mileage_km))
        found.append(f"Mileage goes backwards: {before} at an earlier visit, {now} now.")
    volts = value_of(answers, "battery_v", None)
    if volts is not None and volts < 11.8:
        found.append(f"Battery at {volts:g} V: charge it first; low voltage sets codes of its own.")
    return found


# -- codes ----------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class CodeFile:
    """The codes of a job as they stand.

    Attributes:
        before: the list kept from before clearing (all codes read so far if nothing was cleared), stored ones only.
        modules: module -> True if it answered, False if it was silent, else why it did not say its codes, over those scans.
        since: re-reads after the last clearing.
        classified: how each code behaved; empty before clearing and re-reading.
    """

    before: tuple[FoundCode, ...]
    modules: dict[str, bool | str]
    untested: frozenset[str]
    since: tuple[tuple[Scan, float], ...]
    classified: dict[tuple[str, str], Classified]
    clearing: Clearing | None


def code_file(scans: Sequence[Scan], clearings: Sequence[Clearing], answers: Mapping[str, Answer]) -> CodeFile:
    """Put the scans in order around the last clearing."""
    clearing = clearings[-1] if clearings else None
    earlier = [s for s in scans if clearing is None or s.seq < clearing.seq]
    codes: dict[tuple[str, str, str | None], FoundCode] = {}
    modules: dict[str, bool | str] = {}
    untested: set[str] = set()
    for scan in earlier:
        modules.update(scan.modules)
        for code in scan.codes:
            if is_stored(code.status):
                codes[code.module or "", code.code, code.failure_type] = code
            else:
                untested.add(code.code)
    since = tuple(
        (s, (s.created_at - clearing.created_at).total_seconds()) for s in scans if clearing is not None and s.seq > clearing.seq
    )
    before = tuple(codes.values())
    classified: dict[tuple[str, str], Classified] = {}
    if clearing is not None and since:
        wanted = [RUN_FOR_COMPLAINT[c] for c in value_of(answers, "conditions", []) if c in RUN_FOR_COMPLAINT]
        classified = {(c.module, c.code): c for c in classify(before, _re_reads(before, since), wanted)}
    return CodeFile(before, modules, frozenset(untested), since, classified, clearing)


def _re_reads(before: Sequence[FoundCode], since: Sequence[tuple[Scan, float]]) -> list[ReRead]:
    """Re-reads as the core wants them; conditions add up from one to the next."""
    modules = {code.code: code.module or "" for code in before}
    run: frozenset[str] = frozenset()
    made = []
    for scan, after in since:
        run |= frozenset(scan.conditions)

        def key(code: FoundCode) -> tuple[str, str]:
            return (code.module or modules.get(code.code, ""), code.code)

        stored = frozenset(key(c) for c in scan.codes if is_stored(c.status))
        untested = {c.code for c in scan.codes if not is_stored(c.status)}
        tested = frozenset(
            (c.module or "", c.code) for c in before
            if scan.source == "vehicle" and scan.modules.get(c.module or "") is True and c.code not in untested
        )  # fmt: skip
        made.append(ReRead(after, run, stored, tested - stored))
    return made


def codes_before(scans: Sequence[Scan], seq: int) -> list[FoundCode]:
    """Codes that were stored at any reading before a number in the job, such as that of a repair."""
    found = {(c.module or "", c.code): c for s in scans if s.seq < seq for c in s.codes if is_stored(c.status)}
    return list(found.values())


def looks_since(scans: Sequence[Scan], clearings: Sequence[Clearing], seq: int) -> list[Look] | None:
    """Readings of the codes since they were last cleared after a number in the job; None if they were not."""
    clearing = next((one for one in reversed(clearings) if one.seq > seq), None)
    if clearing is None:
        return None
    return [
        Look((scan.created_at - clearing.created_at).total_seconds(), frozenset(scan.conditions), scan.modules, scan.codes)
        for scan in scans
        if scan.seq > clearing.seq
    ]


def current_codes(file: CodeFile) -> list[FoundCode]:
    """The list before clearing, and what is new since."""
    known = {c.code for c in file.before}
    new = {c.code: c for scan, _ in file.since for c in scan.codes if is_stored(c.status) and c.code not in known}
    return [*file.before, *new.values()]


def stored_now(file: CodeFile) -> list[FoundCode]:
    """Codes that the last reading found stored; none after clearing until they are read again."""
    if file.clearing is None:
        return list(file.before)
    return [code for code in file.since[-1][0].codes if is_stored(code.status)] if file.since else []


# -- evidence -------------------------------------------------------------------------------------------


def evidence(model: TriageModel, file: CodeFile, answers: Mapping[str, Answer], group_shares: Mapping[Group, float]) -> Evidence:
    """Everything known before the first reading, for the triage."""
    seen = {}
    for code in current_codes(file):
        behaviour = file.classified.get((code.module or "", code.code))
        weight = WEIGHT_OF.get(behaviour.behaviour, evidence_weight(code.status)) if behaviour else evidence_weight(code.status)
        seen[code.code] = SeenCode(code.module or "", code.code, weight)
    read = frozenset(m for m, answered in file.modules.items() if answered is True) if file.modules else None
    symptoms = model.circuit.document.symptoms
    return Evidence(
        codes=tuple(seen.values()), read=read, silent=frozenset(m for m, answered in file.modules.items() if answered is False),
        untested=file.untested - set(seen), symptoms=frozenset(value_of(answers, "symptoms", [])) & set(symptoms),
        denied=frozenset(value_of(answers, "denied", [])) & set(symptoms), answers=intake_answers(answers, group_shares),
    )  # fmt: skip


COMES_AND_GOES = 0.5
"""Chance that a fault is there while reading if the customer says that it comes and goes and nobody has reproduced it."""


def present_now(circuit: Circuit, file: CodeFile, answers: Mapping[str, Answer]) -> float:
    """Chance that this circuit's fault is there while a reading is taken, from how its codes behaved and what the customer says."""
    own = [c.behaviour for (_, code), c in file.classified.items() if code in circuit.document.codes]
    chance = chance_present(own)
    if "sometimes" in value_of(answers, "conditions", []):
        chance = min(chance, COMES_AND_GOES)
    return max(chance, 0.95) if chance < 0.95 and value_of(answers, "reproduced", None) is True else chance
