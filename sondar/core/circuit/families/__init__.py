"""Part families. Adding one is one class in one file here, and its name in ``FAMILIES``.

A family says which branches it adds to the network in a set-up (``branches``) and how it fails (``faults``).
"""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from sondar.core.circuit.families.base import Part
from sondar.core.circuit.families.bridge import CodedSwitch, Gauge, HBridge, Heater, Stepper
from sondar.core.circuit.families.harness import Contact, GroundPoint, Plug, Splice, Wire
from sondar.core.circuit.families.loads import DcMotor, Lamp, ResistiveLoad, Solenoid
from sondar.core.circuit.families.module import HighSideDriver, LowSideDriver, PulledInput
from sondar.core.circuit.families.reference import BusEnd, BusTransceiver, ModuleSupply, RatiometricSensor, Reference
from sondar.core.circuit.families.relay import Relay
from sondar.core.circuit.families.signals import (
    ActiveSensor,
    CurrentSensor,
    DualTrack,
    HallSensor,
    OxygenSensor,
    Piezo,
    SerialSensor,
    VariableReluctance,
)
from sondar.core.circuit.families.supply import Battery, Fuse
from sondar.core.circuit.families.switch import Switch
from sondar.core.circuit.families.thermistor import Ntc

AnyPart = Annotated[
    Battery
    | Fuse
    | Splice
    | GroundPoint
    | Relay
    | ResistiveLoad
    | Solenoid
    | Lamp
    | DcMotor
    | Switch
    | LowSideDriver
    | HighSideDriver
    | PulledInput
    | Ntc
    | ModuleSupply
    | Reference
    | RatiometricSensor
    | BusTransceiver
    | BusEnd
    | HBridge
    | Stepper
    | Heater
    | CodedSwitch
    | Gauge
    | HallSensor
    | SerialSensor
    | ActiveSensor
    | VariableReluctance
    | Piezo
    | CurrentSensor
    | OxygenSensor
    | DualTrack,
    Field(discriminator="family"),
]

__all__ = [
    "ActiveSensor",
    "AnyPart",
    "Battery",
    "BusEnd",
    "BusTransceiver",
    "CodedSwitch",
    "Contact",
    "CurrentSensor",
    "DcMotor",
    "DualTrack",
    "Fuse",
    "Gauge",
    "GroundPoint",
    "HBridge",
    "HallSensor",
    "Heater",
    "HighSideDriver",
    "Lamp",
    "LowSideDriver",
    "ModuleSupply",
    "Ntc",
    "OxygenSensor",
    "Part",
    "Piezo",
    "Plug",
    "PulledInput",
    "RatiometricSensor",
    "Reference",
    "Relay",
    "ResistiveLoad",
    "SerialSensor",
    "Solenoid",
    "Splice",
    "Stepper",
    "Switch",
    "VariableReluctance",
    "Wire",
]  # fmt: skip
