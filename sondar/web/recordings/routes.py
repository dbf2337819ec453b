"""Recordings of a job: files in pieces, drawing, features, marks, readings from them, and files out."""

from __future__ import annotations

import re
from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint, Tag
from werkzeug.datastructures import FileStorage

from sondar.app import plausibility, recorded_evidence, recordings
from sondar.app.recorded_evidence import WantedEvidence
from sondar.core.errors import invalid
from sondar.recording_files.mapping import Mapping
from sondar.web.common import JobPath
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails
from sondar.web.recordings.models import (
    ChannelTieIn,
    CheckView,
    Drawn,
    DrawnQuery,
    EvidenceIn,
    ExportQuery,
    Features,
    FeaturesQuery,
    FilePreview,
    KnownGoodIn,
    LaneTieIn,
    LineView,
    MarkIn,
    Missing,
    OpenedRecording,
    Pairs,
    PairsQuery,
    PieceForm,
    PiecePath,
    PlausibilityQuery,
    PlausibilityView,
    ReadIn,
    RecordingIn,
    RecordingList,
    RecordingPath,
    RecordingView,
    TypedIn,
    Used,
)
from sondar.web.recordings.present import feature_view, opened_view, preview_view, recording_view

api = APIBlueprint(
    "recordings", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="recordings")],
    abp_responses={"401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "409": ProblemDetails, "422": ProblemDetails},
)  # fmt: skip


@api.get("/jobs/<uuid:job_id>/recordings", responses={"200": RecordingList})
def list_recordings(path: JobPath) -> Any:
    """Recordings of a job."""
    found = [recording_view(one) for one in recordings.listed(workspace(), path.job_id)]
    return RecordingList(recordings=found, piece_bytes=recordings.PIECE_BYTES).model_dump(mode="json")


@api.post("/jobs/<uuid:job_id>/recordings", responses={"201": RecordingView, "413": ProblemDetails})
def begin(path: JobPath, body: RecordingIn) -> Any:
    """Announce a file; its pieces follow."""
    return recording_view(recordings.begin(workspace(), path.job_id, body.client_key, body.name, body.bytes)).model_dump(
        mode="json"
    ), 201


@api.post("/jobs/<uuid:job_id>/recordings/typed", responses={"201": RecordingView})
def type_in(path: JobPath, body: TypedIn) -> Any:
    """Keep figures that were read off a display, without an instrument that records, as a recording."""
    channels = [recordings.TypedChannel(**one.model_dump()) for one in body.channels]
    made = recordings.typed(
        workspace(), path.job_id, body.client_key, body.name.strip(), channels, body.command.strip(), (body.off, body.on)
    )
    return recording_view(made).model_dump(mode="json"), 201


@api.put("/recordings/<uuid:recording_id>/pieces/<int:number>", responses={"200": RecordingView})
def put_piece(path: PiecePath, form: PieceForm) -> Any:
    """A piece of the file; the same piece again changes nothing."""
    if not isinstance(form.piece, FileStorage):
        raise invalid("piece", "send a file, not text")
    raw = form.piece.read(recordings.PIECE_BYTES + 1)
    return recording_view(recordings.put_piece(workspace(), path.recording_id, path.number, raw)).model_dump(mode="json")


@api.get("/recordings/<uuid:recording_id>/pieces", responses={"200": Missing})
def missing_pieces(path: RecordingPath) -> Any:
    """Pieces that have not come yet: an interrupted file is resumed with them."""
    return Missing(pieces=recordings.missing(workspace(), path.recording_id)).model_dump(mode="json")


@api.get("/recordings/<uuid:recording_id>/preview", responses={"200": FilePreview})
def preview(path: RecordingPath) -> Any:
    """What the file seems to be: how it would be read, its first rows, and what is doubtful."""
    return preview_view(recordings.look(workspace(), path.recording_id)).model_dump(mode="json")


@api.post("/recordings/<uuid:recording_id>/reading", responses={"200": RecordingView})
def read(path: RecordingPath, body: ReadIn) -> Any:
    """Read the file, in the background."""
    mapping = None if body.mapping is None else Mapping.of(body.mapping.model_dump())
    return recording_view(recordings.read(workspace(), path.recording_id, mapping)).model_dump(mode="json")


@api.delete("/recordings/<uuid:recording_id>", responses={"204": None})
def leave(path: RecordingPath) -> Any:
    """Give up a recording that is not ready; its file is removed."""
    recordings.leave(workspace(), path.recording_id)
    return "", 204


@api.get("/recordings/<uuid:recording_id>", responses={"200": OpenedRecording})
def show(path: RecordingPath) -> Any:
    """A recording with its channels, lanes and marks."""
    return opened_view(recorded_evidence.tied(workspace(), path.recording_id)).model_dump(mode="json")


