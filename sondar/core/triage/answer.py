"""The whole answer of a triage."""

from __future__ import annotations

from sondar.core.triage.candidates import candidates, sentence, unexplained
from sondar.core.triage.evidence import Evidence
from sondar.core.triage.model import TriageModel
from sondar.core.triage.prior_factors import reasons
from sondar.core.triage.split_check import split_check
from sondar.core.triage.views import TriageView

LISTED = 6


def triage(model: TriageModel, evidence: Evidence) -> TriageView:
    """The ordered list of circuits to test with its reasons, and the check that would split the candidates."""
    posterior = model.posterior(evidence)
    found = candidates(model, evidence, posterior)
    return TriageView(
        candidates=found[:LISTED], none_share=float(posterior.count[0]), one_share=float(posterior.count[1]),
        several_share=float(posterior.count[2:].sum()), sentence=sentence(model, evidence, posterior, found),
        unexplained=unexplained(model, evidence), split=split_check(model, posterior),
        prior_reasons=reasons(model.circuit, evidence.answers),
    )  # fmt: skip
