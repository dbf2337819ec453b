"""The next steps worked out before the readings are there, in a worker: what a screen goes on by when the server cannot be reached."""

from __future__ import annotations

import time
from dataclasses import replace

from sondar.app.case import Case
from sondar.app.computed import Computed
from sondar.app.judging import judged, predictor_of
from sondar.core.diagnosis.foresight import likely_results
from sondar.core.diagnosis.judge import Judgement
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments.reading import Reading
from sondar.core.interruption import checkpoint
from sondar.core.present.foresight import ForeseenResult, foreseen_result, foreseen_view

STEPS_AHEAD, RESULTS_EACH = 2, 3
"""Readings ahead, and results of each that are worked out: at most twelve judgements, some 40 kB."""
MOST_CPU_S = 6.0
"""A large circuit is looked less far ahead: no deeper once this much time has been spent."""


def foreseen(computed: Computed, case: Case) -> bytes:
    """The next test with its likely results and what follows them, as JSON of ``Foreseen``."""
    predictor = predictor_of(computed, case)
    now = judged(case, predictor)[0].now
    results = _after(case, predictor, now, (), time.thread_time() + MOST_CPU_S)
    return foreseen_view(now, case.evidence_seq, results).model_dump_json().encode()


def _after(case: Case, predictor: Predictor, before: Judgement, ahead: tuple[Reading, ...], until: float) -> list[ForeseenResult]:
    """Likely results of the first test of ``before``, all of them before anything deeper."""
    if len(ahead) == STEPS_AHEAD or not before.ranking.proposals or time.thread_time() > until:
        return []
    found = []
    for result in likely_results(before.belief, before.ranking.proposals[0], RESULTS_EACH):
        checkpoint("the next steps")
        reading = replace(result.reading, id=f"ahead-{len(ahead)}", present=before.situation.present)
        readings = (*ahead, reading)
        found.append((result, readings, judged(case, predictor, readings)[0].now))
    return [
        foreseen_result(before, result, after, [] if after.ranking.settled else _after(case, predictor, after, readings, until))
        for result, readings, after in found
    ]
