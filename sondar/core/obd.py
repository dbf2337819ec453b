"""On-board diagnostics that every vehicle with emission-related modules offers: figures by number, readiness of monitors, freeze frames.

Numbers, scales and bits are those of SAE J1979 / ISO 15031-5, services 01, 02 and 09. No description of the vehicle is needed for them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Final

SUPPORTED_EVERY: Final = 0x20
"""Every so many numbers one says which of the next are supported."""
READINESS: Final = 0x01
FRAME_CODE: Final = 0x02


@dataclass(frozen=True)
class Figure:
    """A figure of service 01: ``raw · factor + offset`` in ``unit``, from ``length`` bytes, the highest first."""

    title: str
    unit: str
    length: int
    factor: float
    offset: float = 0.0
    signed: bool = False

    def value(self, raw: bytes) -> float:
        """The figure from its bytes."""
        return round(int.from_bytes(raw[: self.length], "big", signed=self.signed) * self.factor + self.offset, 6)

    def raw(self, value: float) -> bytes:
        """The bytes of a figure, at the end of its range if it lies outside."""
        bits = 8 * self.length
        low, high = (-(1 << (bits - 1)), (1 << (bits - 1)) - 1) if self.signed else (0, (1 << bits) - 1)
        return min(max(round((value - self.offset) / self.factor), low), high).to_bytes(self.length, "big", signed=self.signed)


_SHARE, _TRIM = 100.0 / 255.0, 100.0 / 128.0
FIGURES: Mapping[int, Figure] = {
    0x04: Figure("Calculated load", "%", 1, _SHARE),
    0x05: Figure("Coolant temperature", "°C", 1, 1.0, -40.0),
    0x06: Figure("Short-term fuel trim, bank 1", "%", 1, _TRIM, -100.0),
    0x07: Figure("Long-term fuel trim, bank 1", "%", 1, _TRIM, -100.0),
    0x08: Figure("Short-term fuel trim, bank 2", "%", 1, _TRIM, -100.0),
    0x09: Figure("Long-term fuel trim, bank 2", "%", 1, _TRIM, -100.0),
    0x0A: Figure("Fuel pressure", "kPa", 1, 3.0),
    0x0B: Figure("Intake manifold absolute pressure", "kPa", 1, 1.0),
    0x0C: Figure("Engine speed", "1/min", 2, 0.25),
    0x0D: Figure("Vehicle speed", "km/h", 1, 1.0),
    0x0E: Figure("Ignition advance, cylinder 1", "°", 1, 0.5, -64.0),
    0x0F: Figure("Intake air temperature", "°C", 1, 1.0, -40.0),
    0x10: Figure("Air mass flow", "g/s", 2, 0.01),
    0x11: Figure("Throttle position", "%", 1, _SHARE),
    0x1F: Figure("Time since start", "s", 2, 1.0),
    0x21: Figure("Distance with the warning lamp on", "km", 2, 1.0),
    0x22: Figure("Fuel rail pressure, relative to manifold", "kPa", 2, 0.079),
    0x23: Figure("Fuel rail pressure", "kPa", 2, 10.0),
    0x2C: Figure("Exhaust gas recirculation, commanded", "%", 1, _SHARE),
    0x2D: Figure("Exhaust gas recirculation, error", "%", 1, _TRIM, -100.0),
    0x2E: Figure("Evaporative purge, commanded", "%", 1, _SHARE),
    0x2F: Figure("Fuel level", "%", 1, _SHARE),
    0x30: Figure("Warm-ups since clearing", "", 1, 1.0),
    0x31: Figure("Distance since clearing", "km", 2, 1.0),
    0x32: Figure("Evaporative system vapour pressure", "Pa", 2, 0.25, signed=True),
    0x33: Figure("Barometric pressure", "kPa", 1, 1.0),
    0x42: Figure("Control module voltage", "V", 2, 0.001),
    0x43: Figure("Absolute load", "%", 2, _SHARE),
    0x44: Figure("Air-fuel equivalence ratio, commanded", "", 2, 2.0 / 65536.0),
    0x45: Figure("Relative throttle position", "%", 1, _SHARE),
    0x46: Figure("Ambient air temperature", "°C", 1, 1.0, -40.0),
    0x47: Figure("Throttle position, second track", "%", 1, _SHARE),
    0x49: Figure("Accelerator position, first track", "%", 1, _SHARE),
    0x4A: Figure("Accelerator position, second track", "%", 1, _SHARE),
    0x4C: Figure("Throttle, commanded", "%", 1, _SHARE),
    0x4D: Figure("Time with the warning lamp on", "min", 2, 1.0),
    0x4E: Figure("Time since clearing", "min", 2, 1.0),
    0x5C: Figure("Engine oil temperature", "°C", 1, 1.0, -40.0),
    0x5E: Figure("Fuel rate", "L/h", 2, 0.05),
}
"""Figures of service 01 that are one number each."""

CONTINUOUS: Final = ("misfire", "fuel system", "comprehensive components")
SPARK: Final = (
    "catalyst", "heated catalyst", "evaporative system", "secondary air", "air conditioning refrigerant", "oxygen sensors",
    "oxygen sensor heaters", "exhaust gas recirculation",
)  # fmt: skip
COMPRESSION: Final = (
    "hydrocarbon catalyst", "nitrogen oxide aftertreatment", "", "boost pressure", "", "exhaust gas sensors", "particulate filter",
    "exhaust gas recirculation",
)  # fmt: skip


@dataclass(frozen=True)
class Readiness:
    """What an emission-related module says of its monitors since clearing.

    Attributes:
        lamp: the warning lamp is asked for. codes: number of confirmed codes. monitors: supported monitor -> whether it is complete.
    """

    lamp: bool
    codes: int
    compression: bool
    monitors: Mapping[str, bool]

    @property
    def outstanding(self) -> list[str]:
        """Monitors that have not been completed since clearing."""
        return [name for name, complete in self.monitors.items() if not complete]


def readiness(raw: bytes) -> Readiness:
    """The four bytes of number 01.

    Raises:
        ValueError: fewer than four bytes.
    """
    if len(raw) < 4:
        raise ValueError("readiness takes four bytes")
    lamp_codes, continuous, supported, incomplete = raw[:4]
    compression = bool(continuous & 0x08)
    monitors = {name: not continuous >> (4 + bit) & 1 for bit, name in enumerate(CONTINUOUS) if continuous >> bit & 1}
    names = COMPRESSION if compression else SPARK
    monitors |= {name: not incomplete >> bit & 1 for bit, name in enumerate(names) if name and supported >> bit & 1}
    return Readiness(bool(lamp_codes & 0x80), lamp_codes & 0x7F, compression, monitors)


def readiness_bytes(found: Readiness) -> bytes:
    """The reverse of ``readiness``."""
    names = COMPRESSION if found.compression else SPARK
    continuous = 0x08 if found.compression else 0
    for bit, name in enumerate(CONTINUOUS):
        if name in found.monitors:
            continuous |= 1 << bit | (0 if found.monitors[name] else 1 << (4 + bit))
    supported = sum(1 << bit for bit, name in enumerate(names) if name in found.monitors)
    incomplete = sum(1 << bit for bit, name in enumerate(names) if found.monitors.get(name) is False)
    return bytes([found.lamp << 7 | min(found.codes, 127), continuous, supported, incomplete])


def supported_after(base: int, raw: bytes) -> list[int]:
    """Numbers that are supported, of the 32 after ``base``: the highest bit of the first byte is the first of them."""
    bits = int.from_bytes(raw[:4].ljust(4, b"\0"), "big")
    return [base + number for number in range(1, SUPPORTED_EVERY + 1) if bits >> (SUPPORTED_EVERY - number) & 1]


def supported_bytes(base: int, numbers: Iterable[int]) -> bytes:
    """The reverse of ``supported_after``; the last bit says whether there is anything beyond these 32."""
    given = set(numbers)
    here = {number - base for number in given if 0 < number - base < SUPPORTED_EVERY}
    if any(number - base >= SUPPORTED_EVERY for number in given):
        here.add(SUPPORTED_EVERY)
    return sum(1 << (SUPPORTED_EVERY - place) for place in here).to_bytes(4, "big")


def divided(answer: bytes, asked: Sequence[int], between: int = 0) -> dict[int, bytes]:
    """The bytes of each figure of an answer to several numbers, whatever their order.

    Args:
        answer: without the service. between: bytes between a number and its figure (the frame's number in service 02).

    Raises:
        ValueError: a number that was not asked for, or an answer that ends in the middle of a figure.
    """
    found: dict[int, bytes] = {}
    at = 0
    while at < len(answer):
        number = answer[at]
        if number not in asked:
            raise ValueError(f"number {number:02X} was not asked for")
        length = FIGURES[number].length if number in FIGURES else 4
        raw = answer[at + 1 + between : at + 1 + between + length]
        if len(raw) < length:
            raise ValueError(f"the figure of number {number:02X} is cut off")
        found[number] = raw
        at += 1 + between + length
    return found
