"""Lines to the modules of a vehicle: DoIP through doipclient, or ISO-TP on CAN through python-can and can-isotp; UDS above either by udsoncan.

An adapter is named ``host:port`` (DoIP) or ``can:INTERFACE:CHANNEL@BITRATE``, for instance ``can:socketcan:can0@500000`` or
``can:slcan:/dev/ttyACM0@500000``; INTERFACE is one of python-can's. Other buses are refused in words.
"""

from __future__ import annotations

import contextlib
import logging
import socket
import threading
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import Any, Protocol

import can
import isotp
from doipclient import DoIPClient
from doipclient.connectors import DoIPClientUDSConnector
from udsoncan.client import Client
from udsoncan.connections import PythonIsoTpConnection

from sondar.core.diagnostic_address import HIGHEST_11_BIT, ModuleAddress
from sondar.core.errors import UnavailableError

TIMEOUT_S, MODULE_S = 3.0, 12.0
"""Longest wait for one answer, and for all answers of one module (with "response pending" in between)."""
MOST_BYTES = 1024 * 1024
"""Of one module: 200,000 codes fit; whoever sends more does not send codes."""
MOST_ON_CAN = 4095
"""Bytes of one answer on CAN (ISO 15765-2 without the escape for longer ones)."""
BITRATE = 500_000
"""Of CAN at the diagnostic connector, unless the adapter's name says otherwise (ISO 15765-4)."""
OTHER_BUSES = ("kline", "k-line", "iso9141", "kwp2000", "j1850", "lin", "flexray", "most")

for name in ("UdsClient", "doipclient", "isotp", "can"):
    logging.getLogger(name).setLevel(logging.CRITICAL)


class ScanToolError(UnavailableError):
    """The vehicle cannot be reached at all; a single silent module is no error but a finding."""

    def __init__(self, detail: str) -> None:
        super().__init__("Vehicle not read", detail)


class Line(Protocol):
    """An open adapter."""

    def module(self, address: ModuleAddress, longest_s: float | None = None) -> AbstractContextManager[Client]:
        """A UDS client of one module, for at most ``longest_s`` (MODULE_S).

        Raises:
            ScanToolError: no connection.
        """
        ...


@contextmanager
def open_line(address: str) -> Iterator[Line]:
    """Open an adapter by its name.

    Raises:
        ScanToolError: there is no such adapter, or a bus that Sondar does not read.
    """
    kind = address.partition(":")[0].lower()
    if kind in OTHER_BUSES:
        raise ScanToolError(f"{kind} is not supported: Sondar reads vehicles over DoIP and over ISO-TP on CAN")
    if kind != "can":
        yield _DoipLine(address)
        return
    with _can_bus(address) as bus:
        notifier = can.Notifier(bus, [], timeout=0.05)
        try:
            yield _CanLine(bus, notifier)
        finally:
            with contextlib.suppress(Exception):  # a bus that is gone cannot be left in order
                notifier.stop(1.0)


@contextmanager
def connected(address: str, module: ModuleAddress, longest_s: float | None = None) -> Iterator[Client]:
    """A UDS client of one module alone.

    Raises:
        ScanToolError: no connection.
    """
    with open_line(address) as line, line.module(module, longest_s) as client:
        yield client


def _config() -> dict[str, Any]:
    # The first answer comes soon; one that is announced (0x78) may come as late as all of a module's answers together.
    return {
        "exception_on_invalid_response": True,
        "request_timeout": MODULE_S,
        "p2_timeout": TIMEOUT_S,
        "p2_star_timeout": MODULE_S,
    }


class _DoipLine:
    """Every module has a connection of its own."""

    def __init__(self, address: str) -> None:
        self._address = address

    @contextmanager
    def module(self, address: ModuleAddress, longest_s: float | None = None) -> Iterator[Client]:
        host, _, port = self._address.rpartition(":")
        try:
            connection = _Connection(host, address.logical, tcp_port=int(port), client_logical_address=0x0E80)
        except (OSError, TimeoutError, ValueError, ConnectionError) as error:
            raise ScanToolError(f"no vehicle interface at {self._address}: check its cable and power ({error})") from error
        # Whatever the other end does: after this the line is closed under it.
        ending = threading.Timer(longest_s or MODULE_S, connection.cut)
        ending.daemon = True
        ending.start()
        try:
            with Client(DoIPClientUDSConnector(connection), config=_config()) as client:
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


@contextmanager
def _can_bus(address: str) -> Iterator[can.BusABC]:
    _, _, rest = address.partition(":")
    interface, _, channel = rest.partition(":")
    channel, _, bitrate = channel.partition("@")
    if interface not in can.VALID_INTERFACES or not channel:
        raise ScanToolError(f"'{address}' names no adapter for CAN: write it as can:socketcan:can0@500000")
    try:
        # A serial adapter is given two seconds to wake; one that is reached through the network is awake.
        slow: dict[str, Any] = {"sleep_after_open": 0.0} if channel.startswith("socket://") else {}
        bus = can.Bus(interface=interface, channel=channel, bitrate=int(bitrate) if bitrate else BITRATE, **slow)
    except (can.CanError, OSError, ValueError, ImportError) as error:
        raise ScanToolError(f"no adapter for CAN at {channel} ({interface}): check its cable and power ({error})") from error
    try:
        yield bus
    finally:
        with contextlib.suppress(can.CanError, OSError):
            bus.shutdown()


class _CanLine:
    """One bus for all modules; each has a transport layer of its own that listens to its identifiers."""

    def __init__(self, bus: can.BusABC, notifier: can.Notifier) -> None:
        self._bus, self._notifier = bus, notifier

    @contextmanager
    def module(self, address: ModuleAddress, longest_s: float | None = None) -> Iterator[Client]:
        stack = can_stack(self._bus, self._notifier, *address.can_ids)
        ending = threading.Timer(longest_s or MODULE_S, stack.stop)
        ending.daemon = True
        ending.start()
        try:
            with Client(PythonIsoTpConnection(stack), config=_config()) as client:
                yield client
        finally:
            ending.cancel()


def can_stack(bus: can.BusABC, notifier: can.Notifier, sent: int, heard: int) -> isotp.NotifierBasedCanStack:
    """ISO-TP between two identifiers, padded to eight bytes (ISO 15765-4)."""
    mode = isotp.AddressingMode.Normal_11bits if sent <= HIGHEST_11_BIT else isotp.AddressingMode.Normal_29bits
    params = {"tx_padding": 0xCC, "tx_data_min_length": 8, "max_frame_size": MOST_ON_CAN, "blocking_send": False}
    return isotp.NotifierBasedCanStack(bus, notifier, address=isotp.Address(mode, txid=sent, rxid=heard), params=params)
