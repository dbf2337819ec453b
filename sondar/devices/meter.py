"""Reading a bench meter over SCPI (IEEE 488.2 / SCPI-1999) through PyVISA, real or simulated alike.

A real meter knows nothing of the vehicle: the technician holds its probes. A meter that announces the option ``LEADS`` in
``*OPT?`` can be told where they are; the shipped simulator does. That is the only difference, and it is the meter's own word.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass

import pyvisa
from pyvisa.resources import MessageBasedResource

from sondar.core.circuit.model import Setup
from sondar.core.errors import UnavailableError
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Instrument
from sondar.core.quantities import format_si

OVERLOAD = 9.9e37
"""SCPI-1999, 7.2.1: what a meter sends for infinity; not-a-number is 9.91e37."""
NOT_A_NUMBER = 9.91e37
LONGEST_ANSWER = 512
"""Bytes of one answer; a figure takes fifteen."""


class MeterError(UnavailableError):
    """The meter is not there, or does not answer as SCPI asks; the message says what to do."""

    def __init__(self, detail: str) -> None:
        super().__init__("Meter not read", detail)


@dataclass(frozen=True)
class Placement:
    """Where probes and vehicle are, for a meter that can be told."""

    vehicle: str
    setup: Setup
    red: str
    black: str


def read_meter(address: str, instrument_id: str, placement: Placement, timeout_s: float = 4.0) -> str:
    """One reading as the text a person would enter: ``12.31``, ``OL``, ``unstable``, ``bright``.

    Args:
        address: VISA address, for instance ``TCPIP::127.0.0.1::5025::SOCKET``.

    Raises:
        MeterError: no answer, or an answer that is no number.
    """
    device = instrument(instrument_id)
    with _opened(address, timeout_s) as link:
        try:
            _put_in_place(link, device, placement)
            return as_entry(device, ask(link, device.query or f"SIM:SEE? {device.id}"))
        except (pyvisa.Error, OSError) as error:
            raise MeterError(f"the meter at {address} does not answer ({error}): try again, or type the reading") from error


@contextmanager
def logging_meter(
    address: str, instrument_id: str, placement: Placement, timeout_s: float = 4.0
) -> Iterator[Callable[[], float | None]]:
    """A meter that is asked again and again with its probes where they are: each call gives one figure, None for an overload or none.

    Raises:
        MeterError: no answer, or one that is no number; an instrument that shows words.
    """
    device = instrument(instrument_id)
    if not device.figures or not device.query:
        raise MeterError(f"a {device.title.lower()} shows nothing that a meter could log")
    with _opened(address, timeout_s) as link:

        def figure() -> float | None:
            try:
                value = float(ask(link, device.query))
            except ValueError as error:
                raise MeterError("the meter answers with something that is no number: check its settings") from error
            except (pyvisa.Error, OSError) as error:
                raise MeterError(f"the meter at {address} does not answer any more: what came until then is kept") from error
            return value if abs(value) < NOT_A_NUMBER else None

        try:
            _put_in_place(link, device, placement)
        except (pyvisa.Error, OSError) as error:
            raise MeterError(f"the meter at {address} does not answer ({error}): check that it is on and connected") from error
        yield figure


@contextmanager
def _opened(address: str, timeout_s: float) -> Iterator[MessageBasedResource]:
    try:
        manager = pyvisa.ResourceManager("@py")
        link = manager.open_resource(address, read_termination="\n", write_termination="\n", timeout=int(timeout_s * 1000))
    except Exception as error:  # PyVISA raises plain exceptions of its backends
        raise MeterError(f"no meter at {address}: check that it is on and connected, or type the reading") from error
    assert isinstance(link, MessageBasedResource)
    try:
        yield link
    finally:
        with suppress(pyvisa.Error, OSError):
            link.close()


def _put_in_place(link: MessageBasedResource, device: Instrument, placement: Placement) -> None:
    """Tell a meter of option LEADS where its probes are; a real one is held, and must know what is asked of it."""
    if "LEADS" in ask(link, "*OPT?"):
        place_probes(link, placement)
    elif not device.query:
        raise MeterError(f"this meter cannot see that: type {', '.join(device.words) or 'what you read'}")


def tell_repaired(address: str, vehicle: str, units: list[str], timeout_s: float = 4.0) -> None:
    """Tell a meter of option LEADS that units of its vehicle were repaired; any other knows nothing of vehicles and is told nothing.

    Raises:
        MeterError: no answer.
    """
    with _opened(address, timeout_s) as link:
        try:
            if "LEADS" in ask(link, "*OPT?"):
                link.write(f"SIM:VEH {vehicle}")
                link.write(f"SIM:REP {','.join(units)}")
                ask(link, "SYST:ERR?")
        except (pyvisa.Error, OSError) as error:
            raise MeterError(f"the meter at {address} does not answer ({error})") from error


def ask(link: MessageBasedResource, command: str) -> str:
    """One line of answer, read to its end or to ``LONGEST_ANSWER``, within the link's time-out.

    Raises:
        MeterError: longer, or not text.
    """
    link.write(command)
    answer, end = b"", time.monotonic() + link.timeout / 1000.0
    while not answer.endswith(b"\n") and len(answer) < LONGEST_ANSWER and time.monotonic() < end:
        answer += link.read_bytes(1, break_on_termchar=True)
    if not answer.endswith(b"\n"):
        raise MeterError(f"the meter's answer to {command} does not end: try again, or type the reading")
    try:
        return answer.decode("ascii").strip()
    except UnicodeDecodeError as error:
        raise MeterError(f"the meter's answer to {command} is no text: check its settings, or type the reading") from error


def place_probes(link: MessageBasedResource, placement: Placement) -> None:
    """Tell a meter of option LEADS the vehicle, its set-up and the two points."""
    controls = ",".join(f"{name}={value}" for name, value in placement.setup.controls)
    for command in (
        f"SIM:VEH {placement.vehicle}",
        f"SIM:CONT {controls}",
        f"SIM:UNPL {','.join(sorted(placement.setup.unplugged))}",
        f"SIM:TEMP {placement.setup.temperature_c:g}",
        f"SIM:LEAD {placement.red},{placement.black}",
    ):
        link.write(command)
    error = ask(link, "SYST:ERR?")
    if not error.startswith("0"):
        raise MeterError(f"the meter reports {error}")


def as_entry(device: Instrument, answer: str) -> str:
    """A SCPI answer as entry text.

    Raises:
        MeterError: not a number.
    """
    if not device.figures or answer.strip() in device.words:
        return answer.strip()
    try:
        value = float(answer)
    except ValueError as error:
        raise MeterError(f"the meter answered '{answer[:40]}', not a number: try again, or type the reading") from error
    if math.isnan(value) or NOT_A_NUMBER <= abs(value) < math.inf:
        return device.words[-1] if device.words else "no figure"
    if abs(value) >= OVERLOAD:
        return "OL"
    return format_si(value, device.unit, 4)
