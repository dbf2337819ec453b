"""Codes out of a vehicle and out of its memory: UDS over DoIP through udsoncan and doipclient."""

from __future__ import annotations

import logging
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass

from doipclient import DoIPClient
from doipclient.connectors import DoIPClientUDSConnector
from udsoncan import Request, services
from udsoncan.client import Client
from udsoncan.exceptions import InvalidResponseException, NegativeResponseException, TimeoutException, UnexpectedResponseException

from sondar.core.codes import FoundCode, code_of_number
from sondar.core.errors import UnavailableError

TIMEOUT_S = 3.0
STORED = 0x2F
"""Status bits that speak of a failure; a code that has none of them is only "not tested yet"."""

NO_ANSWER = (
    NegativeResponseException, InvalidResponseException, UnexpectedResponseException, TimeoutException, OSError, TimeoutError,
)  # fmt: skip
"""What a single module may do instead of answering."""

logging.getLogger("UdsClient").setLevel(logging.CRITICAL)
logging.getLogger("doipclient").setLevel(logging.CRITICAL)


class ScanToolError(UnavailableError):
    """The vehicle cannot be reached at all; a single silent module is no error but a finding."""

    def __init__(self, detail: str) -> None:
        super().__init__("Vehicle not read", detail)


@dataclass(frozen=True)
class VehicleScan:
    """What a vehicle told: which modules answered, their codes, and those whose monitor has not run since clearing."""

    modules: dict[str, bool]
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
    answered: dict[str, bool] = {}
    codes: list[FoundCode] = []
    vin: str | None = None
    for name, logical in modules.items():
        with _client(address, logical) as client:
            try:
                response = client.get_dtc_by_status_mask(0xFF)
                dtcs = response.service_data.dtcs if response is not None else []
                if vin is None:
                    raw = client.send_request(Request(services.ReadDataByIdentifier, data=b"\xf1\x90"))
                    vin = raw.data[2:].decode("ascii", "replace") if raw is not None and raw.data is not None else None
                answered[name] = True
            except NO_ANSWER:
                answered[name] = answered.get(name, False)
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
        with _client(address, logical) as client:
            try:
                client.clear_dtc(0xFFFFFF)
                done.append(name)
            except NO_ANSWER:
                continue
    return done


@contextmanager
def _client(address: str, logical: int) -> Iterator[Client]:
    host, _, port = address.rpartition(":")
    try:
        connection = DoIPClient(host, logical, tcp_port=int(port), client_logical_address=0x0E80)
    except (OSError, TimeoutError, ValueError, ConnectionError) as error:
        raise ScanToolError(f"no vehicle interface at {address}: check its cable and power ({error})") from error
    try:
        with Client(
            DoIPClientUDSConnector(connection), request_timeout=TIMEOUT_S, config={"exception_on_invalid_response": True}
        ) as client:
            yield client
    finally:
        connection.close()
