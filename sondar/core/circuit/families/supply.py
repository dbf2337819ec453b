"""Battery and fuse."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from sondar.core.circuit.families.base import NonNegative, Part, Positive, open_severity, series_severities
from sondar.core.circuit.model import Branch, Change, Fault, Setup, Severity

CHARGE_SD_V = 0.95
"""Standard deviation of a battery's voltage before anybody has measured it."""

CRANKING = "cranking"
"""Position of a control at which the starter turns."""


class Battery(Part):
    """A source with internal resistance: V = E − R·I. The charging system lifts E while the engine runs."""

    family: Literal["battery"]
    rest_v: Positive = Field(12.5, description="Terminal voltage at rest, key off.")
    on_v: Positive = Field(12.3, description="With the key on and the usual consumers.")
    run_v: Positive = Field(14.1, description="With the engine running.")
    crank_v: Positive = Field(10.2, description="While the starter turns.")
    internal_ohm: Positive = 0.012
    access_min: NonNegative | None = 0.5

    TERMINALS: ClassVar[tuple[str, ...]] = ("pos", "neg")
    NOUN: ClassVar[str] = "Battery"
    CAUTIONS: ClassVar[tuple[str, ...]] = ("battery",)

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        emf, causes = self.state(part_id, setup)
        return [
            Branch(part_id, part_id, f"{part_id}.pos", f"{part_id}.neg", self.internal_ohm, emf, 0.2, causes=causes)
        ]  # fmt: skip

    def state(self, part_id: str, setup: Setup) -> tuple[float, tuple[tuple[str, float], ...]]:
        """Source voltage in a set-up and what may move it.

        Nobody has charged the battery for the test: rested, weak and on a charger lie between 10.8 and 15 V with the engine off,
        and what is true of it with the key off is true with the key on but for the consumers.
        """
        if CRANKING in dict(setup.controls).values():
            return self.crank_v, ((f"{part_id} charge", 0.5 * CHARGE_SD_V), (f"{part_id} cranking", 0.6))
        if setup["key"] == "run":
            return self.run_v, ((f"{part_id} charging", 0.45),)
        emf = self.rest_v if setup["key"] == "off" else self.on_v
        return emf, ((f"{part_id} charge", CHARGE_SD_V), (f"{part_id} key {setup['key']}", 0.12))

    def faults(self, part_id: str) -> list[Fault]:
        low = tuple(Severity(f"{v:g} V", 0.25, (Change(part_id, emf_v=v),), ("volts", v)) for v in (9.4, 8.3, 7.1, 5.9))
        return [
            self.fault(part_id, "low", "discharged or failing", 0.5, part_id, low),
            self.fault(part_id, "terminal", "terminal loose or corroded", 0.6, part_id,
                       series_severities(part_id)),
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
                       series_severities(part_id, (0.03, 0.1, 0.3, 1.0, 3.0, 10.0, 30.0, 100.0))),
        ]  # fmt: skip


FUSE_BLOWS_AT = 1.6
"""Multiple of the rating that opens a blade fuse within the time a fault lasts (ISO 8820-3: 1.6 × within 50 s)."""
