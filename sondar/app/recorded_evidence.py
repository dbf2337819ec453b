"""What a recording says as evidence: what its channels and lanes stand for, and what of them becomes a reading.

A channel is tied to a test (an instrument and two points of a circuit diagnosis), a lane to a control. A level then is a reading of that
test; dead time, time constant and *no movement* after a command are readings of how the module's input follows, where the circuit's file
knows that. What was recorded from the vehicle itself is tied by the vehicle's file. Nothing is taken silently.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal
from uuid import UUID

from sondar.app import measuring
from sondar.app.case import Case, load_case
from sondar.app.computed import Computed
from sondar.app.jobs import load_record
from sondar.app.judging import WantedTest
from sondar.app.measuring import WantedReading
from sondar.app.recordings import Opened, opened, read_off_here, stretch
from sondar.app.workspace import Workspace
from sondar.circuit_files import load_vehicle_text
from sondar.core.circuit.vehicle import VehicleDocument
from sondar.core.commanded import set_up_for
from sondar.core.errors import NotFoundError, invalid
from sondar.core.instruments import LiveData, ResponseDelay, ResponseTime, instrument
from sondar.core.instruments.access import access_of
from sondar.core.instruments.response import STILL
from sondar.core.recordings.model import Lane
from sondar.core.recordings.offered import Feature
from sondar.core.wording.recordings import figure
from sondar.store import commands as command_store
from sondar.store import recordings as store

Kind = Literal["level", "dead", "lag", "no movement"]
TIMED = {"dead": ResponseDelay.id, "lag": ResponseTime.id, "no movement": ResponseTime.id}
"""Features of a response -> the test that they are a reading of."""

UNITS = {"mV": 1e-3, "V": 1.0, "kV": 1e3, "mA": 1e-3, "A": 1.0, "Ω": 1.0, "Ohm": 1.0, "ohm": 1.0, "kΩ": 1e3, "MΩ": 1e6, "Hz": 1.0, "kHz": 1e3,
         "%": 1.0, "°C": 1.0, "degC": 1.0, "C": 1.0, "s": 1.0, "": 1.0}  # fmt: skip


@dataclass(frozen=True)
class WantedEvidence:
    """What of a recording is to count as a reading.

    Attributes:
        kind: of the feature. channel: its number. start_s, end_s: where the feature stands.
        controls, unplugged: of the set-up, where no lane and no tie says them.
    """

    kind: Kind
    channel: int
    start_s: float
    end_s: float
    controls: dict[str, str]
    unplugged: list[str]


def tie_channel(
    work: Workspace,
    recording_id: UUID,
    name: str,
    diagnosis_id: UUID,
    device: str,
    red: str,
    black: str,
    controls: dict[str, str],
) -> Opened:
    """Say what a channel measures: with which instrument, between which points of which circuit, and how the other controls stood.

    Raises:
        InvalidError: the circuit has no such point, or the instrument shows no figures.
    """
    if not instrument(device).figures:
        raise invalid("instrument", "it shows words, and a channel holds figures: choose one that shows figures")
    with work.transaction() as db:
        if name not in {head.name for head in store.heads(db, recording_id)}:
            raise NotFoundError("No such channel", f"this recording has no channel '{name}'")
    measuring.checked(work, diagnosis_id, WantedTest(device, red, black, controls, []))
    with work.transaction() as db:
        store.tie(db, recording_id, name, channel_tie(diagnosis_id, device, red, black, controls))
    return opened(work, recording_id)


def channel_tie(diagnosis_id: UUID, device: str, red: str, black: str, controls: dict[str, str]) -> dict[str, Any]:
    """What is kept of what a channel measures."""
    return {"diagnosis_id": str(diagnosis_id), "instrument": device, "red": red, "black": black, "controls": controls}


def tie_lane(work: Workspace, recording_id: UUID, name: str, control: str, positions: dict[str, str]) -> Opened:
    """Say which control a lane is, and which of its positions is which position of the lane."""
    with work.transaction() as db:
        if name not in {lane.name for lane in store.lanes(db, recording_id)}:
            raise NotFoundError("No such lane", f"this recording has no lane '{name}'")
        store.tie(db, recording_id, name, {"control": control, "positions": positions})
    return opened(work, recording_id)


def tied(work: Workspace, recording_id: UUID) -> Opened:
    """A recording, its channels and lanes tied as far as the vehicle's file and the circuits under test say what they are."""
    found = opened(work, recording_id)
    untied = [head.name for head in found.channels if head.name not in found.ties]
    if found.recording.source != "vehicle" or found.recording.state != "ready" or not untied:
        return found
    with work.transaction() as db:
        record = load_record(db, found.recording.job_id)
        cases = [load_case(db, diagnosis.id) for diagnosis in record.diagnoses]
        run = command_store.of_recording(db, recording_id)
    if record.model is None or not cases:
        return found
    document = load_vehicle_text(record.model.source_text)
    if not {item.title for item in document.data.values() if item.measures} & set(untied):
        return found  # currents are no test of a circuit
    ties: dict[str, dict[str, Any]] = {}
    for case in cases:
        for name, tie in work.compute(case.version.id, _known_ties, case, document, run.command if run else "").items():
            if name in untied or name in {lane.name for lane in found.lanes} - set(found.ties):
                ties.setdefault(name, tie)
    if not ties:
        return found
    with work.transaction() as db:
        for name, tie in ties.items():
            store.tie(db, recording_id, name, tie)
    return opened(work, recording_id)


