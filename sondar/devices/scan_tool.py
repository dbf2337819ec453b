"""Codes out of a vehicle and out of its memory: UDS over DoIP through udsoncan and doipclient."""

from __future__ import annotations

import contextlib
import logging
import socket
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from doipclient import DoIPClient
from doipclient.connectors import DoIPClientUDSConnector
from udsoncan import Request, services
from udsoncan.client import Client
from udsoncan.exceptions import InvalidResponseException, NegativeResponseException, TimeoutException, UnexpectedResponseException

from sondar.core.codes import FoundCode, code_of_number
from sondar.core.errors import UnavailableError

TIMEOUT_S, MODULE_S, VEHICLE_S = 3.0, 12.0, 90.0
"""Longest wait for one answer, for all answers of one module (with "response pending" in between), and for a whole vehicle."""
MOST_BYTES = 1024 * 1024
"""Of one module: 200,000 codes fit; whoever sends more does not send codes."""
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

logging.getLogger("UdsClient").setLevel(logging.CRITICAL)
logging.getLogger("doipclient").setLevel(logging.CRITICAL)


class ScanToolError(UnavailableError):
    """The vehicle cannot be reached at all; a single silent module is no error but a finding."""

    def __init__(self, detail: str) -> None:
        super().__init__("Vehicle not read", detail)


@dataclass(frozen=True)
class VehicleScan:
    """What a vehicle told: its codes, with those whose monitor has not run since clearing, and the VIN.

    Attributes:
        modules: module -> True if it answered, False if it was silent, or in words why it did not say its codes though it is there.
    """

    modules: dict[str, bool | str]
    codes: tuple[FoundCode, ...]
    vin: str | None


def read_codes(address: str, modules: Mapping[str, int]) -> VehicleScan:
    """Ask every module for its codes (service 0x19, by status mask) and one of them for the VIN.

    Args:
        address: ``host:port`` of the DoIP entity.
        modules: module -> logical address.

    Raises:
        ScanToolError: no connection, or no module is known.
    """
    answered: dict[str, bool | str] = {}
    codes: list[FoundCode] = []
    vin: str | None = None
    end = time.monotonic() + VEHICLE_S
    for name, logical in modules.items():
        if time.monotonic() > end:
            answered[name] = "not asked: the modules before it took too long"
            continue
        with connected(address, logical) as client:
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


def clear_codes(address: str, modules: Mapping[str, int]) -> list[str]:
    """Clear every module that answers (service 0x14, all groups); returns those that confirmed.

    Raises:
        ScanToolError: no connection.
    """
    done = []
    for name, logical in modules.items():
        with connected(address, logical) as client:
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


@contextmanager
def connected(address: str, logical: int, longest_s: float = MODULE_S) -> Iterator[Client]:
    """A UDS client of one module, for at most ``longest_s``.

    Raises:
        ScanToolError: no connection.
    """
    host, _, port = address.rpartition(":")
    try:
        connection = _Connection(host, logical, tcp_port=int(port), client_logical_address=0x0E80)
    except (OSError, TimeoutError, ValueError, ConnectionError) as error:
        raise ScanToolError(f"no vehicle interface at {address}: check its cable and power ({error})") from error
    # Whatever the other end does: after this the line is closed under it.
    ending = threading.Timer(longest_s, connection.cut)
    ending.daemon = True
    ending.start()
    try:
        # The first answer comes soon; one that is announced (0x78) may come as late as all of a module's answers together.
        config = {
            "exception_on_invalid_response": True,
            "request_timeout": MODULE_S,
            "p2_timeout": TIMEOUT_S,
            "p2_star_timeout": MODULE_S,
        }
        with Client(DoIPClientUDSConnector(connection), config=config) as client:
            yield client
    finally:
        ending.cancel()
        connection.close()


class _Connection(DoIPClient):  # type: ignore[misc]
    """A connection that takes so many bytes and no more."""

    def _connect(self) -> None:
        super()._connect()
        line: Any = self._tcp_sock
        self._tcp_sock: Any = _BoundedSocket(line)

    def cut(self) -> None:
        """Close the line from another thread."""
        with contextlib.suppress(OSError):
            self._tcp_sock.shutdown(socket.SHUT_RDWR)


class _BoundedSocket:
    def __init__(self, line: socket.socket) -> None:
        self._line, self._left = line, MOST_BYTES

    def recv(self, size: int) -> bytes:
        found = self._line.recv(size)
        self._left -= len(found)
        if self._left < 0:
            raise OSError("the other end sends without end")
        return found

    def __getattr__(self, name: str) -> Any:
        return getattr(self._line, name)
