"""Live data, commands and routines of a vehicle: UDS services 0x10, 0x22, 0x2F and 0x31, and OBD service 01, on any line.

A module takes back control by itself when nobody asks it anything for a few seconds (S3 of ISO 14229-2); as long as a link is open it is asked all
the time. Whoever opens a link gives control back before closing it; if that cannot be confirmed, ``LostError`` says so.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field

from udsoncan import Request, Response, services
from udsoncan.client import Client
from udsoncan.exceptions import NegativeResponseException

from sondar.core.circuit.vehicle import CommandItem, DataItem, RoutineItem
from sondar.core.diagnostic_address import EMISSIONS, ModuleAddress
from sondar.core.errors import UnavailableError
from sondar.devices.lines import open_line
from sondar.devices.obd import ObdError, Questions
from sondar.devices.scan_tool import SILENT, UNCLEAR, in_words

LONGEST_S = 620.0
"""A link ends after this, whatever happens."""
EXTENDED = 0x03
RETURN_CONTROL, ADJUST = b"\x00", b"\x03"
START, STOP, RESULTS = 0x01, 0x02, 0x03


class RefusedByModuleError(UnavailableError):
    """A module is there and refuses; the message says why in words."""

    def __init__(self, module: str, what: str, code: int) -> None:
        self.code = code
        super().__init__("Refused by the module", f"{module} refuses {what}: {in_words(code)}")

    @property
    def conditions_not_correct(self) -> bool:
        """Negative response 0x22 of ISO 14229-1: the module could do it, and not now."""
        return self.code == int(Response.Code.ConditionsNotCorrect)


class LostError(UnavailableError):
    """The vehicle does not answer any more."""

    def __init__(self, detail: str) -> None:
        super().__init__("Vehicle lost", detail)


@dataclass
class Link:
    """Open lines to the modules that are recorded and commanded."""

    clients: Mapping[str, Client]
    data: Mapping[str, DataItem]
    emissions: str = ""
    _did_by_module: dict[str, list[str]] = field(default_factory=dict)
    _numbers: list[int] = field(default_factory=list)

    def watch(self, names: Sequence[str]) -> None:
        """Say which data are read by ``read``: ids of the vehicle's data, and numbers of OBD service 01 as ``obd:0C``."""
        self._did_by_module, self._numbers = {}, []
        for name in names:
            number = obd_number(name)
            if number is not None:
                self._numbers.append(number)
            else:
                self._did_by_module.setdefault(self.data[name].module, []).append(name)

    def read(self) -> dict[str, float]:
        """One figure of everything that is watched, all of a module in one request.

        Raises:
            LostError, RefusedByModuleError.
        """
        found: dict[str, float] = {}
        for module, names in self._did_by_module.items():
            asked = b"".join(self.data[name].did.to_bytes(2, "big") for name in names)
            answer = self._ask(module, services.ReadDataByIdentifier, asked, "live data")
            at = 0
            for name in names:
                item = self.data[name]
                raw = answer[at + 2 : at + 2 + item.length]
                if answer[at : at + 2] != item.did.to_bytes(2, "big") or len(raw) != item.length:
                    raise LostError(f"{module} answers something else than was asked: check its data identifiers")
                found[name] = round(int.from_bytes(raw, "big", signed=item.signed) * item.factor + item.offset, 9)
                at += 2 + item.length
        if self._numbers:
            try:
                values = Questions(self.clients[self.emissions]).figures(self._numbers)
            except ObdError as error:
                raise LostError(f"The emission-related module does not answer any more: {error.detail}") from error
            if missing := [number for number in self._numbers if number not in values]:
                raise RefusedByModuleError(self.emissions or "The module", f"number {missing[0]:02X} of service 01", 0x31)
            found |= {f"{OBD}{number:02X}": value for number, value in values.items()}
        return found

    def keep_open(self) -> None:
        """Tell every module that somebody is still there (0x3E)."""
        for module in filter(None, self.clients):
            self._send(module, Request(services.TesterPresent, subfunction=0), "to stay in its session")

    def begin(self, module: str) -> None:
        """Enter the extended session, in which a module may be commanded."""
        self._send(module, Request(services.DiagnosticSessionControl, subfunction=EXTENDED), "the session for commands")

    def command(self, item: CommandItem, position: str) -> None:
        """Put something into a position."""
        value = bytes([item.positions[position]])
        self._ask(item.module, services.InputOutputControlByIdentifier, item.did.to_bytes(2, "big") + ADJUST + value, item.title)

    def give_back(self, item: CommandItem) -> None:
        """Return control to the module."""
        asked = item.did.to_bytes(2, "big") + RETURN_CONTROL
        self._ask(item.module, services.InputOutputControlByIdentifier, asked, f"to take back {item.title}")

    def start_routine(self, item: RoutineItem) -> None:
        """Have a module begin something that it carries out by itself."""
        self._routine(item, START, item.title)

    def stop_routine(self, item: RoutineItem) -> None:
        """Have a module leave it."""
        self._routine(item, STOP, f"to stop: {item.title}")

    def routine_result(self, item: RoutineItem) -> str | None:
        """How it went, in words; None while it goes on."""
        answer = self._routine(item, RESULTS, f"the result of {item.title}")
        if len(answer) < 4 or answer[1:3] != item.rid.to_bytes(2, "big"):
            raise LostError(f"{item.module} answers something else than was asked: check the routine's identifier")
        if answer[3] == item.running:
            return None
        return next((words for words, byte in item.results.items() if byte == answer[3]), f"unknown result {answer[3]:02X}")

    def _routine(self, item: RoutineItem, how: int, what: str) -> bytes:
        return self._send(item.module, Request(services.RoutineControl, subfunction=how, data=item.rid.to_bytes(2, "big")), what)

    def _ask(self, module: str, service: type, data: bytes, what: str) -> bytes:
        return self._send(module, Request(service, data=data), what)

    def _send(self, module: str, request: Request, what: str) -> bytes:
        try:
            answer = self.clients[module].send_request(request)
        except NegativeResponseException as error:
            raise RefusedByModuleError(module, what, error.response.code) from error
        except (*SILENT, *UNCLEAR) as error:
            raise LostError(f"{module} does not answer any more") from error
        return bytes(answer.data) if answer is not None and answer.data is not None else b""


OBD = "obd:"
"""Before the number of a figure of service 01."""


def obd_number(name: str) -> int | None:
    """The number of a channel such as ``obd:0C``; None for any other."""
    return int(name.removeprefix(OBD), 16) if name.startswith(OBD) else None


@contextmanager
def link(
    address: str, modules: Mapping[str, ModuleAddress], data: Mapping[str, DataItem], emissions: str | None = None
) -> Iterator[Link]:
    """Lines to modules, by name and address.

    Args:
        emissions: the module that answers OBD services, one of ``modules``, or "" to ask all that do; None if none is asked.

    Raises:
        ScanToolError: no connection at all.
    """
    with ExitStack() as lines:
        wanted = {**modules, **({"": EMISSIONS} if emissions == "" else {})}
        line = lines.enter_context(open_line(address))
        yield Link(
            {name: lines.enter_context(line.module(where, LONGEST_S)) for name, where in wanted.items()},
            data,
            emissions or "",
        )
