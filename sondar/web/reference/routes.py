"""Generic codes by number or words, their pages, typical circuits, and measuring on one at once."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import typical
from sondar.code_library import circuit_templates
from sondar.core.circuit.families.doubts import FIGURES
from sondar.core.codes import SYSTEMS, danger_of
from sondar.core.describing.building import BATTERY, RELAY, RUN
from sondar.core.describing.templates import Template
from sondar.core.errors import invalid
from sondar.core.identification import KINDS, WireReading
from sondar.core.instruments import INSTRUMENTS
from sondar.web.common import DiagnosisSummary, JobPath, diagnosis_view
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails
from sondar.web.reference.models import (
    AskedView,
    CarriesView,
    CodeFound,
    CodePage,
    CodeQuery,
    CodesFound,
    FigureView,
    GenericCodePath,
    OtherCode,
    TemplateList,
    TemplateQuery,
    TemplateView,
    TypicalIn,
    WireReadingIn,
    WiresIn,
    WiresView,
)

LEAST_SHOWN = 0.02
ON_SHEETS = ("coil_ohm", "resistance_ohm", "armature_ohm", "rated_w", "r25_ohm", "total_ohm")
"""Figures that wiring sheets print; what is inside a module stands on none."""

api = APIBlueprint(
    "reference", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="generic codes and typical circuits")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.get("/codes", responses={"200": CodesFound})
def find_codes(query: CodeQuery) -> Any:
    """Codes by number as people say it ("443", "P0443-14"), or by words."""
    found = workspace().compute("codes", typical.codes_by, query.q)
    return CodesFound(codes=[_found(one) for one in found]).model_dump(mode="json")


def _found(one: typical.FoundCode) -> CodeFound:
    return CodeFound(
        code=one.code, failure_type=one.failure_type, failure_words=one.failure_words, as_said=one.as_said, held=one.item is not None,
        meaning=one.item.meaning if one.item else "", kind=one.item.kind if one.item else SYSTEMS[one.code[0]], why_not=one.why_not,
    )  # fmt: skip


@api.get("/codes/<string:code>", responses={"200": CodePage})
def show_code(path: GenericCodePath) -> Any:
    """The page of a code: meaning, what sets it, what it does not say, first looks. A code that is not held says why."""
    one, meanings, circuit = workspace().compute("codes", typical.code_page, path.code)
    item = one.item
    others = {
        name: [OtherCode(code=c, meaning=meanings[c]) for c in getattr(item, name, ())] for name in ("companions", "mistaken_for")
    }
    return CodePage(
        code=path.code, held=item is not None, why_not=one.why_not, danger=danger_of(path.code), meaning=item.meaning if item else "",
        kind=item.kind if item else "", sets=item.sets if item else "", not_said=item.not_said if item else "",
        electrically=item.electrically if item else "", looks=list(item.looks) if item else [], circuit=circuit, **others,
    ).model_dump(mode="json")  # fmt: skip


@api.get("/templates", responses={"200": TemplateList})
def find_templates(query: TemplateQuery) -> Any:
    """Typical circuits for a code or for a part as somebody calls it, the likeliest first; all without either."""
    found, part = workspace().compute("codes", typical.templates_by, query.said.strip(), query.code.upper(), query.wires)
    return TemplateList(templates=[_template(one) for one in found], part=part).model_dump(mode="json")


def _template(one: Template) -> TemplateView:
    parts = one.data.get("parts", {})
    switches = [name for name, item in parts.items() if item["family"] == "switch"]
    coded = len(switches) if len(switches) > 1 and len(one.data.get("controls", {})) == 1 else 0
    figures = [
        FigureView(
            place=f"{name}.{field}", label=f"{item.get('title', name)}: {label[:1].lower()}{label[1:]}", unit=unit, value=str(item[field])
        )
        for name, item in parts.items()
        for field, (label, unit) in FIGURES.items()
        if field in item and field in ON_SHEETS
    ]  # fmt: skip
    fed = any(row[1] in (RUN, BATTERY, RELAY) for row in one.data.get("plug", ()))
    return TemplateView(
        id=one.id, title=one.title, wires=one.wires, carries=list(one.carries), figures=figures, fed=fed, relay="relay" in one.data,
        coded_lines=coded,
    )  # fmt: skip


@api.post("/wires", responses={"200": WiresView})
def which_wire(body: WiresIn) -> Any:
    """Which wire is which at an unlabelled plug, from voltages at its harness side; nothing is kept."""
    readings = tuple(_wire_reading(index, one, body.wires) for index, one in enumerate(body.readings))
    found = workspace().compute(
        "wires", typical.identified, typical.WantedWires(body.wires, readings, body.code.upper(), body.said.strip())
    )
    asked = (
        None
        if found.asked is None
        else AskedView(cavity=found.asked.cavity, kind=found.asked.kind, title=KINDS[found.asked.kind].title)
    )
    return WiresView(
        cavities=[[CarriesView(carries=name, probability=p) for name, p in one.items() if p > LEAST_SHOWN] for one in found.carries],
        certainty=found.certainty, certain=found.certain, template=found.template, title=circuit_templates()[found.template].title,
        order=list(found.order), asked=asked, kinds={key: kind.title for key, kind in KINDS.items()},
    ).model_dump(mode="json")  # fmt: skip


def _wire_reading(index: int, one: WireReadingIn, wires: int) -> WireReading:
    if one.cavity > wires:
        raise invalid(f"readings.{index}.cavity", f"the plug has {wires} wires")
    entry = INSTRUMENTS["voltmeter"].understand(one.entry)
    return WireReading(one.cavity, one.kind, entry.value)


@api.post("/jobs/<uuid:job_id>/typical", responses={"201": DiagnosisSummary})
def measure_typical(path: JobPath, body: TypicalIn) -> Any:
    """Begin to test a part that nobody has described here, on the typical circuit of its kind."""
    made = typical.measure(
        workspace(),
        path.job_id,
        typical.WantedTypical(body.client_key, body.template, body.name, body.code.upper(), tuple(body.order)),
    )
    return diagnosis_view(made).model_dump(mode="json"), 201
