"""The lists that screens choose from."""

from __future__ import annotations

from pydantic import BaseModel, Field

from sondar.core.present.tests import InstrumentView


class Choice(BaseModel):
    """Something to pick: what is stored, and what it is called."""

    key: str
    title: str


class Term(BaseModel):
    """A term of the trade: what it means and why it matters."""

    term: str
    meaning: str
    matters: str
    synonyms: list[str]


class GroupChoice(BaseModel):
    """Whose a fault may be, and how often it is so by Sondar's own figures."""

    key: str
    percent: float
    reason: str


class RepairWords(BaseModel):
    """Words from which the record of a repair is chosen."""

    part_conditions: list[str]
    part_checked: list[str]
    harness_methods: list[str]
    wear: list[str]
    compared: list[str]
    bypass_states: list[str]


class Lists(BaseModel):
    """Every list that is chosen from, once."""

    stages: list[str]
    conditions: list[Choice]
    environments: list[Choice]
    startings: list[Choice] = Field(description="How a vehicle may be switched on.")
    run_conditions: list[str]
    instruments: list[InstrumentView]
    other_tools: list[Choice] = Field(description="Tools that show nothing themselves.")
    groups: list[GroupChoice]
    roles: list[Choice]
    repair: RepairWords
    sources: list[Choice]
    glossary: list[Term]
