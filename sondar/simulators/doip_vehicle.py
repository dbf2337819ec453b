"""A simulated vehicle behind DoIP (ISO 13400-2), on loopback."""

from __future__ import annotations

import socketserver
import struct
from collections.abc import Callable

from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle
from sondar.simulators.live import LiveModules
from sondar.simulators.modules import Modules

UNKNOWN_TARGET, UNREACHABLE = 0x03, 0x06


class DoipServer(socketserver.ThreadingTCPServer):
    """One vehicle's DoIP entity: every module of the network behind its logical address."""

    allow_reuse_address = True
    daemon_threads = True

    def __init__(self, vehicle: Callable[[], DiagnosticVehicle], port: int = 0) -> None:
        """``vehicle`` makes the vehicle when a tester connects for the first time."""
        self.modules = Modules(vehicle)
        super().__init__(("127.0.0.1", port), _Connection)

    def go_away(self) -> None:
        """Drop every line and take no more: its plug has been pulled."""
        self.modules.gone.set()

    @property
    def vehicle(self) -> DiagnosticVehicle:
        """The vehicle behind it."""
        return self.modules.vehicle

    @property
    def live(self) -> LiveModules | None:
        """Its live data and commands; None if the vehicle's file names none."""
        return self.modules.live

    @property
    def address(self) -> str:
        """``host:port`` for the scan tool."""
        host, port = self.server_address[:2]
        return f"{host!s}:{port}"


class _Connection(socketserver.StreamRequestHandler):
    """One tester. Payload types and codes as in ISO 13400-2 tables 17 and following."""

    server: DoipServer
    disable_nagle_algorithm = True  # an answer is not held back until its acknowledgement has been acknowledged

    def handle(self) -> None:
        while True:
            header = self.rfile.read(8)
            if len(header) < 8 or self.server.modules.gone.is_set():
                return
            version, inverse, kind, length = struct.unpack(">BBHI", header)
            if version ^ inverse != 0xFF or length > 4096:
                self._send(0x0000, b"\x00")
                return
            payload = self.rfile.read(length)
            if kind == 0x0005:  # routing activation: granted
                (tester,) = struct.unpack(">H", payload[:2])
                self._send(0x0006, struct.pack(">HHB4x", tester, 0x0E00, 0x10))
            elif kind == 0x0007:
                self._send(0x0008, struct.pack(">H", 0x0E00))
            elif kind == 0x8001:
                self._diagnostic(payload)
            else:
                self._send(0x0000, b"\x01")

    def _diagnostic(self, payload: bytes) -> None:
        source, target = struct.unpack(">HH", payload[:4])
        acknowledged = False
        for reply in self.server.modules.replies(target, payload[4:]):
            if reply.payload is None:
                if not acknowledged:
                    why = UNREACHABLE if reply.known else UNKNOWN_TARGET
                    self._send(0x8003, struct.pack(">HHB", target, source, why))
                return
            if not acknowledged:
                acknowledged = True
                self._send(0x8002, struct.pack(">HHB", target, source, 0x00))
            self._send(0x8001, struct.pack(">HH", target, source) + reply.payload)

    def _send(self, kind: int, payload: bytes) -> None:
        self.wfile.write(struct.pack(">BBHI", 0x02, 0xFD, kind, len(payload)) + payload)
