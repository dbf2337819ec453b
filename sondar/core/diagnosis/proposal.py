"""What a plan consists of: outcomes, proposals, and how things stand without them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from sondar.core.diagnosis.costs import Step
from sondar.core.diagnosis.predictions import Outlook
from sondar.core.instruments.base import Test

Reason = Literal["certain", "no test", "not worth it", "pays", "two pay", "look", "second", "verify", "ways", "look up"]


@dataclass(frozen=True)
class Outcome:
    """One outcome class of a test: its row in the outlook, probability, and the unit belief (U,) it would leave."""

    index: int
    probability: float
    units: tuple[float, ...]


@dataclass(frozen=True, eq=False)
class Proposal:
    """A test with what it costs and what it is expected to save.

    Attributes:
        outlook: what may come of it, after all that has been learned.
        minutes: all in; of which ``setup_minutes`` for changes and access, in the order of ``steps``.
        saving_min: expected fall of Φ in minutes.
        teaches: it tells what other readings are judged by, such as a thermometer.
    """

    test: Test
    outlook: Outlook
    minutes: float
    setup_minutes: float
    steps: tuple[Step, ...]
    saving_min: float
    outcomes: tuple[Outcome, ...] = field(default=())
    teaches: bool = False

    @property
    def saving_per_min(self) -> float:
        """Expected minutes saved per minute spent."""
        return self.saving_min / self.minutes


@dataclass(frozen=True, eq=False)
class Ranking:
    """The next test and how things stand without it.

    Attributes:
        proposals: best first; the first is the one to make unless ``settled``.
        settled: measuring has done its work: a diagnosis is due.
        reason: why.
        leading: units of the leading class, most probable first (one unless inseparable).
        certainty: probability of that class.
        expected_loss: Φ now, in minutes.
        same_setup: tests in the set-up and at the places of the first proposal, best first; they cost only their own minutes.
    """

    proposals: tuple[Proposal, ...]
    settled: bool
    reason: Reason
    leading: tuple[str, ...]
    certainty: float
    expected_loss: float
    same_setup: tuple[Proposal, ...] = ()
