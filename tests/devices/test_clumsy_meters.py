"""Meters that do not answer as they should: bounded time and memory, and a sentence that says what to do."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

import pytest

from sondar.core.circuit.model import Setup
from sondar.core.instruments import instrument
from sondar.devices.meter import MeterError, Placement, as_entry, read_meter

PLACEMENT = Placement("", Setup((("key", "on"),)), "X1.1", "BAT.neg")
TIMEOUT_S = 0.6


@contextmanager
def meter(answers: Callable[[socket.socket, bytes], None]) -> Iterator[str]:
    """A meter on loopback; ``answers`` is given every line it is sent."""
    listener = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        with suppress(OSError):
            line, _ = listener.accept()
            with line, line.makefile("rb") as asked:
                for command in asked:
                    answers(line, command.strip())

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield f"TCPIP::127.0.0.1::{listener.getsockname()[1]}::SOCKET"
    finally:
        listener.close()


def says(reading: bytes) -> Callable[[socket.socket, bytes], None]:
    return lambda line, command: line.sendall(b"0\n" if command == b"*OPT?" else reading)


def drips(line: socket.socket, _command: bytes) -> None:
    for _ in range(30):
        line.sendall(b"1")
        time.sleep(0.2)


def never_ends(line: socket.socket, _command: bytes) -> None:
    for _ in range(2_000):
        line.sendall(b"1" * 10_000)


@pytest.mark.parametrize(("answers", "said"), [
    (says(b"1" * 200_000 + b"\n"), "does not end"), (never_ends, "does not end"), (drips, "does not"), (says(b""), "does not answer"),
    (says(b"\xff\xfe12.3\n"), "is no text"), (says(b"twelve and a half\n"), "not a number"), (lambda line, _: line.close(), "does not"),
], ids=["200,000 digits", "no end of line", "a byte now and then", "silence", "not text", "words", "hangs up"])  # fmt: skip
def test_what_is_no_reading_is_said_soon(answers: Callable[[socket.socket, bytes], None], said: str) -> None:
    begun = time.monotonic()
    with meter(answers) as address, pytest.raises(MeterError) as caught:
        read_meter(address, "voltmeter", PLACEMENT, TIMEOUT_S)
    assert said in caught.value.detail
    assert "try again" in caught.value.detail or "type the reading" in caught.value.detail
    assert time.monotonic() - begun < 10 * TIMEOUT_S


def test_a_good_one_is_read() -> None:
    with meter(says(b"+1.2310000E+01\r\n")) as address:
        assert read_meter(address, "voltmeter", PLACEMENT, TIMEOUT_S) == "12.31 V"


@pytest.mark.parametrize(("answer", "entry"), [
    ("9.9E+37", "OL"), ("-9.9E+37", "OL"), ("INF", "OL"), ("9.91E+37", "unstable"), ("NAN", "unstable"), ("nan", "unstable"), ("0.123", "123 mV"),
])  # fmt: skip
def test_infinity_and_not_a_number_in_every_spelling(answer: str, entry: str) -> None:
    assert as_entry(instrument("voltmeter"), answer) == entry
