"""What a diagnosis answers to somebody else's: the part that was named or has been bought already."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.judge import Judgement
from sondar.core.quantities import format_share
from sondar.core.wording.labels import unit_title

Verdict = Literal["confirmed", "not confirmed", "part not needed", "open", "another circuit"]

UNLIKELY_BELOW = 0.05
"""A unit below this is not needed once a diagnosis is due, and not confirmed before."""


@dataclass(frozen=True)
class OpinionAnswer:
    """The answer about one part that was named.

    Attributes:
        part: id as it was named. title: for people. verdict: in a word or two. sentence: why, with figures.
    """

    part: str
    title: str
    verdict: Verdict
    sentence: str


def unit_of(circuit: Circuit, part: str) -> str | None:
    """The unit that would be replaced or repaired if a part were at fault; None if it is not of this circuit."""
    if part in circuit.units:
        return part
    found = circuit.parts.get(part)
    return found.module if found is not None and found.module in circuit.units else None


def opinion_answers(judgement: Judgement, parts: Iterable[str]) -> list[OpinionAnswer]:
    """What the readings so far answer about each part that was named."""
    return [_answer(judgement, part) for part in parts]


def _answer(judgement: Judgement, part: str) -> OpinionAnswer:
    circuit, ranking = judgement.predictor.circuit, judgement.ranking
    unit = unit_of(circuit, part)
    names = judgement.belief.hypotheses.units
    if unit is None or unit not in names:
        return OpinionAnswer(
            part, part, "another circuit", f"{part} is not part of this circuit: these readings tell nothing of it."
        )
    shares = judgement.belief.units()
    share, title = float(shares[names.index(unit)]), unit_title(circuit, unit)
    stands = (
        f"{title} stands at {format_share(share)} after {len(judgement.readings)} reading{'s' * (len(judgement.readings) != 1)}"
    )
    if not ranking.settled:
        verdict: Verdict = "not confirmed" if share < UNLIKELY_BELOW and judgement.readings else "open"
        return OpinionAnswer(part, title, verdict, f"{stands}; measuring goes on.")
    if unit in ranking.leading:
        others = [unit_title(circuit, other) for other in ranking.leading if other != unit]
        beside = f", and cannot be told from {' or '.join(others)} here" if others else ""
        return OpinionAnswer(part, title, "confirmed", f"{stands}{beside}.")
    first = unit_title(circuit, names[int(np.argmax(shares))])
    if share < UNLIKELY_BELOW:
        return OpinionAnswer(part, title, "part not needed", f"{stands}; what the readings say is {_in_sentence(first)}.")
    return OpinionAnswer(part, title, "not confirmed", f"{stands}; {_in_sentence(first)} is likelier.")


def _in_sentence(title: str) -> str:
    return title[0].lower() + title[1:] if title[:2] != title[:2].upper() else title
