"""Relay: coil with suppression, and a contact that follows the coil current."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from sondar.core.circuit.families.base import Drawn, NonNegative, Part, Positive, open_severity, scale_severities, series_severities
from sondar.core.circuit.families.supply import CRANKING
from sondar.core.circuit.model import (
    AIR_OHM,
    Acts,
    Branch,
    Change,
    Curve,
    Fault,
    RelayContact,
    Setup,
    Severity,
    copper_resistance,
)

CLOSED_OHM = 0.005


class Relay(Part):
    """A relay with terminals numbered after DIN 72552: coil 85/86, common 30, make 87, break 87a.

    The contact changes over where the coil current reaches ``pull_in_v`` / coil resistance. Copper warms, so
    the coil resistance follows temperature and the pull-in *current* stays.
    """

    family: Literal["relay"]
    coil_ohm: Positive = 85.0
    pull_in_v: Positive = Field(7.0, description="Coil voltage at 20 °C at which it changes over.")
    drop_out_v: Positive | None = Field(
        None, description="Coil voltage at 20 °C at which it falls off again; it holds down to there while the starter turns."
    )
    suppression: Literal["none", "resistor", "diode"] = "resistor"
    suppression_ohm: Positive = 680.0
    silent: bool = Field(False, description="A semiconductor in a relay's place: nothing is heard of it.")
    price: NonNegative = 15.0
    fit_min: NonNegative = 5.0

    TERMINALS: ClassVar[tuple[str, ...]] = ("85", "86", "30", "87")
    OPTIONAL_TERMINALS: ClassVar[tuple[str, ...]] = ("87a",)
    NOUN: ClassVar[str] = "Relay"
    SEVERAL_SYMBOLS: ClassVar[bool] = True

    def change_over_a(self, setup: Setup) -> float:
        """Coil current at which the contact changes over in a set-up.

        The key passes *on* on its way to the starter: what is switched on has pulled in before the battery sags, and only has to hold.
        """
        holds = self.drop_out_v is not None and CRANKING in dict(setup.controls).values()
        return (self.drop_out_v if holds and self.drop_out_v is not None else self.pull_in_v) / self.coil_ohm

    def acts(self, part_id: str, setup: Setup) -> Acts | None:
        pull_in = self.change_over_a(setup)
        return None if self.silent else Acts(f"{part_id}.coil", pull_in, pull_in, "clicks")

    def sketch(self, part_id: str) -> list[Drawn]:
        return [
            (f"{part_id}.coil", "coil", f"{part_id}.86", f"{part_id}.85"),
            (f"{part_id}.contact", "relay-contact", f"{part_id}.30", f"{part_id}.87"),
            (f"{part_id}.break", "relay-break", f"{part_id}.30", f"{part_id}.87a"),
        ]

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        def at(terminal: str) -> str:
            return f"{part_id}.{terminal}"

        coil = f"{part_id}.coil"
        pull_in = self.change_over_a(setup)
        made = [
            Branch(coil, part_id, at("86"), at("85"), copper_resistance(self.coil_ohm, setup.temperature_c), spread=0.1),
            Branch(f"{part_id}.contact", part_id, at("30"), at("87"), AIR_OHM, spread=0.3,
                   contact=RelayContact(coil, pull_in, False, CLOSED_OHM)),
            Branch(f"{part_id}.break", part_id, at("30"), at("87a"), CLOSED_OHM, spread=0.3,
                   contact=RelayContact(coil, pull_in, True, CLOSED_OHM)),
        ]  # fmt: skip
        if self.suppression == "resistor":
            made.append(Branch(f"{part_id}.suppressor", part_id, at("86"), at("85"), self.suppression_ohm, spread=0.05))
        if self.suppression == "diode":  # cathode at 86, the supply side
            made.append(Branch(f"{part_id}.suppressor", part_id, at("85"), at("86"), curve=Curve("diode", (0.65, 0.05, 1e7))))
        return made

    def faults(self, part_id: str) -> list[Fault]:
        coil, contact = f"{part_id}.coil", f"{part_id}.contact"
        found = [
            self.fault(part_id, "coil_open", "coil open", 1.0, coil, open_severity(coil)),
            self.fault(part_id, "coil_short", "coil with shorted turns", 0.3, coil, scale_severities(coil)),
            self.fault(part_id, "contact_open", "contact does not close", 1.2, contact,
                       (Severity("open", 1.0, (Change(contact, set_ohm=AIR_OHM),)),)),
            self.fault(part_id, "contact_burnt", "contact burnt, high resistance", 1.0, contact,
                       series_severities(contact, (0.03, 0.1, 0.3, 1.0, 3.0, 10.0, 30.0, 100.0))),
            self.fault(part_id, "contact_welded", "contact welded closed", 0.6, contact,
                       (Severity("closed", 1.0, (Change(contact, set_ohm=CLOSED_OHM),)),)),
        ]  # fmt: skip
        if self.suppression == "diode":
            found.append(
                self.fault(part_id, "diode_short", "suppression diode shorted", 0.2, f"{part_id}.suppressor",
                           (Severity("short", 1.0, (Change(f"{part_id}.suppressor", set_ohm=0.05),)),))
            )  # fmt: skip
        return found
