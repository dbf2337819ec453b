"""Battery and fuse."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from sondar.core.circuit.families.base import NonNegative, Part, Positive, open_severity, series_severities
from sondar.core.circuit.model import Branch, Change, Fault, Setup, Severity


class Battery(Part):
    """A source with internal resistance: V = E − R·I. The charging system lifts E while the engine runs."""

    family: Literal["battery"]
    rest_v: Positive = Field(12.5, description="Terminal voltage at rest, key off.")
    on_v: Positive = Field(12.3, description="With the key on and the usual consumers.")
    run_v: Positive = Field(14.1, description="With the engine running.")
    internal_ohm: Positive = 0.012
    access_min: NonNegative | None = 0.5

    TERMINALS: ClassVar[tuple[str, ...]] = ("pos", "neg")
    NOUN: ClassVar[str] = "Battery"
    CAUTIONS: ClassVar[tuple[str, ...]] = ("battery",)

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        emf = {"off": self.rest_v, "run": self.run_v}.get(setup["key"], self.on_v)
        return [Branch(part_id, part_id, f"{part_id}.pos", f"{part_id}.neg", self.internal_ohm, emf, 0.2, 0.12)]

    def faults(self, part_id: str) -> list[Fault]:
        low = tuple(Severity(f"{v:g} V", 1 / 3, (Change(part_id, emf_v=v),)) for v in (11.2, 10.0, 8.0))
        return [
            self.fault(part_id, "low", "discharged or failing", 0.5, part_id, low),
            self.fault(part_id, "terminal", "terminal loose or corroded", 0.6, part_id,
                       series_severities(part_id, (0.1, 0.3, 1.0, 10.0, 1e3))),
        ]  # fmt: skip


class Fuse(Part):
    """A fuse: a small resistance (half a volt-ampere of drop per ampere of rating) that opens on overload."""

    family: Literal["fuse"]
    rating_a: Positive = Field(description="Printed rating in amperes.")
    access_min: NonNegative | None = 0.5
    price: NonNegative = 1.0
    fit_min: NonNegative = 2.0

    GROUP: ClassVar[Literal["wiring"]] = "wiring"
    NOUN: ClassVar[str] = "Fuse"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        # ISO 8820-3 allows about 100 mV at rated current for blade fuses: R ≈ 0.1 V / rating.
        resistance = 0.1 / self.rating_a
        return [Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", resistance, spread=0.15, fuse_rating_a=self.rating_a)]

    def faults(self, part_id: str) -> list[Fault]:
        return [
            self.fault(part_id, "open", "blown or missing", 1.5, part_id, open_severity(part_id), traits=("evident",)),
            self.fault(part_id, "resistance", "contacts corroded", 0.7, part_id,
                       series_severities(part_id, (0.1, 0.3, 1.0, 3.0, 10.0, 100.0))),
        ]  # fmt: skip


FUSE_BLOWS_AT = 1.6
"""Multiple of the rating that opens a blade fuse within the time a fault lasts (ISO 8820-3: 1.6 × within 50 s)."""
