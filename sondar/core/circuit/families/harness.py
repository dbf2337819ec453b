"""Wires, connector contacts, splices and ground points: the group *wiring*."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from sondar.core.circuit.families.base import (
    Drawn,
    NonNegative,
    Part,
    Positive,
    fault_traits,
    open_severity,
    path_severities,
    series_severities,
)
from sondar.core.circuit.model import (
    AIR_OHM,
    CHASSIS,
    OPEN_OHM,
    Branch,
    Change,
    Fault,
    Group,
    Setup,
    Severity,
    copper_resistance,
)

COPPER_OHM_MM2_PER_M = 0.0178
"""Resistivity of stranded automotive copper at 20 °C in Ω·mm²/m (ISO 6722 conductor tables)."""

CONTACT_OHM = 0.003
"""Healthy crimp and contact together (USCAR-2 allows up to 10 mΩ when aged)."""


AT_ITS_ENDS = 0.4
"""Share of a wire's faults that sit at its ends, whatever its length; the rest is counted by the metre."""


class Wire(Part):
    """A wire segment: copper by length and cross-section; breaks, corrodes, chafes to ground or to a supply."""

    family: Literal["wire"] = "wire"
    from_: str = Field(alias="from", description="Point where it starts, supply side.")
    to: str = Field(description="Point where it ends, ground side.")
    colour: str = ""
    gauge_mm2: Positive = 0.75
    length_m: Positive = 1.0
    fit_min: NonNegative = 40.0
    price: NonNegative = 5.0
    exposed: bool = Field(False, description="Runs through a wet, moving or rubbing place: fails more often.")

    GROUP: ClassVar[Group] = "wiring"
    NOUN: ClassVar[str] = "Wire"
    SUPPLY: ClassVar[str] = "@supply"

    def name(self, part_id: str) -> str:
        colour = f" {self.colour}" if self.colour else ""
        return f"Wire {part_id}{colour}, {self.from_} to {self.to}"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        at_20c = COPPER_OHM_MM2_PER_M * self.length_m / self.gauge_mm2
        resistance = copper_resistance(at_20c, setup.temperature_c)
        return [
            Branch(part_id, part_id, self.from_, self.to, resistance, spread=0.8),
            Branch(f"{part_id}.to_ground", part_id, self.to, CHASSIS),
            Branch(f"{part_id}.to_supply", part_id, self.to, self.SUPPLY),
        ]

    def faults(self, part_id: str) -> list[Fault]:
        factor = (3.0 if self.exposed else 1.0) * (AT_ITS_ENDS + (1.0 - AT_ITS_ENDS) * self.length_m)
        ground, supply = f"{part_id}.to_ground", f"{part_id}.to_supply"
        return [
            *self.open_and_series(part_id, part_id, 1.0 * factor, 0.7 * factor, "corroded or partly broken"),
            self.fault(part_id, "to_ground", "chafed to ground", 0.5 * factor, part_id, path_severities(ground)),
            self.fault(part_id, "to_supply", "touching a live wire", 0.12 * factor, part_id, path_severities(supply)),
        ]

    def repair_text(self, part_id: str) -> str:
        return f"Repair {self.name(part_id)} by the manufacturer's harness repair method"


class Contact(Part):
    """One connected cavity of a connector, from the wire side to the other side. Made by ``connectors``."""

    family: Literal["contact"] = "contact"
    cavity: str
    connector: str
    contact_ohm: Positive = CONTACT_OHM
    fit_min: NonNegative = 20.0
    price: NonNegative = 3.0

    GROUP: ClassVar[Group] = "wiring"
    NOUN: ClassVar[str] = "Contact"

    def name(self, part_id: str) -> str:
        return f"Contact {self.cavity} of connector {self.connector}"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        apart = self.connector in setup.unplugged
        return [
            Branch(part_id, part_id, part_id, f"{part_id}/c", AIR_OHM if apart else self.contact_ohm, spread=0.0 if apart else 0.4)
        ]  # fmt: skip

    def faults(self, part_id: str) -> list[Fault]:
        return [
            Fault(f"{part_id}.open", part_id, "open", f"{self.name(part_id)} open (pushed back or spread)", "wiring",
                  part_id, 0.5 * self.rate, part_id, open_severity(part_id), f"Repair or replace {self.name(part_id)}",
                  fault_traits(open_severity(part_id), "wiring")),
            Fault(f"{part_id}.resistance", part_id, "resistance", f"{self.name(part_id)} corroded", "wiring",
                  part_id, 0.8 * self.rate, part_id, series_severities(part_id), f"Clean or replace {self.name(part_id)}",
                  fault_traits(series_severities(part_id), "wiring")),
        ]  # fmt: skip


