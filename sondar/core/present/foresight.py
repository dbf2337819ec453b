"""What follows the likeliest results of the next test, for the outside: a screen goes on by it while the server cannot be reached."""

from __future__ import annotations

from pydantic import BaseModel, Field

from sondar.core.diagnosis.foresight import LikelyResult
from sondar.core.diagnosis.judge import Judgement
from sondar.core.present.assessment import OutcomeSuspect, ProposalView, leading_suspects, proposal_view
from sondar.core.present.tests import TestView, test_view
from sondar.core.wording import conclusion as words
from sondar.core.wording.proposals import outcome_label

OUTCOMES_SHOWN = 3


class ForeseenResult(BaseModel):
    """One likely result of a test, and what would stand after it."""

    label: str
    word: str | None = Field(description="Word of the instrument; null for a figure.")
    low: float | None = Field(description="Least figure, in SI units, that counts as this result.")
    high: float | None
    probability: float
    sentence: str = Field(description="The diagnosis as it would stand.")
    settled: bool
    suspects: list[OutcomeSuspect]
    proposal: ProposalView | None = Field(description="The test that would come next; null if there is none.")
    then: list[ForeseenResult] = Field(description="Likely results of that test; empty where it ends.")


class Foreseen(BaseModel):
    """The next test with its likely results."""

    evidence_seq: int = Field(description="Last entry that this follows from.")
    test: TestView | None
    results: list[ForeseenResult]


def foreseen_view(judgement: Judgement, evidence_seq: int, results: list[ForeseenResult]) -> Foreseen:
    """The next test of a judgement with its likely results."""
    proposals = judgement.ranking.proposals
    test = test_view(judgement.predictor.circuit, proposals[0].test) if proposals else None
    return Foreseen(evidence_seq=evidence_seq, test=test, results=results)


def foreseen_result(before: Judgement, result: LikelyResult, after: Judgement, then: list[ForeseenResult]) -> ForeseenResult:
    """What would stand after a likely result of the first proposal of ``before``."""
    proposals = after.ranking.proposals
    proposal = proposal_view(after.predictor, after.belief, proposals[0], after.situation.starting) if proposals else None
    if proposal is not None:
        proposal = proposal.model_copy(update={"outcomes": proposal.outcomes[:OUTCOMES_SHOWN]})
    return ForeseenResult(
        label=outcome_label(before.ranking.proposals[0].outlook, result.outcome.index), word=result.reading.state, low=result.low,
        high=result.high, probability=result.outcome.probability, sentence=words.sentence(after), settled=after.ranking.settled,
        suspects=leading_suspects(after.predictor.circuit, after.belief.hypotheses.units, after.belief.units()),
        proposal=proposal, then=then,
    )  # fmt: skip
