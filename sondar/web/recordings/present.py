"""Recordings for the outside."""

from __future__ import annotations

import math
from typing import Any

from sondar.app.recordings import Looked, Opened
from sondar.core.recordings.model import Lane
from sondar.core.recordings.offered import Feature
from sondar.core.wording.recordings import figure
from sondar.store.recordings import StoredRecording
from sondar.web.recordings.models import (
    ChangeView,
    ChannelView,
    FeatureView,
    FilePreview,
    GoodOne,
    LaneView,
    MappingIn,
    MarkView,
    OpenedRecording,
    PositionView,
    RecordingView,
)


def recording_view(found: StoredRecording) -> RecordingView:
    """A recording without its samples."""
    return RecordingView.model_validate(found.__dict__)


def opened_view(found: Opened) -> OpenedRecording:
    """A recording with its channels, lanes and marks."""
    return OpenedRecording(
        recording=recording_view(found.recording), known_good=found.known_good,
        good_ones=[GoodOne(id=one, name=name, said=said) for one, name, said in found.good_ones],
        channels=[
            ChannelView(
                number=c.number, name=c.name, unit=c.unit, role=c.role, samples=c.samples, least=c.least, greatest=c.greatest,
                sample_s=c.sample_s, tie=found.ties.get(c.name),
            )
            for c in found.channels
        ],
        lanes=[_lane(lane, found.ties.get(lane.name)) for lane in found.lanes],
        marks=[MarkView(at_s=mark.at_s, text=mark.text, by=mark.by) for mark in found.marks],
    )  # fmt: skip


def _lane(lane: Lane, tie: dict[str, Any] | None) -> LaneView:
    return LaneView(name=lane.name, changes=[ChangeView(at_s=t, position=word) for t, word in lane.changes], tie=tie)


def preview_view(found: Looked) -> FilePreview:
    """What a file seems to be."""
    if found.understood is None:
        return FilePreview(form="MDF 4", mapping=None, rows=[], doubts=[], remembered=False)
    understood = found.understood
    return FilePreview(
        form="table", mapping=MappingIn.model_validate(understood.mapping.as_dict()), rows=[list(row) for row in understood.rows],
        doubts=list(understood.doubts), remembered=found.remembered,
    )  # fmt: skip


def feature_view(found: Feature) -> FeatureView:
    """A feature; what cannot be told from the recording has no figure."""
    estimate = found.estimate if found.estimate is not None and math.isfinite(found.estimate.sd) else None
    shown = found.word if found.estimate is None else figure(found.estimate)
    return FeatureView(
        kind=found.kind, title=found.title, shown=shown, channel=found.channel, other=found.other, start_s=found.start_s, end_s=found.end_s,
        value=None if estimate is None else estimate.value, sd=None if estimate is None else estimate.sd,
        unit="" if found.estimate is None else found.estimate.unit, word="" if found.estimate is None else found.word,
        positions=[PositionView(lane=lane, position=word) for lane, word in found.positions],
    )  # fmt: skip
