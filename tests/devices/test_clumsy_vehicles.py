"""Modules that do not answer as they should: bounded time and memory, and a refusal is not silence."""

from __future__ import annotations

import resource
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

import pytest

from sondar.app.job_record import code_file, evidence
from sondar.core.diagnostic_address import ModuleAddress
from sondar.core.triage.model import TriageModel
from sondar.devices import lines, scan_tool
from sondar.devices.lines import ScanToolError
from sondar.devices.scan_tool import read_codes
from sondar.store.codes import Scan

Answers = Callable[[socket.socket, bytes], None]
CODE = b"\x59\x02\xff\x04\x80\x00\x2f"


def send(line: socket.socket, kind: int, payload: bytes) -> None:
    line.sendall(struct.pack(">BBHI", 0x02, 0xFD, kind, len(payload)) + payload)


def uds(line: socket.socket, answer: bytes) -> None:
    send(line, 0x8001, struct.pack(">HH", 0x10, 0x0E80) + answer)


@contextmanager
def vehicle(answers: Answers) -> Iterator[str]:
    """An entity on loopback that grants the routing; ``answers`` is given the line and every request."""
    listener = socket.create_server(("127.0.0.1", 0))

    def tester(line: socket.socket) -> None:
        with suppress(OSError), line, line.makefile("rb") as asked:
            while len(header := asked.read(8)) == 8:
                _, _, kind, length = struct.unpack(">BBHI", header)
                payload = asked.read(length)
                if kind == 0x0005:
                    send(line, 0x0006, struct.pack(">HHB4x", 0x0E80, 0x0E00, 0x10))
                elif kind == 0x8001:
                    send(line, 0x8002, struct.pack(">HHB", 0x10, 0x0E80, 0x00))
                    answers(line, payload[4:])

    def serve() -> None:
        with suppress(OSError):
            while True:
                threading.Thread(target=tester, args=(listener.accept()[0],), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield f"127.0.0.1:{listener.getsockname()[1]}"
    finally:
        listener.close()


def refuses(code: int) -> Answers:
    return lambda line, request: uds(line, bytes([0x7F, request[0], code]))


def pending_for_ever(line: socket.socket, request: bytes) -> None:
    while True:
        uds(line, bytes([0x7F, request[0], 0x78]))
        time.sleep(0.02)


def a_byte_at_a_time(line: socket.socket, _request: bytes) -> None:
    line.sendall(struct.pack(">BBHI", 0x02, 0xFD, 0x8001, 100_000) + struct.pack(">HH", 0x10, 0x0E80))
    while True:
        line.sendall(b"\x59")
        time.sleep(0.05)


def without_end(line: socket.socket, _request: bytes) -> None:
    line.sendall(struct.pack(">BBHI", 0x02, 0xFD, 0x8001, 0xFFFFFFF0))
    while True:
        line.sendall(bytes(65536))


def closes(line: socket.socket, _request: bytes) -> None:
    line.shutdown(socket.SHUT_RDWR)


@pytest.fixture(autouse=True)
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(lines, "TIMEOUT_S", 0.5)
    monkeypatch.setattr(lines, "MODULE_S", 1.0)


@pytest.mark.parametrize(
    ("answers", "found"),
    [
        (refuses(0x22), "refused: conditions are not right (key, engine, speed)"),
        (refuses(0x7F), "refused: service not in this session"),
        (refuses(0x99), "refused: negative response 99"),
        (lambda line, _request: uds(line, b"\x59\x02\xff\x04\x80"), "answered, and the answer cannot be read"),
        (lambda line, _request: uds(line, b"\x62\xf1"), "answered, and the answer cannot be read"),
        (lambda line, _request: None, False),
        (closes, False),
        (a_byte_at_a_time, False),
        (without_end, False),
    ],
)
def test_what_a_module_does_instead_of_answering(answers: Answers, found: bool | str) -> None:
    before, begun = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.monotonic()
    with vehicle(answers) as address:
        scan = read_codes(address, {"ECM": ModuleAddress(0x10)})
    assert scan.modules == {"ECM": found}
    assert scan.codes == ()
    assert time.monotonic() - begun < 10 * lines.MODULE_S
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 64 * 1024, "kilobytes"


def test_pending_without_end_ends() -> None:
    begun = time.monotonic()
    with vehicle(pending_for_ever) as address:
        scan = read_codes(address, {"ECM": ModuleAddress(0x10)})
    assert scan.modules["ECM"] is not True
    assert time.monotonic() - begun < 10 * lines.MODULE_S


def test_a_module_that_keeps_its_vin_to_itself_still_says_its_codes() -> None:
    def answers(line: socket.socket, request: bytes) -> None:
        uds(line, CODE if request[0] == 0x19 else b"\x7f\x22\x31")

    with vehicle(answers) as address:
        scan = read_codes(address, {"ECM": ModuleAddress(0x10)})
    assert scan.modules == {"ECM": True}
    assert [code.code for code in scan.codes] == ["P0480"]
    assert scan.vin is None


def test_modules_that_take_too_long_leave_the_rest_unasked(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(scan_tool, "VEHICLE_S", 0.3)
    with vehicle(lambda line, _request: None) as address:
        scan = read_codes(address, {"ECM": ModuleAddress(0x10), "BCM": ModuleAddress(0x20)})
    assert scan.modules["ECM"] is False
    assert "not asked" in str(scan.modules["BCM"])


def test_an_address_where_nothing_speaks() -> None:
    with pytest.raises(ScanToolError, match="check its cable"):
        read_codes("127.0.0.1:1", {"ECM": ModuleAddress(0x10)})


def test_refused_is_not_silent_in_the_triage(tern: TriageModel) -> None:
    def said(state: bool | str) -> tuple[frozenset[str], frozenset[str] | None]:
        from datetime import UTC, datetime
        from uuid import uuid4

        scan = Scan(uuid4(), 1, "vehicle", {"ECM": True, "TSM": state}, [], datetime.now(UTC), None, ())
        found = evidence(tern, code_file([scan], [], {}), {}, {})
        return found.silent, found.read

    assert said(False) == (frozenset({"TSM"}), frozenset({"ECM"}))
    assert said("refused: busy") == (frozenset(), frozenset({"ECM"}))
    assert said(True) == (frozenset(), frozenset({"ECM", "TSM"}))
