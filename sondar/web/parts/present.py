"""Kinds of parts for the API, and the table of a vehicle's parts to be printed; made in a worker."""

from __future__ import annotations

from pathlib import Path

from markupsafe import Markup

from sondar.app.part_reference import VehicleParts
from sondar.core.part_kinds import PartKind
from sondar.core.quantities import format_distance
from sondar.web.parts.models import DueView, PartKindView, VehiclePartsView, VehiclePartView
from sondar.web.report.present import as_pdf, font_faces, pages


def kind_view(kind: PartKind) -> PartKindView:
    """A kind for the API."""
    return PartKindView(**kind.model_dump(exclude={"families"}))


def vehicle_parts_json(found: VehicleParts) -> bytes:
    """As it is sent."""
    view = VehiclePartsView(
        parts=[VehiclePartView(name=name, kind=kind.id, title=kind.title) for name, kind in found.parts], km=found.km,
        due=[DueView(key=one.key, kind=one.kind, do=one.do, state=one.state, said=one.said) for one in found.due], done=found.done,
    )  # fmt: skip
    return view.model_dump_json().encode()


def vehicle_parts_pdf(found: VehicleParts) -> bytes:
    """A table to be printed: every kind once, with the parts of the vehicle that are of it."""
    faces, fonts = font_faces()
    rows: dict[str, tuple[PartKind, list[str]]] = {}
    for name, kind in found.parts:
        rows.setdefault(kind.id, (kind, []))[1].append(name)
    job = found.record.job
    unit = found.record.workshop.distance_unit
    html = (
        pages(Path(__file__).parent)
        .get_template("parts.html")
        .render(
            workshop=found.record.workshop.name,
            vehicle=f"{job.make} {job.model} {job.year or ''}".strip(),
            plate=job.plate,
            distance=lambda kilometres: format_distance(kilometres, unit),
            rows=list(rows.values()),
            due=found.due,
            faces=Markup(faces),
            fonts=Markup(fonts),
        )
    )
    return as_pdf(html)
