"""What the core tells the outside: plain typed records with units in their names, ready for JSON."""

from __future__ import annotations

from pydantic import BaseModel, Field


class SetupView(BaseModel):
    """A set-up in words and fields."""

    controls: dict[str, str]
    unplugged: list[str]
    temperature_c: float
    text: str


class TestView(BaseModel):
    """A test: instrument, leads, set-up."""

    __test__ = False

    instrument: str
    instrument_title: str
    kind: str
    unit: str
    words: list[str]
    red: str
    red_title: str
    black: str
    black_title: str
    where: str = Field(description="Where the leads go, or what is looked at, in a sentence.")
    leads: bool = Field(description="It has two leads; else it looks at a part, a wire or a module's value.")
    only_words: bool
    setup: SetupView


class OutcomeLead(BaseModel):
    """A unit that an outcome would put in front, with the probability it would have."""

    unit: str
    title: str
    probability: float


class OutcomeCard(BaseModel):
    """One possible result of a test and what it would leave."""

    label: str
    probability: float
    as_healthy: bool
    leads: list[OutcomeLead]


class ProposalView(BaseModel):
    """A test with its reckoning and its reasons."""

    test: TestView
    expected: str = Field(description="Range a healthy circuit shows.")
    expected_low: float | None = None
    expected_high: float | None = None
    minutes: float
    setup_minutes: float
    steps: list[str]
    saves_min: float = Field(description="Expected fall of the expected loss, minutes.")
    worth: float = Field(description="Minutes saved per minute spent.")
    why: str
    outcomes: list[OutcomeCard]
    cautions: list[str]


class Movement(BaseModel):
    """A unit whose probability a reading moved."""

    unit: str
    title: str
    before: float
    after: float


class Gauge(BaseModel):
    """A figure against what a healthy circuit shows, for drawing: all in one scale, log10 of ohms or the figure itself."""

    low: float = Field(description="Least a healthy circuit shows.")
    high: float
    value: float
    doubt: float = Field(description="Half-width that meter and entry leave open.")
    log: bool


class ReadingEffect(BaseModel):
    """What one standing reading did."""

    reading: str
    expected: str
    gauge: Gauge | None = Field(None, description="Left out for words.")
    weight: float = Field(0.0, description="How far it moved belief: total variation between before and after, 0 to 1.")
    as_healthy: bool
    note: str
    moved: list[Movement]
    cleared: list[str]


class Evidence(BaseModel):
    """A reading for or against a unit; weight in bans (log10 Bayes factor)."""

    reading: str
    weight_ban: float


class FaultShare(BaseModel):
    """A way a unit may have failed."""

    title: str
    probability: float
    repair: str


class SuspectView(BaseModel):
    """A replaceable unit under suspicion."""

    unit: str
    title: str
    group: str
    place: str
    probability: float
    prior: float
    faults: list[FaultShare]
    evidence: list[Evidence]


class GroupShare(BaseModel):
    """Belief by group at one step of the track."""

    wiring: float
    module: float
    component: float
    system: float = 0.0
    setting: float = 0.0
    none: float
    unknown: float


class UnitHistory(BaseModel):
    """Belief in one unit over the readings."""

    unit: str
    title: str
    shares: list[float]


class Alternative(BaseModel):
    """What else it could be, and what would tell."""

    unit: str
    title: str
    probability: float
    told_by: str


class VerdictView(BaseModel):
    """The judgement as it stands, whether or not it is due."""

    settled: bool
    reason: str
    sentence: str
    group: str
    units: list[str]
    certainty: float
    inseparable: bool
    alternatives: list[Alternative]
    changes_mind: str
    actions: list[str]
    cautions: list[str]
    expected_loss_min: float


class Assessment(BaseModel):
    """Everything Sondar says about a job's circuit, given the readings that stand."""

    setup: SetupView
    proposals: list[ProposalView]
    effects: list[ReadingEffect]
    suspects: list[SuspectView]
    track: list[GroupShare]
    history: list[UnitHistory] = Field(description="Belief of the leading units after each reading, the prior first.")
    free: list[ProposalView] = Field(description="Readings that cost only their own minutes once the first proposal is set up.")
    branch_weights: dict[str, float] = Field(description="Probability that a drawn branch is at fault.")
    verdict: VerdictView
