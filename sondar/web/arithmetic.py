"""The sums of the trade: which panels there are, and their results."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field

from sondar.core.arithmetic import PANELS, work_out
from sondar.web.models import ProblemDetails, Strict

api = APIBlueprint(
    "arithmetic",
    __name__,
    url_prefix="/api/v1",
    abp_tags=[Tag(name="arithmetic")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "422": ProblemDetails},
)


class PanelInput(BaseModel):
    """One field."""

    name: str
    label: str
    unit: str
    default: str
    optional: bool


class PanelView(BaseModel):
    """One sum with its formula and source."""

    id: str
    title: str
    formula: str
    source: str
    drawing: str
    inputs: list[PanelInput]


class PanelList(BaseModel):
    """All sums."""

    panels: list[PanelView]


class PanelPath(BaseModel):
    """Path of a sum."""

    panel_id: str


class PanelValues(Strict):
    """What was typed, field by field."""

    values: dict[str, str] = Field(default_factory=dict)


class PanelResult(BaseModel):
    """One line of an answer."""

    label: str
    text: str
    value: float | None
    unit: str


class PanelResults(BaseModel):
    """The answer."""

    results: list[PanelResult]


@api.get("/arithmetic", responses={"200": PanelList})
def list_panels() -> Any:
    """Every sum with its fields, formula and source."""
    views = [
        PanelView(
            id=p.id, title=p.title, formula=p.formula, source=p.source, drawing=p.drawing,
            inputs=[PanelInput(**item.__dict__) for item in p.inputs],
        )
        for p in PANELS.values()
    ]  # fmt: skip
    return PanelList(panels=views).model_dump(mode="json")


@api.post("/arithmetic/<string:panel_id>", responses={"200": PanelResults})
def compute(path: PanelPath, body: PanelValues) -> Any:
    """Results of one sum; nothing is recorded."""
    found = work_out(path.panel_id, body.values)
    return PanelResults(results=[PanelResult(**item.__dict__) for item in found]).model_dump(mode="json")
