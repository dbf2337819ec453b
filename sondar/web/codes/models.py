"""Requests and responses about trouble codes and the triage."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.core.triage.views import TriageView
from sondar.web.common import JobPath, Strict


class CodeView(BaseModel):
    """A code with what is known about it."""

    module: str
    code: str
    failure_type: str | None
    status: int | None
    status_words: list[str]
    title: str
    about: str
    kind: str
    circuits: list[str] = Field(description="Ids of the circuits it belongs to.")
    known_from: Literal["library", "workshop", "generic", "none"]
    failure_words: str = Field(description="The failure type in words; empty for none.")
    why_not: str = Field(description="Why nothing is known of it; empty if something is.")
    template: str = Field(description="Typical circuit to test, where no circuit of the vehicle knows the code.")
    danger: str = Field(description="Caution of a system on which nothing is measured; empty for every other.")
    behaviour: str | None = None
    behaviour_reason: str = ""
    after_s: float | None = None


class ScanView(BaseModel):
    """One reading of the codes."""

    id: UUID
    seq: int
    source: str
    modules: dict[str, bool | str] = Field(
        description="True: answered; false: silent; text: there, and why it did not say its codes."
    )
    conditions: list[str]
    at: datetime
    by: str | None
    after_s: float | None = Field(description="Seconds since clearing; none before it.")
    codes: list[CodeView]


class ScanIn(Strict):
    """Codes as typed or pasted, or the text of a CSV or JSON file."""

    client_key: UUID
    source: Literal["typed", "import"] = "typed"
    text: str = Field(max_length=100_000)
    rows: list[int] | None = Field(
        None, max_length=3000, description="Rows of the file's preview to keep; all if left out, if none is doubtful."
    )
    conditions: list[str] = Field(default_factory=list, max_length=10)
    none_stored: bool = Field(False, description="The scan tool was used and no module had a code.")


class CodeFileIn(Strict):
    """The text of a file of codes, to be looked at before anything is kept."""

    text: str = Field(max_length=100_000)


class CodeFileRow(BaseModel):
    """One code of a file as it was understood."""

    row: int
    line: int
    text: str
    module: str
    code: str
    failure_type: str | None
    status: int | None
    status_words: list[str]
    words: str = Field(description="What the scan tool says of it.")
    doubt: str


class CodeFileLine(BaseModel):
    """A line that gave no code."""

    line: int
    text: str
    why: str


class CodeFileView(BaseModel):
    """What a file seems to say; nothing has been kept."""

    form: str
    unused: list[str]
    rows: list[CodeFileRow]
    left_out: list[CodeFileLine]


class VehicleScanIn(Strict):
    """Reads the codes out of the connected vehicle."""

    client_key: UUID
    conditions: list[str] = Field(default_factory=list, max_length=10)


class ClearIn(Strict):
    """Clears the codes; the list from before is kept."""

    client_key: UUID
    by: Literal["vehicle", "hand"] = Field(description="Sondar clears through the vehicle interface, or it was done by hand.")


class MeaningIn(Strict):
    """What the workshop knows about a code of this make."""

    title: str = Field(min_length=1, max_length=200)
    about: str = Field("", max_length=2000)


class CodePath(JobPath):
    """Path of a code."""

    code: str = Field(pattern=r"^[PCBU][0-3][0-9A-F]{3}$")


class PartFirstView(BaseModel):
    """A part to test on a vehicle of which only the codes are known."""

    part: str
    template: str
    code: str = Field(description="The code that names it; empty where several point at what they share.")
    codes: list[str]
    reason: str


class TriageAnswer(BaseModel):
    """The triage, or why there is none."""

    available: bool
    reason: str
    triage: TriageView | None
    parts: list[PartFirstView] = Field(
        description="What the codes alone say, the first to test in front; empty on a known vehicle."
    )


class DiagnosisIn(Strict):
    """Opens a diagnosis of a circuit of the vehicle, or on any stored one."""

    client_key: UUID
    circuit_version_id: UUID
    reason: str = Field("", max_length=500)
    carry: bool = Field(True, description="Begin with what the triage believes.")


class HeardView(BaseModel):
    """A module, whether it answers the scan tool, and which others miss it."""

    id: str
    title: str
    state: Literal["answers", "silent", "not asked"]
    missed_by: list[str]
    missed_before: list[str]


class ContactView(BaseModel):
    """What follows for one or several modules, and what to measure in order."""

    modules: list[str]
    sentence: str
    why: str
    checks: list[str]
    circuit: str = Field(description="Slug of the circuit that holds the module's supply; empty if none is known.")


class ModulesView(BaseModel):
    """Who hears whom."""

    heard: list[HeardView]
    found: list[ContactView]
