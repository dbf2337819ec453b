"""Results of monitor tests with their limits: OBD service 06 as on CAN (SAE J1979 / ISO 15031-5, annexes D and E).

A monitor says more than complete: what it measured and between which limits. A result close to its limit is a code that has not been set yet.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

BYTES: Final = 9
"""Of one result: monitor, test, scale, and three figures of two bytes."""
NEAR: Final = 0.1
"""Share of the span between the limits within which a result that passes is near one."""

MONITORS: Final[Mapping[int, str]] = {
    **{0x01 + n: f"Oxygen sensor {n % 4 + 1}, bank {n // 4 + 1}" for n in range(8)},
    **{0x21 + n: f"Catalyst, bank {n + 1}" for n in range(4)},
    **{0x31 + n: f"Exhaust gas recirculation, bank {n + 1}" for n in range(4)},
    **{0x35 + n: f"Variable valve timing, bank {n + 1}" for n in range(4)},
    0x39: "Evaporative system, filler cap", 0x3A: "Evaporative system, large leak", 0x3B: "Evaporative system, small leak",
    0x3C: "Evaporative system, very small leak", 0x3D: "Evaporative system, purge flow",
    **{0x41 + n: f"Oxygen sensor heater {n % 4 + 1}, bank {n // 4 + 1}" for n in range(8)},
    **{0x71 + n: f"Secondary air {n + 1}" for n in range(4)},
    **{0x81 + n: f"Fuel system, bank {n + 1}" for n in range(4)},
    0x85: "Boost pressure, bank 1", 0x86: "Boost pressure, bank 2",
    0xA1: "Misfire, all cylinders", **{0xA2 + n: f"Misfire, cylinder {n + 1}" for n in range(12)},
    0xB0: "Particulate filter, bank 1", 0xB1: "Particulate filter, bank 2",
}  # fmt: skip


@dataclass(frozen=True)
class Scale:
    """``raw · factor + offset`` in ``unit``."""

    factor: float
    unit: str
    offset: float = 0.0

    def value(self, raw: bytes, signed: bool) -> float:
        """The figure from two bytes."""
        return round(int.from_bytes(raw, "big", signed=signed) * self.factor + self.offset, 9)

    def raw(self, value: float, signed: bool) -> bytes:
        """The bytes of a figure, at the end of its range if it lies outside."""
        low, high = (-0x8000, 0x7FFF) if signed else (0, 0xFFFF)
        return min(max(round((value - self.offset) / self.factor), low), high).to_bytes(2, "big", signed=signed)


SIGNED_FROM: Final = 0x80
SCALES: Final[Mapping[int, Scale]] = {
    0x01: Scale(1.0, ""), 0x02: Scale(0.1, ""), 0x03: Scale(0.01, ""), 0x04: Scale(0.001, ""), 0x05: Scale(0.0000305, ""),
    0x07: Scale(0.25, "1/min"), 0x0A: Scale(0.000122, "V"), 0x0B: Scale(0.001, "V"), 0x0C: Scale(0.01, "V"), 0x0E: Scale(0.001, "A"),
    0x0F: Scale(0.01, "A"), 0x10: Scale(0.001, "s"), 0x11: Scale(0.1, "s"), 0x12: Scale(1.0, "s"), 0x13: Scale(0.001, "Ω"),
    0x14: Scale(1.0, "Ω"), 0x15: Scale(1000.0, "Ω"), 0x16: Scale(0.1, "°C", -40.0), 0x17: Scale(0.01, "kPa"), 0x1A: Scale(1.0, "kPa"),
    0x1B: Scale(10.0, "kPa"), 0x1C: Scale(0.01, "°"), 0x1D: Scale(0.5, "°"), 0x1E: Scale(0.0000305, ""), 0x20: Scale(1.0 / 256.0, ""),
    0x24: Scale(1.0, "counts"), 0x27: Scale(0.01, "g/s"), 0x2F: Scale(0.01, "%"),
    0x81: Scale(1.0, ""), 0x82: Scale(0.1, ""), 0x83: Scale(0.01, ""), 0x84: Scale(0.001, ""), 0x8B: Scale(0.001, "V"), 0x8C: Scale(0.01, "V"),
    0x8E: Scale(0.001, "A"), 0x90: Scale(0.001, "s"), 0x96: Scale(0.1, "°C"), 0x9C: Scale(0.01, "°"), 0x9D: Scale(0.5, "°"),
    0xAF: Scale(0.01, "%"), 0xFC: Scale(0.01, "kPa"), 0xFD: Scale(0.001, "kPa"),
}  # fmt: skip
"""Scales by their number; those from ``SIGNED_FROM`` on are signed. One that is not held is told as the bare number."""


@dataclass(frozen=True)
class MonitorResult:
    """One test of a monitor.

    Attributes:
        monitor, test, scale: numbers of the standard; tests from 0x80 on are the manufacturer's own.
    """

    monitor: int
    test: int
    scale: int
    value: float
    least: float
    most: float

    @property
    def title(self) -> str:
        """The monitor in words and the test by number."""
        return f"{MONITORS.get(self.monitor, f'Monitor {self.monitor:02X}')}, test {self.test:02X}"

    @property
    def unit(self) -> str:
        """Of its figures; says so where the scale is not held here."""
        return SCALES[self.scale].unit if self.scale in SCALES else f"(scale {self.scale:02X} is not known here)"

    @property
    def has_run(self) -> bool:
        """False since clearing: all figures are zero then."""
        return bool(self.value or self.least or self.most)

    @property
    def passed(self) -> bool:
        """Within its limits, both included."""
        return self.least <= self.value <= self.most

    @property
    def margin(self) -> float:
        """How far inside its nearer limit it is, as a share of the span between them; below 0 outside. A limit at an end of the range is none."""
        ends = (-0x8000, 0x7FFF) if self.scale >= SIGNED_FROM else (0, 0xFFFF)
        scale = SCALES.get(self.scale, Scale(1.0, ""))
        bottom, top = (end * scale.factor + scale.offset for end in ends)
        step = abs(scale.factor)
        open_low, open_high = self.least - bottom < step, top - self.most < step
        if open_low and open_high:
            return 1.0
        # Between one limit and an open end the limit's own size is the measure.
        span = max(abs(self.most) if open_low else abs(self.least) if open_high else self.most - self.least, step)
        above, below = (self.value - self.least) / span, (self.most - self.value) / span
        return min(1.0, below if open_low else above if open_high else min(above, below))


def results(answer: bytes) -> list[MonitorResult]:
    """Results from an answer of service 06, without the service.

    Raises:
        ValueError: it ends in the middle of a result.
    """
    if len(answer) % BYTES:
        raise ValueError(f"results take {BYTES} bytes each")
    found = []
    for at in range(0, len(answer), BYTES):
        monitor, test, number = answer[at : at + 3]
        scale, signed = SCALES.get(number, Scale(1.0, "")), number >= SIGNED_FROM
        value, least, most = (scale.value(answer[at + n : at + n + 2], signed) for n in (3, 5, 7))
        found.append(MonitorResult(monitor, test, number, value, least, most))
    return found


def result_bytes(found: Sequence[MonitorResult]) -> bytes:
    """The reverse of ``results``."""
    return b"".join(
        bytes([one.monitor, one.test, one.scale])
        + b"".join(SCALES[one.scale].raw(figure, one.scale >= SIGNED_FROM) for figure in (one.value, one.least, one.most))
        for one in found
    )
