"""Codes out of a vehicle and out of its memory, by UDS through udsoncan on any line of ``sondar.devices.lines``."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass

from udsoncan import Request, services
from udsoncan.client import Client
from udsoncan.exceptions import InvalidResponseException, NegativeResponseException, TimeoutException, UnexpectedResponseException

from sondar.core.codes import FoundCode, code_of_number
from sondar.core.diagnostic_address import ModuleAddress
from sondar.devices.lines import ScanToolError, open_line

VEHICLE_S = 90.0
"""Longest time for a whole vehicle."""
STORED = 0x2F
"""Status bits that speak of a failure; a code that has none of them is only "not tested yet"."""

UNCLEAR = (InvalidResponseException, UnexpectedResponseException, ValueError, IndexError)
SILENT = (TimeoutException, OSError, TimeoutError)
"""What a single module may do instead of answering, beside refusing: something that is no answer, or nothing."""

REFUSALS = {
    0x11: "this service is not supported", 0x12: "this function is not supported", 0x13: "the request's length or format is not right",
    0x21: "busy: ask again", 0x22: "conditions are not right (key, engine, speed)", 0x31: "out of range", 0x33: "security access is needed",
    0x78: "says again and again that the answer is pending", 0x7E: "not in this session", 0x7F: "service not in this session",
}  # fmt: skip
"""Negative response codes of ISO 14229-1 annex A in words."""


@dataclass(frozen=True)
class VehicleScan:
    """What a vehicle told: its codes, with those whose monitor has not run since clearing, and the VIN.

    Attributes:
        modules: module -> True if it answered, False if it was silent, or in words why it did not say its codes though it is there.
    """

    modules: dict[str, bool | str]
    codes: tuple[FoundCode, ...]
    vin: str | None


def read_codes(address: str, modules: Mapping[str, ModuleAddress]) -> VehicleScan:
    """Ask every module for its codes (service 0x19, by status mask) and one of them for the VIN.

    Args:
        address: of the adapter. modules: where each is reached.

    Raises:
        ScanToolError: no connection, or no module is known.
    """
    answered: dict[str, bool | str] = {}
    codes: list[FoundCode] = []
    vin: str | None = None
    end = time.monotonic() + VEHICLE_S
    with open_line(address) as line:
        for name, where in modules.items():
            if time.monotonic() > end:
                answered[name] = "not asked: the modules before it took too long"
                continue
            with line.module(where) as client:
                try:
                    response = client.get_dtc_by_status_mask(0xFF)
                    dtcs = response.service_data.dtcs if response is not None else []
                    answered[name] = True
                    vin = vin or _vin(client)
                except NegativeResponseException as error:
                    answered[name] = _refusal(error)
                    continue
                except UNCLEAR:
                    answered[name] = "answered, and the answer cannot be read"
                    continue
                except SILENT:
                    answered[name] = False
                    continue
            for dtc in dtcs:
                found = code_of_number(dtc.id)
                codes.append(FoundCode(found.code, found.failure_type, dtc.status.get_byte_as_int(), name))
    if not answered:
        raise ScanToolError("no module of this vehicle has a known diagnostic address")
    return VehicleScan(answered, tuple(codes), vin)


def clear_codes(address: str, modules: Mapping[str, ModuleAddress]) -> list[str]:
    """Clear every module that answers (service 0x14, all groups); returns those that confirmed.

    Raises:
        ScanToolError: no connection.
    """
    done = []
    with open_line(address) as line:
        for name, where in modules.items():
            with line.module(where) as client:
                try:
                    client.clear_dtc(0xFFFFFF)
                    done.append(name)
                except (NegativeResponseException, *UNCLEAR, *SILENT):
                    continue
    return done


def _vin(client: Client) -> str | None:
    """The VIN, if this module says it; not to say it is no fault of a module."""
    try:
        raw = client.send_request(Request(services.ReadDataByIdentifier, data=b"\xf1\x90"))
    except (NegativeResponseException, *UNCLEAR, *SILENT):
        return None
    return raw.data[2:19].decode("ascii", "replace") if raw is not None and raw.data is not None else None


def _refusal(error: NegativeResponseException) -> str:
    return f"refused: {in_words(error.response.code)}"


def in_words(code: int) -> str:
    """A negative response code in words."""
    return REFUSALS.get(code, f"negative response {code:02X}")
