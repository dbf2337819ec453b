"""What triage tells the outside, ready for JSON."""

from __future__ import annotations

from pydantic import BaseModel, Field


class CodeLink(BaseModel):
    """A code and how surely a cause sets it."""

    code: str
    share: float
    follows: bool = Field(False, description="It sets in the wake of another code rather than by itself.")


class Candidate(BaseModel):
    """One place to test: a circuit's own parts, or a section that several circuits share."""

    id: str
    title: str
    circuits: list[str]
    shared: bool
    probability: float = Field(description="That a cause lies here.")
    explains: list[CodeLink]
    should_have_set: list[CodeLink] = Field(description="Codes it would set that are not there.")
    shows: list[str]
    silences: list[str]
    units: list[str]
    open_circuit: str = Field(description="Circuit to open for it.")
    reason: str


class SplitOutcome(BaseModel):
    """One range of the splitting check and where it points."""

    low: float
    high: float
    probability: float
    points_to: str


class SplitCheck(BaseModel):
    """The one voltage that splits the candidates best for its minutes."""

    point: str
    title: str
    setup: str
    controls: dict[str, str]
    minutes: float
    certainty_now: float
    certainty_after: float
    outcomes: list[SplitOutcome]


class TriageView(BaseModel):
    """The whole answer."""

    candidates: list[Candidate]
    none_share: float
    one_share: float
    several_share: float
    sentence: str
    unexplained: list[str]
    split: SplitCheck | None
    prior_reasons: list[str]
