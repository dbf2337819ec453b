"""The circuit file as typed fields."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Annotated, Any, Literal, Self

from pydantic import Field, StringConstraints, model_validator

from sondar.core.circuit.families import AnyPart, Wire
from sondar.core.circuit.families.base import ActiveWhen, Fields, NonNegative, Quantity, normalised
from sondar.core.limits.document import Limit

PinNumber = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9._-]{1,8}$")]
IDENTIFIER = r"^[A-Za-z][A-Za-z0-9_-]*$"
KEY_VALUES = ("off", "on", "run")
CODE_FORM = re.compile(r"[PCBU][0-3][0-9A-F]{3}(-[0-9A-F]{2})?")
"""ISO 15031-6 form: system letter, four hex digits, optional two-digit failure type."""


class VehicleModel(Fields):
    """The vehicles a circuit belongs to."""

    make: str
    model: str = ""
    years: str = ""


class Control(Fields):
    """Something the technician can command or operate, and its positions; the first is the rest position."""

    title: str = ""
    values: list[str] = Field(min_length=2)
    minutes: NonNegative = Field(0.4, description="Minutes to move it.")
    how: str = Field("", description="How it is moved, e.g. 'scan tool, output test' or 'press the pedal'.")
    caution: str = Field("", description="What can hurt or break when it moves.")
    requires: dict[str, ActiveWhen] = Field(
        default_factory=dict,
        description="Per position: where other controls must stand for it, e.g. {cranking: {key: on}}; without that it is not so.",
    )
    excludes: dict[str, ActiveWhen] = Field(
        default_factory=dict, description="Per position: where other controls may not stand, e.g. {standing: {key: run}}."
    )
    needs: dict[str, list[str]] = Field(
        default_factory=dict,
        description="Per position: modules and connectors that must be connected, e.g. {run: [ECM]} or, for a command, {on: [ECM]}.",
    )


class Connector(Fields):
    """A connector: each cavity joins the wire side (``X1.3``) to what it carries on the other side."""

    title: str = ""
    place: str = ""
    access_min: NonNegative = Field(1.0, description="Minutes to reach it the first time.")
    unplug_min: NonNegative = Field(0.5, description="Minutes to part or mate it once reached.")
    back_probe: bool = Field(
        True,
        description="False if sealed against water: while connected it is measured through a break-out lead only, never by piercing.",
    )
    exposed: bool = Field(False, description="Wet or moving place: contacts fail more often.")
    inline: bool = Field(False, description="Harness to harness: both sides are wires.")
    rows: int = Field(0, ge=0, le=8, description="Rows of cavities on its face; worked out from their number if left out.")
    restraint: bool = Field(False, description="Airbag or pretensioner circuit: no probe ever goes there.")
    cavities: dict[str, str | list[str] | None] = Field(
        description="Cavity -> terminal(s) of the part behind it; leave empty for an in-line connector."
    )
    pins: dict[str, PinNumber] = Field(
        default_factory=dict,
        description="Cavity -> its number on the vehicle's own plug, where that differs; readings keep the cavity.",
    )


class Module(Fields):
    """A control unit that holds drivers and inputs sealed inside."""

    title: str = ""
    place: str = ""
    price: NonNegative = 450.0
    fit_min: NonNegative = 60.0
    coded: bool = Field(True, description="A new one must be coded or taught in.")
    answers: list[Condition] = Field(
        default_factory=list, description="The scan tool gets an answer from it while all these are met."
    )


class NamedSetup(Fields):
    """A set-up worth a name, for the command line and the drawing."""

    controls: dict[str, str] = Field(default_factory=dict)
    unplugged: list[str] = Field(default_factory=list)
    temperature_c: Quantity = 20.0


class Condition(Fields):
    """A limit that something inside the vehicle watches, in a set-up with everything plugged in."""

    when: dict[str, str] = Field(default_factory=dict, description="Controls that differ from rest while it is watched.")
    measures: tuple[str, str] | None = Field(None, description="Two terminals: the voltage of the first against the second.")
    flows: str | None = Field(None, description="Or a branch, e.g. a motor's 'M5.brushes': the size of its current.")
    above: float | None = Field(None, description="Met above this many volts (amperes).")
    below: float | None = Field(None, description="Met below this many volts (amperes).")

    @model_validator(mode="after")
    def _one_quantity_one_limit(self) -> Self:
        if (self.measures is None) == (self.flows is None):
            raise ValueError("give either 'measures' (two terminals) or 'flows' (a branch)")
        if (self.above is None) == (self.below is None):
            raise ValueError("give either 'above' or 'below'")
        return self


class Observation(Fields):
    """Something that shows by itself when any of its conditions is met."""

    title: str = Field(min_length=1)
    sets: list[Condition] = Field(default_factory=list, description="It shows if any of these is met.")
    faults: list[str] = Field(
        default_factory=list, description="Faults that also show it without any electrical trace, e.g. M5.seized."
    )


class Symptom(Observation):
    """Something the customer or the technician can notice."""


class Code(Observation):
    """A trouble code that a module stores."""

    module: str = Field(description="The module that stores it.")
    kind: Literal["electrical", "rationality", "system"] = Field("electrical", description="In this order codes are chased.")
    about: str = Field("", description="What makes it set, in words.")
    seconds: NonNegative = Field(2.0, description="How long the condition must last.")
    unless: list[str] = Field(default_factory=list, description="Codes that keep its monitor from running while they are set.")
    follows: dict[str, float] = Field(
        default_factory=dict, description="Codes whose cause can upset this one, with the chance that it then sets too."
    )


class ServiceNote(Fields):
    """What is done about a part, for the repair."""

    part: str
    do: Literal["clean", "replace", "repair", "clean or replace", "set up"]
    difficulty: Literal["easy", "some skill", "specialist"] = "easy"
    teach_in: str = Field("", description="Coding, learning, bleeding or resetting that a new one needs; empty for none.")
    note: str = ""
    tools: str = Field("", max_length=200, description="Tools beyond the usual, e.g. 'Torx 30, hose pick'.")
    torque: str = Field("", max_length=80, description="Tightening torque where it is known, e.g. '9 Nm, new screws'.")


class Response(Fields):
    """What a module sees follow when something is commanded: how late and how fast is known from the parts in between."""

    title: str = Field("", max_length=120, description="In words, e.g. 'Flap position after the command'.")
    input: str = Field(description="The module's input that sees it.")
    when: ActiveWhen = Field(
        min_length=1,
        description="Controls that differ from rest once it is commanded, each with the position or positions it may have.",
    )
    before: dict[str, str] = Field(
        default_factory=dict, description="Of these, where they stand before; those left out but the key stand at rest."
    )
    chain: list[str] = Field(
        min_length=1, max_length=8, description="Parts between command and input, in order: their time constants add up."
    )


class Variant(Fields):
    """Another way in which the circuit may be built on this vehicle: what is different then. Readings decide."""

    title: str = Field(min_length=1, max_length=120, description="What is different, in words.")
    share: float = Field(gt=0.0, le=0.5, description="How often it is built that way.")
    parts: dict[str, Any] = Field(default_factory=dict, description="Changes of parts, as a JSON merge patch (RFC 7386).")
    connectors: dict[str, Any] = Field(default_factory=dict, description="Changes of connectors.")
    wires: dict[str, Any] = Field(default_factory=dict, description="Changes of wires.")


class CircuitDocument(Fields):
    """A circuit: parts, connectors, wires, controls. Format version 1."""

    sondar: Literal[1] = Field(description="Version of this format.")
    id: str = Field(pattern=IDENTIFIER)
    title: str = Field(min_length=1)
    vehicle: VehicleModel
    about: str = Field("", description="What it does, when it acts, what sets the code.")
    complaint: str = Field("", description="The complaint that usually leads here.")
    cautions: list[str] = Field(default_factory=list, description="Cautions for the whole circuit, in words.")
    controls: dict[str, Control] = Field(default_factory=dict)
    parts: dict[str, AnyPart] = Field(min_length=1)
    modules: dict[str, Module] = Field(default_factory=dict)
    connectors: dict[str, Connector] = Field(default_factory=dict)
    wires: dict[str, Wire] = Field(default_factory=dict)
    joins: list[list[str]] = Field(default_factory=list, description="Terminals that are bolted or built together.")
    setups: dict[str, NamedSetup] = Field(default_factory=dict)
    codes: dict[str, Code] = Field(default_factory=dict, description="Trouble codes that this circuit's modules can store.")
    symptoms: dict[str, Symptom] = Field(default_factory=dict, description="What people notice when it fails.")
    synonyms: list[str] = Field(default_factory=list, description="Other names and abbreviations that people search for.")
    limits: dict[str, Limit] = Field(default_factory=dict, description="What readings must be, with condition and source.")
    service: list[ServiceNote] = Field(default_factory=list, description="Clean or replace, how hard, what a new part needs.")

    responses: dict[str, Response] = Field(default_factory=dict, description="What follows a command, how late and how fast.")

    variants: dict[str, Variant] = Field(default_factory=dict, description="Other ways in which it may be built on this vehicle.")

    sheet: dict[str, Any] = Field(
        default_factory=dict, description="The wiring sheet that it was described from, cavity by cavity."
    )

    def control_values(self) -> dict[str, tuple[str, ...]]:
        """All controls with their positions; ``key`` always exists."""
        found = {name: tuple(control.values) for name, control in self.controls.items()}
        return {"key": KEY_VALUES, **found}


def goes_with(control: Control, position: str, others: Mapping[str, str]) -> bool:
    """True if a position of a control is possible while the other controls stand where they do."""
    required = normalised(control.requires.get(position, {}))
    excluded = normalised(control.excludes.get(position, {}))
    return all(others.get(name) in values for name, values in required.items()) and not any(
        others.get(name) in values for name, values in excluded.items()
    )


def behind(target: str | list[str] | None) -> list[str]:
    """Terminals behind a cavity as a list."""
    if target is None:
        return []
    return [target] if isinstance(target, str) else target
