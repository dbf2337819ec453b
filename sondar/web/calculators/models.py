"""Requests and responses about the calculators."""

from __future__ import annotations

from pydantic import BaseModel, Field

from sondar.web.common import Strict


class CalculatorInput(BaseModel):
    """One field."""

    name: str
    label: str
    unit: str
    default: str
    optional: bool


class CalculatorView(BaseModel):
    """One calculator with its formula and source."""

    id: str
    title: str
    formula: str
    source: str
    drawing: str
    inputs: list[CalculatorInput]


class CalculatorList(BaseModel):
    """All calculators."""

    calculators: list[CalculatorView]


class CalculatorPath(BaseModel):
    """Path of a calculator."""

    calculator_id: str


class CalculatorValues(Strict):
    """What was typed, field by field."""

    values: dict[str, str] = Field(default_factory=dict)


class CalculatorResult(BaseModel):
    """One line of an answer."""

    label: str
    text: str
    value: float | None
    unit: str


class CalculatorResults(BaseModel):
    """The answer."""

    results: list[CalculatorResult]
