"""Looking up a figure is a test too: what knowing it would be worth now, in minutes.

A figure of the drawing that is only a range is a parameter of every prediction (``families/doubts``), and what the readings have taught
about it differs from suspect to suspect: 6 Ω across an injector means a coil of 6 Ω if it is good, and one of 12 Ω if half of its turns
are shorted. The published figure decides between the two as a measurement would. Its worth is the expected fall of the expected loss
(Raiffa and Schlaifer, *Applied Statistical Decision Theory*, 1961, ch. 4), with the figure cut into steps of equal chance.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.special import ndtr

from sondar.core.circuit.families.doubts import FIGURES
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.costs import Situation, loss_matrix
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.proposal import Ranking
from sondar.core.diagnosis.worth import CONFIRMS_ABOVE, NEGLIGIBLE

Array = npt.NDArray[np.float64]

MINUTES = 3.0
"""What finding a figure takes in the maker's documents, once one has them."""
PUBLISHED_TO = 0.05
"""A good part may differ from its published figure by this share of it, as a standard deviation of the logarithm."""
STEPS = 24
FARTHEST_SDS, HALVINGS = 6.0, 30
LEAST_SAVING_MIN = 1.5
"""A figure worth less than this is not mentioned."""


@dataclass(frozen=True)
class LookUp:
    """A figure that nobody knows here and that somebody has published.

    Attributes:
        part, field: where it stands. saving_min: expected fall of the expected loss, minutes. low, high: the range in which a good part's
            figure lies by what has been read, with a chance of 90 %, in the unit of the field.
    """

    part: str
    field: str
    saving_min: float
    low: float
    high: float
    minutes: float = MINUTES

    @property
    def saving_per_min(self) -> float:
        """Expected minutes saved per minute spent."""
        return self.saving_min / self.minutes


def figure_name(part: str, field: str) -> str:
    """What a figure is excluded under once nobody has found it."""
    return f"{part}.{field}"


def put_off(ranking: Ranking, found: tuple[LookUp, ...]) -> Ranking:
    """A call waits for a figure that is worth more minutes than finding it takes."""
    if ranking.settled and ranking.reason == "certain" and found and found[0].saving_per_min >= CONFIRMS_ABOVE:
        return replace(ranking, settled=False, reason="look up")
    return ranking


def look_ups(predictor: Predictor, belief: Belief, situation: Situation) -> tuple[LookUp, ...]:
    """Figures worth looking up, the most worth first; none where every figure of the drawing is known."""
    found = [one for one in _each(predictor, belief, situation) if one.saving_min >= LEAST_SAVING_MIN]
    return tuple(sorted(found, key=lambda one: -one.saving_min))


def _each(predictor: Predictor, belief: Belief, situation: Situation) -> Iterator[LookUp]:
    circuit = predictor.circuit
    if not circuit.doubts:
        return
    loss = loss_matrix(circuit, belief.hypotheses, situation.rate_per_hour)
    units = belief.units()
    now = float(units @ loss @ units)
    for name, (part, field, sd) in circuit.doubts.items():
        if field not in FIGURES or name not in predictor.parameters.names or figure_name(part, field) in situation.not_found:
            continue
        mean, spread = _learned(predictor, belief, name)
        chance = _chances(belief.now, mean, np.hypot(spread, PUBLISHED_TO / sd))
        joint = chance @ (belief.now[:, None] * belief.hypotheses.member)  # (K, U)
        after = ((joint @ loss) * joint).sum(axis=1) / np.maximum(joint.sum(axis=1), 1e-12)
        middle = float(getattr(circuit.parts[part], field))
        low, high = middle * np.exp(np.sinh(sd) * _quantiles(belief.now, mean, spread, np.array([0.05, 0.95])))
        yield LookUp(part, field, max(now - float(after.sum()), 0.0), float(low), float(high))


def _learned(predictor: Predictor, belief: Belief, name: str) -> tuple[Array, Array]:
    """Mean and standard deviation (H,) of a parameter under every hypothesis; not on the drawing: nothing has been learned."""
    one = np.zeros((1, len(predictor.parameters.names)))
    one[0, predictor.parameters.index(name)] = 1.0
    centre, square = np.zeros(belief.cells.shape[1]), np.zeros(belief.cells.shape[1])
    for weight, filter_ in zip(belief.cells, belief.filters, strict=True):
        mean, variance = filter_.along(one)
        centre += weight * mean[:, 0]
        square += weight * (variance[:, 0] + mean[:, 0] ** 2)
    spread = np.sqrt(np.maximum(square - centre**2, 1e-6))
    return np.append(centre, 0.0), np.append(spread, 1.0)


def _chances(weights: Array, mean: Array, spread: Array) -> Array:
    """(K, H) chance that the figure lies in each step; the steps are about equally likely."""
    edges = _quantiles(weights, mean, spread, np.arange(1, STEPS) / STEPS)
    below = ndtr((edges[:, None] - mean) / spread)
    return np.diff(np.vstack([np.zeros(len(mean)), below, np.ones(len(mean))]), axis=0)


def _quantiles(weights: Array, mean: Array, spread: Array, shares: Array) -> Array:
    """Of a mixture of normal distributions, by halving."""
    on = weights > NEGLIGIBLE
    weights, mean, spread = weights[on] / weights[on].sum(), mean[on], spread[on]
    far = float((np.abs(mean) + FARTHEST_SDS * spread).max())
    low, high = np.full(len(shares), -far), np.full(len(shares), far)
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        below = ndtr((middle[:, None] - mean) / spread) @ weights < shares
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    return np.asarray(0.5 * (low + high))