@api.get("/recordings/<uuid:recording_id>/lines", responses={"200": Drawn})
def lines(path: RecordingPath, query: DrawnQuery) -> Any:
    """Channels over a stretch, as least and greatest figure of each column."""
    numbers = [int(word) for word in query.channels.split(",") if word.strip().isdigit()]
    found = recordings.drawn(workspace(), path.recording_id, query.start_s, query.end_s, query.columns, numbers)
    return Drawn(lines=[LineView(**vars(line)) for line in found]).model_dump(mode="json")


@api.get("/recordings/<uuid:recording_id>/features", responses={"200": Features})
def show_features(path: RecordingPath, query: FeaturesQuery) -> Any:
    """What a stretch of a channel offers to be read off; nothing is taken as evidence."""
    found = recordings.read_off(workspace(), path.recording_id, query.channel, query.other, query.start_s, query.end_s)
    return Features(features=[feature_view(one) for one in found]).model_dump(mode="json")


@api.get("/recordings/<uuid:recording_id>/plausibility", responses={"200": PlausibilityView})
def show_plausibility(path: RecordingPath, query: PlausibilityQuery) -> Any:
    """Whether the channels of a stretch fit together: standing pressures and temperatures, air mass, fuel trims, what must follow what."""
    found = plausibility.fits_together(workspace(), path.recording_id, query.start_s, query.end_s, query.displacement_l)
    checks = [CheckView.model_validate({**vars(check), "channels": list(check.channels)}) for check in found.checks]
    return PlausibilityView(displacement_l=found.displacement_l, known=found.known, checks=checks).model_dump(mode="json")


@api.get("/recordings/<uuid:recording_id>/pairs", responses={"200": Pairs})
def show_pairs(path: RecordingPath, query: PairsQuery) -> Any:
    """Two channels at the same moments, to draw one over the other."""
    found = recordings.over_each_other(workspace(), path.recording_id, query.channel, query.other, query.start_s, query.end_s)
    t, first, second = ([], [], []) if found is None else (part.tolist() for part in found)
    return Pairs(t=t, first=first, second=second).model_dump(mode="json")


@api.post("/recordings/<uuid:recording_id>/marks", responses={"201": OpenedRecording})
def add_mark(path: RecordingPath, body: MarkIn) -> Any:
    """Set a mark."""
    return opened_view(recordings.mark(workspace(), path.recording_id, body.client_key, body.at_s, body.text)).model_dump(
        mode="json"
    ), 201


@api.put("/recordings/<uuid:recording_id>/known-good", responses={"200": OpenedRecording})
def say_known_good(path: RecordingPath, body: KnownGoodIn) -> Any:
    """Keep a recording as one of a vehicle in order, to hold others of the make and model against; no words take it back."""
    return opened_view(recordings.say_known_good(workspace(), path.recording_id, body.said.strip())).model_dump(mode="json")


@api.put("/recordings/<uuid:recording_id>/channel-meaning", responses={"200": OpenedRecording})
def tie_channel(path: RecordingPath, body: ChannelTieIn) -> Any:
    """Say what a channel measures: instrument and points of a circuit diagnosis."""
    found = recorded_evidence.tie_channel(
        workspace(), path.recording_id, body.name, body.diagnosis_id, body.instrument, body.red, body.black, body.controls
    )
    return opened_view(found).model_dump(mode="json")


@api.put("/recordings/<uuid:recording_id>/lane-meaning", responses={"200": OpenedRecording})
def tie_lane(path: RecordingPath, body: LaneTieIn) -> Any:
    """Say which control a lane is."""
    return opened_view(
        recorded_evidence.tie_lane(workspace(), path.recording_id, body.name, body.control, body.positions)
    ).model_dump(mode="json")


@api.post("/recordings/<uuid:recording_id>/readings", responses={"201": Used, "200": Used})
def use_as_reading(path: RecordingPath, body: EvidenceIn) -> Any:
    """Record a level, or how a response to a command follows, as a reading."""
    wanted = WantedEvidence(body.kind, body.channel, body.start_s, body.end_s, body.controls, body.unplugged)
    diagnosis_id, added = recorded_evidence.use_as_reading(workspace(), path.recording_id, body.client_key, wanted)
    return Used(diagnosis_id=diagnosis_id, added=added).model_dump(mode="json"), 201 if added else 200


@api.get("/recordings/<uuid:recording_id>/file")
def export(path: RecordingPath, query: ExportQuery) -> Any:
    """The recording as CSV or MDF 4, in pieces."""
    name, pieces = recordings.exported(workspace(), path.recording_id, query.form)
    plain = re.sub(r"[^A-Za-z0-9._-]+", "-", name).strip("-") or "recording"
    kind = "text/csv; charset=utf-8" if query.form == "csv" else "application/x-asam-mdf4"
    return Response(pieces, content_type=kind, headers={"Content-Disposition": f'attachment; filename="{plain}.{query.form}"'})
