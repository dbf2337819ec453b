"""Switch: ignition, brake, level, pressure: a contact that follows the set-up."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from sondar.core.circuit.families.base import (
    ActiveWhen,
    NonNegative,
    Part,
    Positive,
    listed,
    normalised,
    path_severities,
    series_severities,
)
from sondar.core.circuit.model import AIR_OHM, Branch, Change, Fault, Setup, Severity, is_active


class Switch(Part):
    """A contact that is closed when the named controls stand at the listed values."""

    family: Literal["switch"]
    closed_when: ActiveWhen = Field(description="Controls and values, e.g. {key: [on, run]} or {brake: pressed}.")
    closed_ohm: Positive = 0.01
    price: NonNegative = 25.0

    NOUN: ClassVar[str] = "Switch"

    def control_values(self) -> dict[str, list[str]]:
        return listed(self.closed_when)

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        closed = is_active(normalised(self.closed_when), setup)
        ohms = self.closed_ohm if closed else AIR_OHM
        return [
            Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", ohms, spread=0.3),
            Branch(f"{part_id}.leak", part_id, f"{part_id}.1", f"{part_id}.2"),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        stuck_open = (Severity("open", 1.0, (Change(part_id, set_ohm=AIR_OHM),)),)
        return [
            self.fault(part_id, "stuck_open", "does not close", 1.0, part_id, stuck_open),
            self.fault(part_id, "stuck_closed", "does not open, or leaks", 0.6, part_id,
                       path_severities(f"{part_id}.leak", (self.closed_ohm, 1.0, 5.0, 25.0, 100.0, 500.0, 2e3, 1e4))),
            self.fault(part_id, "resistance", "contact corroded", 0.8, part_id, series_severities(part_id)),
        ]  # fmt: skip
