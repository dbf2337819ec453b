"""What tests may show after all that the readings have taught about the battery and the temperature."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.belief import Belief, shared_states
from sondar.core.diagnosis.predictions import (
    KNOWN_BATTERY,
    KNOWN_K,
    NEVER_BELOW,
    Outlook,
    Predictor,
    SetupPredictions,
    outcome_classes,
)
from sondar.core.instruments import INSTRUMENTS
from sondar.core.instruments.base import Display

Array = npt.NDArray[np.float64]

OUT_OF_PLAY = 1e-7
"""What hypotheses below this probability would show is not worked out again."""


def learned_outlooks(predictor: Predictor, belief: Belief, tests: Sequence[tuple[SetupPredictions, int]]) -> list[Outlook]:
    """The outlook of each test (set-up, index), moved to the battery and temperature that the readings have shown."""
    found = [predictions.outlook(index) for predictions, index in tests]
    by_instrument: dict[str, list[int]] = {}
    for position, (predictions, index) in enumerate(tests):
        if found[position].shown.shared is not None:
            by_instrument.setdefault(predictions.tests[index].instrument, []).append(position)
    setups = list(dict.fromkeys(tests[position][0].setup for positions in by_instrument.values() for position in positions))
    states = shared_states(predictor, setups, belief.filters, belief.cells) if setups else {}
    in_play = np.union1d([0], np.flatnonzero(belief.now[:-1] > OUT_OF_PLAY))
    for name, positions in by_instrument.items():
        moved = []
        for position in positions:
            setup = tests[position][0].setup
            moved.append(_moved(predictor, setup, found[position].shown, *states[setup]))
        parts = zip(*((d.mean, d.sd, d.words, d.nominal) for d in moved), strict=True)
        joined = Display(INSTRUMENTS[name], *(np.concatenate(arrays, axis=1) for arrays in parts))
        edges, outcome = outcome_classes(joined, np.arange(len(moved)), in_play)
        for row, position in enumerate(positions):
            used = np.flatnonzero(outcome[row].max(axis=1) > NEVER_BELOW)
            found[position] = Outlook(moved[row], edges[row], used, outcome[row, used])
    return found


def _moved(predictor: Predictor, setup: Setup, shown: Display, mean: Array, variance: Array) -> Display:
    """A display (H − 1, 1) at the learned battery and temperature; the spread that the tables counted as known is taken out first."""
    assert shown.shared is not None
    per_unit = shown.shared[:, :, 0]  # (2, H − 1)
    battery = np.linalg.norm(predictor.shared_directions(setup)[0])
    known = np.array([battery * KNOWN_BATTERY, KNOWN_K])[:, None]
    left = shown.sd[:, 0] ** 2 + (per_unit**2 * (variance - known**2)).sum(axis=0)
    sd = np.sqrt(np.maximum(left, 0.25 * shown.sd[:, 0] ** 2))[:, None]
    return Display(shown.instrument, shown.mean + (per_unit * mean).sum(axis=0)[:, None], sd, shown.words, shown.nominal)
