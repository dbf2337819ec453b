"""The simulated vehicle speaks UDS over DoIP, and the scan tool's own libraries understand it."""

from __future__ import annotations

import socket
import struct
import threading
from collections.abc import Iterator

import pytest

from sondar.circuit_files import library_network
from sondar.core.codes import is_stored
from sondar.core.diagnostic_address import ModuleAddress
from sondar.devices.lines import ScanToolError
from sondar.devices.scan_tool import clear_codes, read_codes
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle, HiddenFault
from sondar.simulators.doip_vehicle import DoipServer

VIN = "WHDTRN17X00001203"


class Clock:
    def __init__(self) -> None:
        self.now = 0.0

    def __call__(self) -> float:
        return self.now


@pytest.fixture
def clock() -> Clock:
    return Clock()


@pytest.fixture
def server(clock: Clock) -> Iterator[DoipServer]:
    faults = [
        HiddenFault("W66.open", "open"),
        HiddenFault("B42.bias", "+18% of the reference", "conditional"),
        HiddenFault("B6.open", "open", "gone"),
    ]
    made = DoipServer(lambda: DiagnosticVehicle(library_network("halden-tern"), faults, VIN, clock=clock))
    assert made.live is not None  # worked out before anybody asks, so that nothing is pending
    threading.Thread(target=made.serve_forever, daemon=True).start()
    yield made
    made.shutdown()
    made.server_close()


def stored(server: DoipServer) -> dict[str, int]:
    scan = read_codes(server.address, server.vehicle.network.document.module_addresses)
    return {c.code: c.status or 0 for c in scan.codes if is_stored(c.status)}


def test_every_module_is_asked_and_the_silent_one_is_a_finding(server: DoipServer) -> None:
    scan = read_codes(server.address, server.vehicle.network.document.module_addresses)
    assert scan.modules == {"ECM": True, "BCM": True, "TSM": False}
    assert scan.vin == VIN
    found = {(c.module, c.code) for c in scan.codes if is_stored(c.status)}
    assert found == {("BCM", "B1D10"), ("BCM", "B1D11"), ("BCM", "U0157"), ("ECM", "P0236"), ("ECM", "P0118")}


def test_after_clearing_each_code_comes_back_by_its_nature(server: DoipServer, clock: Clock) -> None:
    before = stored(server)
    assert before["B1D10"] & 0x01, "failing now"
    assert not before["P0118"] & 0x01, "left over from an earlier time"
    clock.now = 100.0
    assert clear_codes(server.address, server.vehicle.network.document.module_addresses) == ["ECM", "BCM"]
    assert stored(server) == {}
    clock.now = 103.0
    assert set(stored(server)) == {"B1D10", "B1D11", "U0157"}, "hard: back at once"
    untested = [c for c in read_codes(server.address, {"ECM": ModuleAddress(0x1010)}).codes if not is_stored(c.status)]
    assert {"P0236", "P0116"} <= {c.code for c in untested}, "its monitor takes longer"
    clock.now = 200.0
    assert set(stored(server)) == {"B1D10", "B1D11", "U0157", "P0236"}, "conditional: back once its condition has come"


def test_no_interface_is_a_clear_error() -> None:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        address = f"127.0.0.1:{probe.getsockname()[1]}"
    with pytest.raises(ScanToolError, match="check its cable"):
        read_codes(address, {"ECM": ModuleAddress(0x1010)})
    with pytest.raises(ScanToolError, match="no module"):
        read_codes(address, {})


def exchange(server: DoipServer, *requests: bytes) -> list[tuple[int, bytes]]:
    """Raw DoIP frames: (payload type, payload) of every answer."""
    host, port = server.address.split(":")
    answers = []
    with socket.create_connection((host, int(port)), timeout=5) as link:
        for request in requests:
            link.sendall(request)
        link.shutdown(socket.SHUT_WR)
        stream = link.makefile("rb")
        while header := stream.read(8):
            _, _, kind, length = struct.unpack(">BBHI", header)
            answers.append((kind, stream.read(length)))
    return answers


def frame(kind: int, payload: bytes) -> bytes:
    return struct.pack(">BBHI", 0x02, 0xFD, kind, len(payload)) + payload


def test_unknown_requests_are_refused_as_the_standard_says(server: DoipServer) -> None:
    to_ecm = struct.pack(">HH", 0x0E80, 0x1010)
    answers = exchange(
        server, frame(0x0005, struct.pack(">HB4x", 0x0E80, 0)), frame(0x8001, to_ecm + b"\x27\x01"), frame(0x8001, to_ecm + b"\x19\x99"),
        frame(0x8001, struct.pack(">HH", 0x0E80, 0x7777) + b"\x3e\x00"), frame(0x4242, b""),
    )  # fmt: skip
    kinds = [kind for kind, _ in answers]
    assert kinds == [0x0006, 0x8002, 0x8001, 0x8002, 0x8001, 0x8003, 0x0000]
    assert answers[2][1][4:] == b"\x7f\x27\x11", "service not supported"
    assert answers[4][1][4:] == b"\x7f\x19\x12", "sub-function not supported"
    assert answers[5][1][4:] == b"\x03", "unknown target address"


def test_a_foreign_protocol_is_sent_away(server: DoipServer) -> None:
    assert exchange(server, b"GET / HTTP/1.1\r\n\r\n") == [(0x0000, b"\x00")]
