"""The sums of the trade: which panels there are, and their results."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field

from sondar.core.calculators import CALCULATORS, work_out
from sondar.web.measure.models import ProblemDetails, Strict

api = APIBlueprint(
    "arithmetic",
    __name__,
    url_prefix="/api/v1",
    abp_tags=[Tag(name="arithmetic")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "422": ProblemDetails},
)


class CalculatorInput(BaseModel):
    """One field."""

    name: str
    label: str
    unit: str
    default: str
    optional: bool


class CalculatorView(BaseModel):
    """One sum with its formula and source."""

    id: str
    title: str
    formula: str
    source: str
    drawing: str
    inputs: list[CalculatorInput]


class CalculatorList(BaseModel):
    """All sums."""

    panels: list[CalculatorView]


class CalculatorPath(BaseModel):
    """Path of a sum."""

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


@api.get("/calculators", responses={"200": CalculatorList})
def list_panels() -> Any:
    """Every sum with its fields, formula and source."""
    views = [
        CalculatorView(
            id=p.id, title=p.title, formula=p.formula, source=p.source, drawing=p.drawing,
            inputs=[CalculatorInput(**item.__dict__) for item in p.inputs],
        )
        for p in CALCULATORS.values()
    ]  # fmt: skip
    return CalculatorList(panels=views).model_dump(mode="json")


@api.post("/calculators/<string:calculator_id>", responses={"200": CalculatorResults})
def compute(path: CalculatorPath, body: CalculatorValues) -> Any:
    """Results of one sum; nothing is recorded."""
    found = work_out(path.calculator_id, body.values)
    return CalculatorResults(results=[CalculatorResult(**item.__dict__) for item in found]).model_dump(mode="json")
