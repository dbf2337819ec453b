"""Calculators of the trade: which there are, and their results."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.core.calculators import CALCULATORS, work_out
from sondar.web.calculators.models import (
    CalculatorInput,
    CalculatorList,
    CalculatorPath,
    CalculatorResult,
    CalculatorResults,
    CalculatorValues,
    CalculatorView,
)
from sondar.web.problems import ProblemDetails

api = APIBlueprint(
    "calculators",
    __name__,
    url_prefix="/api/v1",
    abp_tags=[Tag(name="calculators")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "422": ProblemDetails},
)


@api.get("/calculators", responses={"200": CalculatorList})
def list_panels() -> Any:
    """Every calculator with its fields, formula and source."""
    views = [
        CalculatorView(
            id=p.id, title=p.title, formula=p.formula, source=p.source, drawing=p.drawing,
            inputs=[CalculatorInput(**item.__dict__) for item in p.inputs],
        )
        for p in CALCULATORS.values()
    ]  # fmt: skip
    return CalculatorList(calculators=views).model_dump(mode="json")


@api.post("/calculators/<string:calculator_id>", responses={"200": CalculatorResults})
def compute(path: CalculatorPath, body: CalculatorValues) -> Any:
    """Results of one calculator; nothing is recorded."""
    found = work_out(path.calculator_id, body.values)
    return CalculatorResults(results=[CalculatorResult(**item.__dict__) for item in found]).model_dump(mode="json")