class Plug(Part):
    """A connector as a whole: what goes wrong between its cavities. Made by ``connectors``.

    A bridge (water, a bent pin, two wires chafed together just behind it) joins the wire sides; exchanged cavities join each wire to the
    part that the other belongs to, as long as the halves are mated.
    """

    family: Literal["plug"] = "plug"
    connector: str
    neighbours: tuple[tuple[str, str], ...] = Field(description="Cavities side by side that carry different things.")
    others: tuple[tuple[str, str], ...] = Field((), description="Other pairs of cavities that may have been exchanged.")
    exposed: bool = False
    fit_min: NonNegative = 25.0
    price: NonNegative = 8.0

    GROUP: ClassVar[Group] = "wiring"
    TERMINALS: ClassVar[tuple[str, ...]] = ()
    NOUN: ClassVar[str] = "Connector"

    def sketch(self, part_id: str) -> list[Drawn]:
        return []

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        found = []
        for one, two in (*self.neighbours, *self.others):
            a, b = f"{part_id}.{one}", f"{part_id}.{two}"
            found.append(Branch(f"{part_id}.bridge_{one}_{two}", part_id, a, b))
            if part_id not in setup.unplugged:
                found += [
                    Branch(f"{part_id}.crossed_{one}_{two}", part_id, a, f"{b}/c"),
                    Branch(f"{part_id}.crossed_{two}_{one}", part_id, b, f"{a}/c"),
                ]
        return found

    def faults(self, part_id: str) -> list[Fault]:
        found = []
        factor = 2.5 if self.exposed else 1.0
        for one, two in (*self.neighbours, *self.others):
            near = (one, two) in self.neighbours
            bridge, pins = f"{part_id}.bridge_{one}_{two}", f"cavities {one} and {two}"
            exchanged = (
                Change(f"{part_id}.{one}", add_ohm=OPEN_OHM), Change(f"{part_id}.{two}", add_ohm=OPEN_OHM),
                Change(f"{part_id}.crossed_{one}_{two}", set_ohm=self.CONTACT), Change(f"{part_id}.crossed_{two}_{one}", set_ohm=self.CONTACT),
            )  # fmt: skip
            found += [
                self.fault(part_id, f"bridge_{one}_{two}", f"{pins} bridged (water, bent pin), or their wires chafed together",
                           (0.2 if near else 0.05) * factor, f"{part_id}.{one}", path_severities(bridge)),
                self.fault(part_id, f"exchanged_{one}_{two}", f"{pins} exchanged", 0.03 if near else 0.01, f"{part_id}.{one}",
                           (Severity("exchanged", 1.0, exchanged),), traits=("evident",)),
            ]  # fmt: skip
        return found

    CONTACT: ClassVar[float] = CONTACT_OHM

    def repair_text(self, part_id: str) -> str:
        return f"Open, dry and inspect {self.name(part_id)}; repair cavities and the harness behind it by the manufacturer's method"


class Splice(Part):
    """A crimped joint of several wires; each leg can corrode. Legs are named by use: ``S1.a``, ``S1.b`` …"""

    family: Literal["splice"]
    legs: list[str] = Field(min_length=2, description="Names of the legs, as wires refer to them.")
    fit_min: NonNegative = 30.0
    price: NonNegative = 3.0

    GROUP: ClassVar[Group] = "wiring"
    TERMINALS: ClassVar[tuple[str, ...]] = ()
    NOUN: ClassVar[str] = "Splice"
    SEVERAL_SYMBOLS: ClassVar[bool] = True

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        return [
            Branch(f"{part_id}.leg_{leg}", part_id, f"{part_id}.{leg}", f"{part_id}.hub", 0.002, spread=0.3) for leg in self.legs
        ]

    def faults(self, part_id: str) -> list[Fault]:
        found = []
        for leg in self.legs:
            branch = f"{part_id}.leg_{leg}"
            found += [
                self.fault(part_id, f"{leg}_open", f"open at leg {leg}", 0.2, branch, open_severity(branch)),
                self.fault(part_id, f"{leg}_resistance", f"corroded at leg {leg}", 0.3, branch, series_severities(branch)),
            ]
        return found


class GroundPoint(Part):
    """A stud or bolt on the body: the joint between ring terminals and metal."""

    family: Literal["ground_point"]
    access_min: NonNegative | None = 1.0
    fit_min: NonNegative = 15.0
    price: NonNegative = 2.0
    exposed: bool = Field(False, description="Under the vehicle or in a wheel arch: fails more often.")

    GROUP: ClassVar[Group] = "wiring"
    TERMINALS: ClassVar[tuple[str, ...]] = ("stud",)
    NOUN: ClassVar[str] = "Ground point"

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        return [Branch(part_id, part_id, f"{part_id}.stud", CHASSIS, 0.002, spread=0.3)]

    def faults(self, part_id: str) -> list[Fault]:
        factor = 3.0 if self.exposed else 1.0
        return [
            self.fault(part_id, "open", "loose or broken off", 0.5 * factor, part_id, open_severity(part_id)),
            self.fault(part_id, "resistance", "corroded", 0.8 * factor, part_id,
                       series_severities(part_id)),
        ]  # fmt: skip
