"""Does a recording fit together: what physics asks of its channels at once, with the displacement that the job knows."""

from __future__ import annotations

import re
from dataclasses import dataclass
from uuid import UUID

from sondar.app.recordings import stretch
from sondar.app.workspace import Workspace, known_job
from sondar.core.recordings.model import Channel
from sondar.core.recordings.plausibility import Check, checks, quantity_of
from sondar.store import recordings as store

CUBIC_CENTIMETRES_FROM = 45.0
"""A bare figure in an engine's name from here on is cubic centimetres, below it litres: "125 petrol", "1.2 petrol"."""
LITRES = 1e-3


@dataclass(frozen=True)
class FitsTogether:
    """What was found; ``displacement_l`` is what was used, ``known`` if the job knew it."""

    displacement_l: float | None
    known: bool
    checks: list[Check]


def displacement_in(engine: str) -> float | None:
    """Displacement in litres from an engine as people write it; None if it names none."""
    found = re.search(r"(?<![\d.,a-z])(\d{1,5}(?:[.,]\d{1,3})?)\s*(ccm|cc|cm3|cm³|l\b|litres?)?", engine.lower())
    if found is None:
        return None
    figure, unit = float(found[1].replace(",", ".")), found[2] or ""
    if unit in ("ccm", "cc", "cm3", "cm³") or (not unit and figure >= CUBIC_CENTIMETRES_FROM):
        figure /= 1000.0
    return figure if 0.02 <= figure <= 30.0 else None


def fits_together(work: Workspace, recording_id: UUID, start_s: float, end_s: float, displacement_l: float | None) -> FitsTogether:
    """Hold the channels of a stretch against each other.

    Raises:
        InvalidError: more samples than are read off at once.
    """
    with work.transaction() as db:
        found = store.recording(db, recording_id)
        heads = store.heads(db, recording_id)
        known = displacement_in(known_job(db, found.job_id).engine)
    numbers = [head.number for head in heads if quantity_of(head.name, head.unit) is not None]
    channels, _ = stretch(work, recording_id, numbers, start_s, end_s)
    used = displacement_l or known
    return FitsTogether(used, displacement_l is None and known is not None, work.compute(recording_id, _checks, channels, used))


def _checks(_computed: object, channels: list[Channel], displacement_l: float | None) -> list[Check]:
    return checks(channels, None if displacement_l is None else displacement_l * LITRES)
