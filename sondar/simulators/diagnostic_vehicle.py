"""A simulated vehicle that a scan tool can talk to: UDS (ISO 14229-1) over DoIP (ISO 13400-2), on loopback.

It behaves by the same physics as the measurements (``core.circuit.monitors``) and knows nothing of judging. Each hidden fault is
there all the time, or comes back only some time after clearing, or never; old codes can be left over from an earlier time.
Like a real one it stores what its monitors find, clears on request and tests again as time passes.
"""

from __future__ import annotations

import socketserver
import struct
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from sondar.core.circuit.model import Change
from sondar.core.circuit.vehicle import VehicleNetwork
from sondar.core.codes import is_stored, number_of_code
from sondar.core.solving.monitors import observe
from sondar.simulators.emissions import EmissionModule
from sondar.simulators.live import LiveModules

FAILING, PASSED_BEFORE, NOT_TESTED = 0x2F, 0x28, 0x50
FUNCTIONAL = 0xE000
"""Address of all emission-related modules together (ISO 13400-2)."""
CONDITIONAL_AFTER_S = 40.0
"""Simulated seconds after clearing until a conditional fault's condition comes about."""


@dataclass(frozen=True)
class HiddenFault:
    """What is wrong. ``behaviour``: ``hard``, ``conditional`` (away until its condition comes) or ``gone`` (only its codes are left)."""

    fault: str
    severity: str
    behaviour: str = "hard"


@dataclass
class DiagnosticVehicle:
    """State of one simulated vehicle's modules.

    Attributes:
        clock: seconds, monotonic; replaced in tests.
        speed: simulated seconds per second of the clock.
    """

    network: VehicleNetwork
    faults: Sequence[HiddenFault]
    vin: str
    clock: Callable[[], float] = time.monotonic
    speed: float = 1.0
    cleared_at: float | None = None
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        self._remembered: set[str] = set()
        self._work_out()

    def _work_out(self) -> None:
        """What its monitors find of the faults that are hidden in it now."""
        circuit = self.network.network
        always = [f for f in self.faults if f.behaviour == "hard"]
        with_condition = [f for f in self.faults if f.behaviour != "gone"]
        hypotheses = [self._changes(always), self._changes(with_condition), self._changes(self.faults)]
        names = ["+".join(f.fault for f in group) for group in (always, with_condition, self.faults)]
        seen = observe(circuit, hypotheses, names)
        self._hard, self._conditional, self._ever = (
            {code for code, p in zip(seen.codes, seen.code[row], strict=True) if p > 0.5} for row in range(3)
        )
        self._silent = {module for module, p in zip(seen.modules, seen.silent[0], strict=True) if p > 0.5}
        document = circuit.document
        for codes in (self._hard, self._conditional, self._ever):
            # What follows from another code follows if that is likelier than not.
            codes |= {
                c for c, code in document.codes.items() if max((p for k, p in code.follows.items() if k in codes), default=0) >= 0.5
            }

    def repair(self, units: Sequence[str]) -> list[str]:
        """Somebody has repaired or replaced these units: their faults are gone, their codes stay stored until they are cleared.

        Returns:
            ids of the faults that were in them.
        """
        faults = self.network.network.faults
        gone = [hidden for hidden in self.faults if faults[hidden.fault].unit in units]
        if gone:
            with self._lock:
                self._remembered |= {code for code in self._ever if self._status(code, 0.0) & 0x2F}
                self.faults = [hidden for hidden in self.faults if hidden not in gone]
                self._work_out()
                self.__dict__.pop("live", None)
        return [hidden.fault for hidden in gone]

    @cached_property
    def live(self) -> LiveModules:
        """What its modules tell and do; worked out when somebody asks for the first time."""
        document, always = self.network.document, [f for f in self.faults if f.behaviour == "hard"]
        faulty = {self.network.network.faults[f.fault].unit for f in self.faults}
        return LiveModules(
            self.network.network,
            document.data,
            document.commands,
            self._changes(always),
            self.clock,
            document.routines,
            faulty,
            self.speed,
        )

    @cached_property
    def emissions(self) -> EmissionModule | None:
        """What its module for emissions says in OBD services 01, 02 and 09; None if it has none."""
        obd = self.network.document.obd
        return None if obd is None else EmissionModule(obd, self.network.document.data, self.vin)

    def _changes(self, faults: Sequence[HiddenFault]) -> tuple[Change, ...]:
        made: list[Change] = []
        for hidden in faults:
            severities = self.network.network.faults[hidden.fault].severities
            made += next((s.changes for s in severities if s.label == hidden.severity), severities[0].changes)
        return tuple(made)

    def answers(self, module: str) -> bool:
        """False for a module without supply or off the bus."""
        return module not in self._silent

    def clear(self) -> None:
        """Forget all codes; the monitors begin anew."""
        with self._lock:
            self.cleared_at = self.clock()
            self._remembered.clear()
            if self.emissions is not None:
                self.emissions.forget()

    def since_clearing(self) -> float | None:
        """Simulated seconds since the codes were cleared; None if they never were."""
        return None if self.cleared_at is None else (self.clock() - self.cleared_at) * self.speed

    def stored(self, module: str) -> list[int]:
        """Codes of a module that speak of a failure, by number."""
        return [number for number, status in self.codes(module) if is_stored(status)]

    def codes(self, module: str) -> list[tuple[int, int]]:
        """(three-byte code, status byte) of every code of a module that has any status bit set."""
        found = []
        for name, code in self.network.network.document.codes.items():
            status = self._status(name, code.seconds) if code.module == module else 0
            if status:
                found.append((number_of_code(name[:5], name[6:] or None), status))
        return found

    def _status(self, code: str, seconds: float) -> int:
        if self.cleared_at is None:
            if code in self._conditional:
                return FAILING if code in self._hard else PASSED_BEFORE | 0x02
            return PASSED_BEFORE if code in self._ever or code in self._remembered else 0
        if code in self._remembered:
            return PASSED_BEFORE
        since = (self.clock() - self.cleared_at) * self.speed
        if since < seconds:
            return NOT_TESTED
        if code in self._hard or (code in self._conditional and since >= CONDITIONAL_AFTER_S + seconds):
            return FAILING
        return 0


