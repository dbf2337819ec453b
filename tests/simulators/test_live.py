"""Live data of a simulated vehicle: they follow a command as late and as fast as its parts are, hidden faults included."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.circuit_files import library_network
from sondar.core.recordings.model import Channel, Lane
from sondar.core.recordings.offered import features
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle, HiddenFault


class Clock:
    """Time as the test says."""

    now = 100.0

    def __call__(self) -> float:
        return self.now


def recorded(*faults: HiddenFault) -> dict[str, float | str]:
    """What can be read off the valve's position while it is commanded open for six seconds."""
    clock = Clock()
    vehicle = DiagnosticVehicle(library_network("tessel-quay"), faults, "WTSKAY19000002408", clock)
    live = vehicle.live
    live.session("ECM", 0x03)
    t, y = [], []
    for step in range(160):
        clock.now = 100.0 + 0.05 * step
        live.heard("ECM")
        if step == 40:
            assert live.control("ECM", b"\x2f\x23\x40\x03\x01")[:1] == b"\x6f"
        raw = live.read("ECM", b"\x22\x13\x40")
        t.append(clock.now - 100.0)
        y.append(0.005 * int.from_bytes(raw[3:5], "big"))
    lane = Lane("Recirculation valve", ((0.0, "closed"), (2.0, "open")), True)
    found = features(Channel("Position", "V", np.array(t), np.array(y)), [lane], 0.0, 8.0)
    return {f.kind: f.estimate.value if f.estimate else f.word for f in found if "closed → open" in f.title}


def test_a_good_valve_opens_at_once() -> None:
    found = recorded()
    assert found["dead"] == pytest.approx(0.03, abs=0.05)
    assert found["lag"] == pytest.approx(0.14, abs=0.05)


def test_a_slow_one_is_slow_and_one_that_sticks_is_late() -> None:
    slow, late = recorded(HiddenFault("M12.sluggish", "6 times as slow")), recorded(HiddenFault("M12.late", "1 s late"))
    assert slow["lag"] == pytest.approx(0.84, rel=0.1)
    assert slow["dead"] == pytest.approx(0.03, abs=0.06)
    assert late["dead"] == pytest.approx(1.03, abs=0.06)
    assert late["lag"] == pytest.approx(0.14, abs=0.06)


def test_one_that_is_stuck_does_not_move() -> None:
    assert set(recorded(HiddenFault("M12.stuck", "stuck"))) == {"no movement"}
