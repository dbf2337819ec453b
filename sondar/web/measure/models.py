"""Requests and responses about testing a circuit."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal, Self
from uuid import UUID

from pydantic import BaseModel, Field, model_validator

from sondar.core.limits.card import LimitView
from sondar.core.present.assessment import Assessment
from sondar.core.present.tests import TestView
from sondar.web.common import DiagnosisPath, DiagnosisSummary, JobView, MeterView, Strict, TestIn


class ReadingPath(DiagnosisPath):
    """Path of a reading."""

    reading_id: UUID


class ReadingIn(TestIn):
    """A reading as typed or taken from a meter."""

    client_key: UUID
    entry: str = Field(min_length=1, max_length=40)
    source: Literal["typed", "meter"] = "typed"
    note: str = Field("", max_length=2000)
    meter_id: UUID | None = Field(None, description="Which of the workshop's meters; its accuracy is used.")
    sure: bool = Field(False, description="The order of magnitude was asked about and is meant.")
    supersedes: UUID | None = Field(None, description="Reading that this one corrects: it is voided in the same step.")


class VoidIn(Strict):
    """Voids a reading."""

    client_key: UUID
    reason: str = Field(min_length=1, max_length=500)


class ExclusionIn(Strict):
    """Excludes a point, an instrument or a figure that is published nowhere, or includes it again; or says what is seized."""

    client_key: UUID
    kind: Literal["point", "instrument", "figure", "seized"]
    name: str = Field(min_length=1, max_length=80)
    excluded: bool
    minutes: float | None = Field(None, ge=0, le=6000, description="Of what is seized: until it is apart.")
    price: float | None = Field(None, ge=0, le=1_000_000, description="Of what is seized: what is destroyed on the way.")

    @model_validator(mode="after")
    def _seized_has_its_cost(self) -> Self:
        if self.kind == "seized" and self.excluded and (self.minutes is None or self.price is None):
            raise ValueError("what is seized needs the minutes until it is apart, and what is destroyed on the way (0 for nothing)")
        return self


class ConclusionIn(Strict):
    """Concludes as it stands."""

    client_key: UUID
    seen_seq: int = Field(ge=0, description="``evidence_seq`` of what the person has seen; 409 if anything came after it.")


class ReadingOut(BaseModel):
    """A reading as stored."""

    id: UUID
    seq: int
    instrument: str
    instrument_title: str
    red: str
    black: str
    setup_text: str
    controls: dict[str, str]
    unplugged: list[str]
    entry: str
    label: str
    source: str
    note: str
    created_at: datetime
    voided_because: str | None
    by: str | None
    present: float = Field(description="Chance that the fault was there while reading.")


class RepairPlanQuery(BaseModel):
    """Which units are to be repaired."""

    units: str = Field(min_length=1, max_length=900, description="Ids, separated by commas.")


class RepairStepView(BaseModel):
    """One thing to do."""

    key: str
    stage: Literal["before", "repair", "after"]
    text: str
    caution: bool
    routine: str = Field(description="Id of the vehicle's routine that does it; empty for what hands do.")


class RepairPlan(BaseModel):
    """What a repair consists of."""

    steps: list[RepairStepView]


class RepairIn(Strict):
    """What was repaired or replaced."""

    client_key: UUID
    units: list[Annotated[str, Field(max_length=80)]] = Field(min_length=1, max_length=12, description="Replaceable units.")
    action: str = Field(min_length=1, max_length=1000, description="What was done, in words.")
    substituted: bool = Field(False, description="A known good part was fitted to try it.")


class RepairOut(BaseModel):
    """A repair as kept."""

    id: UUID
    seq: int
    units: list[str]
    titles: list[str]
    action: str
    substituted: bool
    created_at: datetime
    by: str | None


class ToVerify(BaseModel):
    """A test that failed before the repair."""

    reading: str = Field(description="The reading before it that failed.")
    test: TestView
    label: str
    expected: str
    before: str
    now: str | None
    passed: bool | None = Field(description="Within the expected range now; null while it has not been repeated.")


class ExcludedFigure(BaseModel):
    """A figure that nobody has found published."""

    name: str = Field(description="PART.field, as it is included again.")
    title: str


class SeizedOut(BaseModel):
    """What comes apart only by force."""

    name: str
    minutes: float
    price: float


class Exclusions(BaseModel):
    """What is excluded now, and what is seized."""

    point: list[str]
    instrument: list[str]
    figure: list[ExcludedFigure]
    seized: list[SeizedOut]


class SaidBefore(BaseModel):
    """What another version of the engine said of the same readings."""

    engine: str
    sentence: str
    at: datetime


class OpinionOut(BaseModel):
    """What the readings so far answer to somebody else's diagnosis, part by part."""

    part: str
    title: str
    verdict: Literal["confirmed", "not confirmed", "part not needed", "open", "another circuit"]
    sentence: str


class OpinionView(BaseModel):
    """A second opinion that was asked for."""

    by: str = Field(description="Whose diagnosis it is.")
    said: str = Field(description="What they concluded, and what they have bought.")
    answers: list[OpinionOut]


class MeasuringView(BaseModel):
    """Everything the measuring screen shows that changes."""

    job: JobView
    diagnosis: DiagnosisSummary
    readings: list[ReadingOut]
    repairs: list[RepairOut]
    evidence_seq: int = Field(description="Sequence number of the newest entry that this rests on; a conclusion carries it.")
    to_verify: list[ToVerify] = Field(description="Tests that failed before the repair; all must be within the expected range.")
    exclusions: Exclusions
    assessment: Assessment
    meter: bool = Field(description="A meter is connected that can be read.")
    meters: list[MeterView] = Field(description="The workshop's meters to choose from.")
    limits: list[LimitView] = Field(description="Every limit of the circuit, marked by the readings that have not been voided.")
    prior_reasons: list[str] = Field(description="What was known before the first reading, and counts here.")
    opinion: OpinionView | None = Field(description="Set where somebody else's diagnosis is to be answered.")
    said_before: SaidBefore | None = Field(
        description="Set where another version of the engine named other units for the same readings."
    )


class OverlayQuery(BaseModel):
    """Whose predicted values, in which set-up."""

    unit: str = Field("none", max_length=80, description="Unit at fault, or none for a healthy circuit.")
    controls: str = Field("{}", max_length=2000, description="Controls that differ from rest, as JSON.")
    unplugged: str = Field("", max_length=400, description="Connectors apart, separated by commas.")


class MeterReading(BaseModel):
    """What the meter shows, as entry text."""

    entry: str