class DoipServer(socketserver.ThreadingTCPServer):
    """One vehicle's DoIP entity: every module of the network behind its logical address."""

    allow_reuse_address = True
    daemon_threads = True

    def __init__(self, vehicle: Callable[[], DiagnosticVehicle], port: int = 0) -> None:
        """``vehicle`` makes the vehicle when a tester connects for the first time."""
        self.gone = threading.Event()
        self._make, self._making, self._living = vehicle, threading.Lock(), threading.Lock()
        super().__init__(("127.0.0.1", port), _Connection)

    def go_away(self) -> None:
        """Drop every line and take no more: its plug has been pulled."""
        self.gone.set()

    @property
    def vehicle(self) -> DiagnosticVehicle:
        """The vehicle behind it."""
        with self._making:
            return self._made

    @cached_property
    def _made(self) -> DiagnosticVehicle:
        return self._make()

    @cached_property
    def modules(self) -> dict[int, str]:
        """Logical address -> module."""
        return {address: name for name, address in self.vehicle.network.document.addresses.items()}

    @property
    def live(self) -> LiveModules | None:
        """Its live data and commands; None if the vehicle's file names none."""
        document = self.vehicle.network.document
        with self._living:
            return self.vehicle.live if document.data or document.commands or document.routines else None

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
            if len(header) < 8 or self.server.gone.is_set():
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
        acknowledged = self._wait_for_vehicle(source, target, payload[4:5])
        module = self._addressed(target)
        if module is None or not self.server.vehicle.answers(module):
            if acknowledged:
                return
            # 0x03 unknown target address, 0x06 target unreachable
            self._send(0x8003, struct.pack(">HHB", target, source, 0x03 if module is None else 0x06))
            return
        if not acknowledged:
            self._send(0x8002, struct.pack(">HHB", target, source, 0x00))
        self._send(0x8001, struct.pack(">HH", target, source) + self._answer(module, payload[4:]))

    def _addressed(self, target: int) -> str | None:
        emissions = self.server.vehicle.emissions
        return emissions.module if target == FUNCTIONAL and emissions is not None else self.server.modules.get(target)

    def _wait_for_vehicle(self, source: int, target: int, service: bytes) -> bool:
        """Say that the answer is pending (ISO 14229-1, code 0x78) until the vehicle has been worked out; True if that was said."""
        if "_made" in self.server.__dict__:
            return False
        making = threading.Thread(target=lambda: self.server.vehicle, daemon=True)
        making.start()
        self._send(0x8002, struct.pack(">HHB", target, source, 0x00))
        while making.is_alive():
            self._send(0x8001, struct.pack(">HH", target, source) + b"\x7f" + service + b"\x78")
            making.join(0.5)
        return True

    def _answer(self, module: str, request: bytes) -> bytes:
        service = request[0] if request else 0
        vehicle = self.server.vehicle
        live = self.server.live
        if live is not None:
            live.heard(module)
        if service == 0x10 and len(request) == 2:
            return live.session(module, request[1]) if live is not None else bytes([0x50, request[1], 0x00, 0x32, 0x01, 0xF4])
        if service == 0x3E and len(request) == 2:
            return bytes([0x7E, request[1]])
        if service == 0x22 and request[1:] == b"\xf1\x90":
            return b"\x62\xf1\x90" + vehicle.vin.encode("ascii")
        if service == 0x22 and live is not None:
            return live.read(module, request)
        if service == 0x2F and live is not None:
            return live.control(module, request)
        if service == 0x31 and live is not None:
            return live.routine(module, request)
        if service in (0x01, 0x02, 0x09) and vehicle.emissions is not None and module == vehicle.emissions.module:
            figures = live.figures_by_number() if live is not None else {}
            return vehicle.emissions.answer(request, vehicle.stored(module), vehicle.since_clearing(), figures)
        if service == 0x14 and len(request) == 4:
            vehicle.clear()
            return b"\x54"
        if service == 0x19 and len(request) == 3 and request[1] == 0x02:
            listed = [(number, status) for number, status in vehicle.codes(module) if status & request[2]]
            return b"\x59\x02\xff" + b"".join(number.to_bytes(3, "big") + bytes([status]) for number, status in listed)
        known = service in (0x10, 0x14, 0x19, 0x22, 0x2F, 0x31, 0x3E)
        return bytes([0x7F, service, 0x12 if known else 0x11])

    def _send(self, kind: int, payload: bytes) -> None:
        self.wfile.write(struct.pack(">BBHI", 0x02, 0xFD, kind, len(payload)) + payload)
