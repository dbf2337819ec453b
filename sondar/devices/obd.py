"""What every emission-related module offers without any description of the vehicle: OBD services 01, 02, 06 and 09 (ISO 15031-5)."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

from udsoncan.client import Client

from sondar.core.codes import code_of_number
from sondar.core.diagnostic_address import EMISSIONS, ModuleAddress
from sondar.core.errors import UnavailableError
from sondar.core.monitor_results import MonitorResult, results
from sondar.core.obd import (
    FIGURES,
    FRAME_CODE,
    READINESS,
    SUPPORTED_EVERY,
    Readiness,
    divided,
    readiness,
    supported_after,
)
from sondar.devices.lines import connected
from sondar.devices.scan_tool import SILENT, in_words

FIGURES_SERVICE, FRAME_SERVICE, RESULTS_SERVICE, VEHICLE_SERVICE = 0x01, 0x02, 0x06, 0x09
AT_ONCE = 6
"""Numbers that one request may ask for."""
HIGHEST = 0xC0
PENDING = 0x78
"""The answer takes longer and will come (ISO 14229-1)."""


class ObdError(UnavailableError):
    """No module answers, or not as ISO 15031-5 asks."""

    def __init__(self, detail: str) -> None:
        super().__init__("Vehicle not read", detail)


@dataclass(frozen=True)
class Frame:
    """Figures that a module kept from the moment in which a code was set.

    Attributes:
        figures: number -> value.
    """

    code: str
    figures: Mapping[int, float]


@dataclass(frozen=True)
class Seen:
    """What a vehicle says of itself.

    Attributes:
        figures: numbers of service 01 that it offers and that are known here. others: how many it offers beyond them.
        results: of its monitors (service 06); empty if it does not offer them.
    """

    vin: str
    readiness: Readiness
    figures: tuple[int, ...]
    others: int
    frame: Frame | None
    results: tuple[MonitorResult, ...] = ()


@contextmanager
def asking(address: str, module: ModuleAddress | None) -> Iterator[Questions]:
    """A line to the emission-related module, for as long as a few requests take.

    Raises:
        ScanToolError: no connection.
    """
    with connected(address, module or EMISSIONS) as client:
        yield Questions(client)


class Questions:
    """Requests of services 01, 02, 06 and 09 on an open line."""

    def __init__(self, client: Client) -> None:
        self._client = client

    def request(self, service: int, data: bytes) -> bytes:
        """The answer's data; empty if the module has no such figure.

        Raises:
            ObdError: silent, refused, or an answer to something else.
        """
        connection = self._client.conn
        connection.empty_rxqueue()
        try:
            connection.send(bytes([service]) + data)
            answer = connection.wait_frame(timeout=self._client.config["p2_timeout"], exception=True)
            end = time.monotonic() + self._client.config["request_timeout"]
            while answer == bytes([0x7F, service, PENDING]) and time.monotonic() < end:
                answer = connection.wait_frame(timeout=self._client.config["p2_star_timeout"], exception=True)
        except SILENT as error:
            raise ObdError("no emission-related module answers: is the key on?") from error
        if answer is not None and len(answer) >= 3 and answer[0] == 0x7F and answer[1] == service:
            if answer[2] in (0x12, 0x31):
                return b""
            raise ObdError(f"the module refuses: {in_words(answer[2])}")
        if not answer or answer[0] != service + 0x40:
            raise ObdError("the answer cannot be read: it is not one to this request")
        return bytes(answer[1:])

    def offered(self, service: int, tail: bytes = b"") -> list[int]:
        """Numbers of a service that the module offers."""
        found: list[int] = []
        base = 0
        while base <= HIGHEST:
            answer = self.request(service, bytes([base]) + tail)
            here = supported_after(base, answer[1 + len(tail) :]) if answer[:1] == bytes([base]) else []
            found += [number for number in here if number % SUPPORTED_EVERY]
            if base + SUPPORTED_EVERY not in here:
                break
            base += SUPPORTED_EVERY
        return found

    def figures(self, numbers: Sequence[int]) -> dict[int, float]:
        """Figures of service 01 now, by number.

        Raises:
            ObdError: as for ``request``, or an answer that is cut off.
        """
        found: dict[int, float] = {}
        for at in range(0, len(numbers), AT_ONCE):
            some = numbers[at : at + AT_ONCE]
            found |= _values(self.request(FIGURES_SERVICE, bytes(some)), some)
        return found


def _values(answer: bytes, asked: Sequence[int], between: int = 0) -> dict[int, float]:
    try:
        return {number: FIGURES[number].value(raw) for number, raw in divided(answer, asked, between).items()}
    except ValueError as error:
        raise ObdError(f"the answer cannot be read: {error}") from error


def look(address: str, module: ModuleAddress | None) -> Seen:
    """Readiness, the figures that are offered, the freeze frame and the VIN.

    Args:
        address: of the adapter. module: the emission-related one; None asks whoever answers.

    Raises:
        ScanToolError, ObdError: no connection, or nobody answers.
    """
    with asking(address, module) as questions:
        offered = questions.offered(FIGURES_SERVICE)
        said = questions.request(FIGURES_SERVICE, bytes([READINESS]))
        try:
            ready = readiness(said[1:])
        except ValueError as error:
            raise ObdError(f"readiness cannot be read: {error}") from error
        vin = questions.request(VEHICLE_SERVICE, b"\x02")[2:19].decode("ascii", "replace").strip("\0 ")
        figures = tuple(number for number in offered if number in FIGURES)
        return Seen(vin, ready, figures, len(offered) - len(figures) - (READINESS in offered), _frame(questions),
                    _results(questions))  # fmt: skip


def _results(questions: Questions) -> tuple[MonitorResult, ...]:
    """Results of every monitor that has any; a module that does not offer them has none."""
    found: list[MonitorResult] = []
    try:
        for monitor in questions.offered(RESULTS_SERVICE):
            found += results(questions.request(RESULTS_SERVICE, bytes([monitor])))
    except (ObdError, ValueError):  # an older protocol answers in another form: what came is kept
        return tuple(found)
    return tuple(found)


def _frame(questions: Questions) -> Frame | None:
    answer = questions.request(FRAME_SERVICE, bytes([FRAME_CODE, 0]))
    number = int.from_bytes(answer[2:4], "big")
    if number == 0:
        return None
    kept = [number for number in questions.offered(FRAME_SERVICE, b"\0") if number in FIGURES]
    figures: dict[int, float] = {}
    for one in kept:
        figures |= _values(questions.request(FRAME_SERVICE, bytes([one, 0])), [one], between=1)
    return Frame(code_of_number(number << 8).code, figures)
