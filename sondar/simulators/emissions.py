"""The emission-related module of a simulated vehicle: OBD services 01 (figures, readiness), 02 (freeze frame), 06 (results), 09 (VIN)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sondar.core.circuit.vehicle import DataItem, OnBoardDiagnostics
from sondar.core.monitor_results import MonitorResult, result_bytes
from sondar.core.obd import FIGURES, FRAME_CODE, READINESS, SUPPORTED_EVERY, Readiness, readiness_bytes, supported_bytes

SUB_FUNCTION, RANGE = 0x12, 0x31
MOST_NUMBERS = 6
"""Numbers that one request may ask for."""


@dataclass
class EmissionModule:
    """Answers requests; the freeze frame is kept from the first code on until the codes are cleared."""

    obd: OnBoardDiagnostics
    data: Mapping[str, DataItem]
    vin: str
    _frame: tuple[int, dict[int, float]] | None = None

    @property
    def module(self) -> str:
        """Which module it is."""
        return self.obd.module

    def answer(self, request: bytes, stored: Sequence[int], since_s: float | None, live: Mapping[int, float]) -> bytes:
        """Answer one request.

        Args:
            stored: its codes by number. since_s: simulated seconds since clearing. live: figures that follow the circuits.
        """
        figures = {**{pid: value for pid, value in self.obd.figures.items() if pid in FIGURES}, **live}
        if stored and self._frame is None:
            self._frame = (stored[0], figures)
        service, asked = request[0], request[1:]
        if service == 0x09:
            return b"\x49\x02\x01" + self.vin.encode("ascii") if asked == b"\x02" else bytes([0x7F, service, SUB_FUNCTION])
        if service == 0x02:
            return self._freeze_frame(asked)
        if service == 0x06:
            return self._tests(asked, since_s)
        if not 1 <= len(asked) <= MOST_NUMBERS:
            return bytes([0x7F, service, SUB_FUNCTION])
        known = {READINESS, *figures}
        answer = b"".join(
            bytes([pid]) + raw for pid in asked if (raw := self._raw(pid, known, figures, stored, since_s)) is not None
        )
        return b"\x41" + answer if answer else bytes([0x7F, service, RANGE])

    def _tests(self, asked: bytes, since_s: float | None) -> bytes:
        """Results of one monitor, or which monitors there are; zero where it has not run since clearing."""
        numbers = {one.monitor for one in self.obd.tests}
        if len(asked) != 1:
            return bytes([0x7F, 0x06, SUB_FUNCTION])
        if asked[0] % SUPPORTED_EVERY == 0:
            return b"\x46" + asked + supported_bytes(asked[0], numbers)
        found = []
        for one in (one for one in self.obd.tests if one.monitor == asked[0]):
            ran = since_s is None or since_s >= self.obd.monitors.get(one.of, 0.0)
            figures = (one.value, one.least, one.most) if ran else (0.0, 0.0, 0.0)
            found.append(MonitorResult(one.monitor, one.test, one.scale, *figures))
        return b"\x46" + result_bytes(found) if found else bytes([0x7F, 0x06, RANGE])

    def _raw(
        self, pid: int, known: set[int], figures: Mapping[int, float], stored: Sequence[int], since_s: float | None
    ) -> bytes | None:
        if pid % SUPPORTED_EVERY == 0:
            return supported_bytes(pid, known)
        if pid == READINESS:
            return readiness_bytes(self._readiness(stored, since_s))
        return FIGURES[pid].raw(figures[pid]) if pid in figures else None

    def _readiness(self, stored: Sequence[int], since_s: float | None) -> Readiness:
        complete = {name: since_s is None or since_s >= seconds for name, seconds in self.obd.monitors.items()}
        return Readiness(bool(stored), len(stored), self.obd.compression, complete)

    def forget(self) -> None:
        """Its codes have been cleared."""
        self._frame = None

    def _freeze_frame(self, asked: bytes) -> bytes:
        if len(asked) != 2 or asked[1] != 0:
            return bytes([0x7F, 0x02, SUB_FUNCTION])
        pid = asked[0]
        code, figures = self._frame if self._frame is not None else (0, {})
        if pid == FRAME_CODE:
            return bytes([0x42, pid, 0]) + (code >> 8).to_bytes(2, "big")
        if pid % SUPPORTED_EVERY == 0:
            return bytes([0x42, pid, 0]) + supported_bytes(pid, {FRAME_CODE, *figures})
        return bytes([0x42, pid, 0]) + FIGURES[pid].raw(figures[pid]) if pid in figures else bytes([0x7F, 0x02, RANGE])