def _known_ties(computed: Computed, case: Case, document: VehicleDocument, command: str) -> dict[str, dict[str, Any]]:
    """Name of a channel or lane -> what the vehicle's file says it is in the circuit of a case."""
    circuit = computed.circuit(case.version)
    item = document.commands.get(command)
    at_rest = set_up_for(circuit, item.control, next(iter(item.positions)), item.requires) if item else {}
    device = instrument(LiveData.id)
    found: dict[str, dict[str, Any]] = {}
    for data in document.data.values():
        for ref in circuit.targets:
            if data.measures == [f"{ref}.pin", f"{ref}.gnd"] and device.looks_at(circuit, ref):
                controls = {name: value for name, value in at_rest.items() if item is None or name != item.control}
                found[data.title] = channel_tie(case.diagnosis.id, LiveData.id, ref, circuit.black_reference, controls)
    if item is not None and found and item.control in circuit.controls:
        known = {position: position for position in item.positions if position in circuit.controls[item.control]}
        found[item.title] = {"control": item.control, "positions": known}
    return found


def use_as_reading(work: Workspace, recording_id: UUID, client_key: UUID, wanted: WantedEvidence) -> tuple[UUID, bool]:
    """Record a level, or how a response follows, as a reading of the test that the channel is tied to; the set-up follows the lanes.

    Returns:
        The circuit diagnosis, and False if this key was there already.

    Raises:
        InvalidError: the channel is not tied to a test, a lane changes within the stretch, the circuit knows of no such response, or the
            reading is not possible.
    """
    found = opened(work, recording_id)
    timed = wanted.kind in TIMED
    begin = _change_before(found, wanted.start_s) if timed else wanted.start_s
    (channel,), lanes = stretch(work, recording_id, [wanted.channel], begin, wanted.end_s)
    tie = found.ties.get(channel.name)
    if tie is None or "instrument" not in tie:
        raise invalid("channel", f"say first what {channel.name} measures: instrument and points")
    if not timed and any(wanted.start_s < t < wanted.end_s for lane in lanes for t, _ in lane.changes):
        raise invalid("start_s", "a command changes within this stretch: take one in which it stays")
    offered = work.compute(recording_id, read_off_here, [channel], lanes if timed else [], begin, wanted.end_s)
    feature = next((f for f in offered if f.kind == wanted.kind and (not timed or abs(f.start_s - wanted.start_s) < 1e-6)), None)
    if feature is None:
        raise invalid("start_s", f"no {wanted.kind} can be read off this stretch: take a longer one, with the command in it")
    controls = {**tie.get("controls", {}), **wanted.controls, **_commanded(found, lanes, wanted.start_s)}
    diagnosis_id = UUID(tie["diagnosis_id"])
    device, red, black = tie["instrument"], tie["red"], tie["black"]
    if timed:
        with work.transaction() as db:
            case = load_case(db, diagnosis_id)
        device, red = TIMED[wanted.kind], work.compute(case.version.id, _seen_by, case, red)
        if not red:
            raise invalid("channel", f"the circuit's file says nothing of how what is measured at {tie['red']} follows a command")
    test = WantedTest(device, red, black, controls, wanted.unplugged)
    note = f"{found.recording.name}: {channel.name}, {wanted.start_s:.2f} to {wanted.end_s:.2f} s, {_said(feature)}"
    entry = _entry(feature, device, "s" if timed else channel.unit)
    reading = WantedReading(client_key, test, entry, "recording", note, sure=True)
    _, added = measuring.record(work, diagnosis_id, reading, measuring.nothing)
    return diagnosis_id, added


def _change_before(found: Opened, start_s: float) -> float:
    """When a lane changed last before a time, or the beginning of the recording."""
    begin = found.recording.start_s or 0.0
    return max((t for lane in found.lanes for t, _ in lane.changes if begin < t < start_s - 1e-9), default=begin)


def _commanded(found: Opened, lanes: Sequence[Lane], start_s: float) -> dict[str, str]:
    """Controls as the tied lanes have them from a time on."""
    controls = {}
    for lane in lanes:
        stands_for = found.ties.get(lane.name, {})
        position = stands_for.get("positions", {}).get(lane.at(start_s))
        if position:
            controls[str(stands_for["control"])] = position
    return controls


def _seen_by(computed: Computed, case: Case, red: str) -> str:
    """The module's input that sees what is measured at a point of the same line, if the file knows a response of it; empty if not."""
    circuit = computed.circuit(case.version)
    inputs = {response.input for response in circuit.document.responses.values()}
    lines = access_of(circuit).lines(circuit.rest_setup())
    line = lines.get(circuit.point(red).node, -1)
    return next((name for name in sorted(inputs) if name == red or lines.get(circuit.node(f"{name}.pin")) == line), "")


def _said(feature: Feature) -> str:
    return f"{feature.title} {feature.word if feature.estimate is None else figure(feature.estimate)}"


def _entry(feature: Feature, device: str, shown_in: str) -> str:
    """A feature as the text of an entry, in the instrument's unit."""
    if feature.estimate is None:
        return STILL
    unit = instrument(device).unit
    factor = UNITS.get(shown_in)
    if factor is None:
        raise invalid(
            "channel",
            f"its unit is {shown_in}, and this instrument shows {unit or 'a figure'}: tie it to another, or correct the unit",
        )
    half = max(1.96 * feature.estimate.sd * factor, 1e-6)
    value = feature.estimate.value * factor
    decimals = min(7, max(0, 1 - math.floor(math.log10(half))))
    if device in TIMED.values():
        value = max(value, 0.0)
    return f"{value:.{decimals}f} ± {half:.{decimals}f}{unit}"
