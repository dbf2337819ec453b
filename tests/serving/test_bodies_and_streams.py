"""Bodies in bounded time and memory; streams that end when their permission does. No sockets, and clocks that are short."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from uuid import uuid4

import pytest

from sondar.serving import streams as streams_module
from sondar.serving.asgi import Message
from sondar.serving.bodies import BodyError, ClientGoneError, read_body
from sondar.serving.streams import END, QUEUE, Event, Streams

SCOPE = {"headers": []}


def says(*pieces: bytes | float | None) -> Callable[[], object]:
    """A client that sends pieces; a number is a pause, None hangs up."""
    left = list(pieces)

    async def receive() -> Message:
        while left:
            piece = left.pop(0)
            if piece is None:
                return {"type": "http.disconnect"}
            if isinstance(piece, float):
                await asyncio.sleep(piece)
                continue
            return {"type": "http.request", "body": piece, "more_body": bool(left)}
        await asyncio.sleep(60)
        raise AssertionError

    return receive


def test_a_body_comes_again_as_it_was_sent() -> None:
    async def run() -> bytes:
        body = await read_body(SCOPE, says(b"a" * 70_000, b"b" * 300_000, b"c"), 1_000_000)  # type: ignore[arg-type]
        found, more = b"", True
        while more:
            message = await body.receive()
            found, more = found + message["body"], message["more_body"]
        body.close()
        return found

    assert asyncio.run(run()) == b"a" * 70_000 + b"b" * 300_000 + b"c"


@pytest.mark.parametrize(("pieces", "status"), [
    ((b"a", 5.0, b"b"), 408), ((b"a", 0.06, b"b", 0.06, b"c", 0.06, b"d", 0.06, b"e"), 408), ((b"a" * 600, b"b" * 600), 413),
], ids=["a pause", "drop by drop", "more than announced"])  # fmt: skip
def test_what_does_not_come_or_does_not_end_is_refused(pieces: tuple[bytes | float, ...], status: int) -> None:
    with pytest.raises(BodyError) as caught:
        asyncio.run(read_body(SCOPE, says(*pieces), 1000, pause_s=0.1, longest_s=0.2))  # type: ignore[arg-type]
    assert caught.value.status == status


def test_who_hangs_up_is_not_answered() -> None:
    with pytest.raises(ClientGoneError):
        asyncio.run(read_body(SCOPE, says(b"a", b"b", None), 1000))  # type: ignore[arg-type]


class Page:
    """What a page has heard."""

    def __init__(self) -> None:
        self.heard: list[bytes] = []

    async def send(self, message: Message) -> None:
        self.heard.append(message.get("body", b""))


async def _silent() -> Message:
    await asyncio.Event().wait()
    raise AssertionError


def test_a_stream_ends_when_it_may_no_longer_listen(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(streams_module, "KEEP_ALIVE_S", 0.02)
    monkeypatch.setattr(streams_module, "ASKED_AGAIN_S", 0.05)
    allowed = [True, False]

    async def still_allowed() -> bool:
        return allowed.pop(0)

    async def run() -> tuple[Page, Streams]:
        page, streams = Page(), Streams("")
        await asyncio.wait_for(streams.serve(uuid4(), "mate", still_allowed, _silent, page.send), 5)
        return page, streams

    page, streams = asyncio.run(run())
    assert allowed == [], "asked again until the answer was no"
    assert b": still here" in b"".join(page.heard)
    assert streams.refusal("mate") == ""
    assert not streams._queues, "nothing is left of it"


def test_a_page_that_takes_nothing_is_told_to_ask_for_everything() -> None:
    async def run() -> list[Event]:
        streams, job = Streams(""), uuid4()
        held: asyncio.Queue[Event] = asyncio.Queue(QUEUE)
        streams._queues[job] = {held}
        for seq in range(3 * QUEUE):
            streams._tell(job, Event(seq, "reading"))
        assert held.qsize() == QUEUE, "bounded"
        streams.end()
        return [held.get_nowait() for _ in range(QUEUE)]

    events = asyncio.run(run())
    assert events[-1] is END
    assert events[-2].kind == "resync"
