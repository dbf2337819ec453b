"""The modules of a simulated vehicle as a tester reaches them on any bus: UDS (ISO 14229-1) and OBD (ISO 15031-5), request and answers.

An answer that is not there soon is announced (response pending, code 0x78), as real modules do; so a machine that is slow is no silent module.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

from sondar.core.diagnostic_address import EMISSIONS
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle
from sondar.simulators.live import LiveModules

SOON_S = 0.3
"""An answer that takes longer is announced, and again each time as long has passed."""
PENDING = 0x78


@dataclass(frozen=True)
class Reply:
    """What comes back from an address.

    Attributes:
        known: a module has this address.
        payload: None if nobody answers there.
    """

    known: bool
    payload: bytes | None


class Modules:
    """All modules of one vehicle.

    Attributes:
        gone: set when its plug has been pulled: nobody answers any more.
    """

    def __init__(self, make: Callable[[], DiagnosticVehicle]) -> None:
        """``make`` makes the vehicle when a tester asks for the first time."""
        self.gone = threading.Event()
        self._make, self._making, self._living = make, threading.Lock(), threading.Lock()
        self._threads = ThreadPoolExecutor(8, "module")

    @property
    def vehicle(self) -> DiagnosticVehicle:
        """The vehicle they are in."""
        with self._making:
            return self._made

    @cached_property
    def _made(self) -> DiagnosticVehicle:
        return self._make()

    @cached_property
    def _by_address(self) -> dict[int, str]:
        return {address: name for name, address in self.vehicle.network.document.addresses.items()}

    @property
    def live(self) -> LiveModules | None:
        """Its live data and commands; None if the vehicle's file names none."""
        document = self.vehicle.network.document
        with self._living:
            return self.vehicle.live if document.data or document.commands or document.routines else None

    def replies(self, logical: int, request: bytes) -> Iterator[Reply]:
        """The answer to a request, after as many announcements as it takes.

        Args:
            logical: address of the module.
        """
        going: Future[Reply] = self._threads.submit(self._reply, logical, request)
        while True:
            try:
                yield going.result(SOON_S)
                return
            except TimeoutError:
                yield Reply(True, b"\x7f" + request[:1] + bytes([PENDING]))

    def _reply(self, logical: int, request: bytes) -> Reply:
        emissions = self.vehicle.emissions
        module = emissions.module if logical == EMISSIONS.logical and emissions is not None else self._by_address.get(logical)
        if module is None or not self.vehicle.answers(module):
            return Reply(module is not None, None)
        return Reply(True, self._answer(module, request))

    def _answer(self, module: str, request: bytes) -> bytes:
        service = request[0] if request else 0
        vehicle, live = self.vehicle, self.live
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
        if service in (0x01, 0x02, 0x06, 0x09) and vehicle.emissions is not None and module == vehicle.emissions.module:
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
