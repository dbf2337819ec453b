"""The queue of one worker: bounded, shared, cancelled, in the right order."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

import pytest

from sondar.computing.schedule import Piece, Schedule, outcome_of
from sondar.core.errors import BusyError, InvalidError
from sondar.core.interruption import StoppedError, checkpoint


@dataclass
class Asker:
    """Somebody who waits for one outcome."""

    _answered: threading.Event = field(default_factory=threading.Event)
    _outcome: bytes = b""

    def done(self, outcome: bytes) -> None:
        self._outcome = outcome
        self._answered.set()

    def result(self, seconds: float = 10.0) -> Any:
        assert self._answered.wait(seconds), "no answer"
        return outcome_of(self._outcome)

    @property
    def answered(self) -> bool:
        return self._answered.is_set()


@pytest.fixture
def schedule() -> Iterator[Schedule]:
    made = Schedule(threads=2, most_waiting=5)
    yield made
    made.close()


class Gate:
    """Work that goes on, from checkpoint to checkpoint, until it is let through."""

    def __init__(self) -> None:
        self.begun, self.open, self.stopped, self.times = threading.Event(), threading.Event(), threading.Event(), 0

    def __call__(self) -> str:
        self.times += 1
        self.begun.set()
        try:
            while not self.open.wait(0.005):
                checkpoint("at the gate")
        except StoppedError:
            self.stopped.set()
            raise
        return "through"


def busy(schedule: Schedule) -> list[Gate]:
    """Both threads at work, so that everything else has to wait."""
    gates = [Gate(), Gate()]
    for index, gate in enumerate(gates):
        schedule.ask(f"gate {index}".encode(), gate, lambda _outcome: None, 60)
        assert gate.begun.wait(5)
    return gates


def until(what: Callable[[], bool]) -> None:
    deadline = time.monotonic() + 5
    while not what():
        assert time.monotonic() < deadline, "in vain"
        time.sleep(0.005)


def test_identical_work_is_done_once_and_answered_to_everyone(schedule: Schedule) -> None:
    gate, askers = Gate(), [Asker() for _ in range(4)]
    for asker in askers[:3]:
        schedule.ask(b"same", gate, asker.done, 60)
    gate.open.set()
    assert [asker.result() for asker in askers[:3]] == ["through"] * 3
    assert schedule.ask(b"same", gate, askers[3].done, 60) is None, "kept for whoever asks later"
    assert askers[3].result() == "through"
    assert gate.times == 1


def test_answers_kept_are_bounded_in_bytes() -> None:
    schedule, times = Schedule(threads=1, kept_bytes=25_000), [0]

    def work() -> bytes:
        times[0] += 1
        return bytes(10_000)

    for key in (b"a", b"b", b"c", b"a"):
        asker = Asker()
        schedule.ask(key, work, asker.done, 60)
        asker.result()
    assert times[0] == 4, "the first was let go when the third came"
    schedule.close()


def test_more_than_may_wait_is_refused_at_once(schedule: Schedule) -> None:
    gates = busy(schedule)
    for index in range(5):
        schedule.ask(f"waits {index}".encode(), lambda: None, lambda _outcome: None, 60)
    with pytest.raises(BusyError):
        schedule.ask(b"one more", lambda: None, lambda _outcome: None, 60)
    for gate in gates:
        gate.open.set()
    until(lambda: schedule.waiting() == 0)
    asker = Asker()
    schedule.ask(b"one more", lambda: "now", asker.done, 60)
    assert asker.result() == "now"


def test_what_nobody_waits_for_is_not_begun_and_ends_at_its_next_checkpoint(schedule: Schedule) -> None:
    gates, done, asker = busy(schedule), threading.Event(), Asker()
    queued = schedule.ask(b"queued", done.set, asker.done, 60)
    assert isinstance(queued, Piece)
    schedule.leave(queued, asker.done, come_back=False)
    running = Gate()
    gates[0].open.set()
    piece = schedule.ask(b"running", running, asker.done, 60)
    assert isinstance(piece, Piece)
    assert running.begun.wait(5)
    schedule.leave(piece, asker.done, come_back=False)
    assert running.stopped.wait(5)
    gates[1].open.set()
    assert not done.is_set()
    assert not asker.answered


def test_what_will_be_asked_for_again_goes_on(schedule: Schedule) -> None:
    gate, first, second = Gate(), Asker(), Asker()
    piece = schedule.ask(b"long", gate, first.done, 60)
    assert isinstance(piece, Piece)
    assert gate.begun.wait(5)
    schedule.leave(piece, first.done, come_back=True)
    time.sleep(0.05)
    assert not gate.stopped.is_set()
    gate.open.set()
    until(lambda: schedule.ask(b"long", gate, second.done, 60) is None or second.answered)
    assert second.result() == "through"
    assert gate.times == 1


def test_work_is_given_up_at_its_deadline_and_says_so(schedule: Schedule) -> None:
    gate, asker = Gate(), Asker()
    schedule.ask(b"endless", gate, asker.done, 0.05)
    with pytest.raises(BusyError, match="try again"):
        asker.result()
    assert gate.stopped.is_set()
    again = Asker()
    schedule.ask(b"endless", lambda: "quick now", again.done, 60)
    assert again.result() == "quick now", "a failure is not kept"


def test_work_ahead_waits_for_people_and_goes_on_after_them(schedule: Schedule) -> None:
    ahead, asker = Gate(), Asker()
    schedule.later("ahead", lambda: with_nothing(ahead))
    assert ahead.begun.wait(5)
    schedule.ask(b"person", lambda: "answer", asker.done, 60)
    assert asker.result() == "answer"
    until(lambda: ahead.times >= 1)
    ahead.open.set()
    replaced, newer = threading.Event(), threading.Event()
    gates = busy(schedule)
    schedule.later("next", replaced.set)
    schedule.later("next", newer.set)
    for gate in gates:
        gate.open.set()
    assert newer.wait(5)
    assert not replaced.is_set(), "a newer piece under the same name takes its place"


def with_nothing(gate: Gate) -> None:
    gate()


def test_an_error_reaches_the_asker_with_its_fields(schedule: Schedule) -> None:
    def work() -> None:
        raise InvalidError("No", "not so", facts_of="this")

    asker = Asker()
    schedule.ask(b"refused", work, asker.done, 60)
    with pytest.raises(InvalidError) as caught:
        asker.result()
    assert (caught.value.title, caught.value.detail, caught.value.facts) == ("No", "not so", {"facts_of": "this"})


def test_without_a_watcher_a_checkpoint_does_nothing() -> None:
    with suppress(StoppedError):
        checkpoint("anything")
        return
    pytest.fail("nobody asked it to stop")


def test_a_long_piece_gives_way_to_a_short_one(schedule: Schedule, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("sondar.computing.schedule.LONG_S", 0.2)
    passed, ended = [0], threading.Event()

    def long() -> None:
        while not ended.is_set():
            checkpoint()
            passed[0] += 1
            time.sleep(0.001)

    schedule.ask(b"long", long, lambda _outcome: None, 60)
    time.sleep(0.3)
    gate = Gate()
    schedule.ask(b"short", gate, lambda _outcome: None, 60)
    assert gate.begun.wait(5)
    time.sleep(0.02)
    before = passed[0]
    time.sleep(0.08)
    assert passed[0] - before <= 1, "it stands still while the short one is worked on"
    gate.open.set()
    until(lambda: passed[0] > before + 5)
    ended.set()


def test_long_pieces_on_all_threads_keep_no_short_one_waiting(schedule: Schedule, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("sondar.computing.schedule.LONG_S", 0.1)
    gates, asker = busy(schedule), Asker()
    time.sleep(0.15)
    schedule.ask(b"short", lambda: "answer", asker.done, 60)
    assert asker.result(2.0) == "answer"
    for gate in gates:
        gate.open.set()


def test_whoever_comes_while_a_piece_is_let_go_is_answered(schedule: Schedule) -> None:
    """The piece learns that nobody waits, and before its thread has put it away somebody asks for the same."""
    second, times = Asker(), [0]

    def work() -> str:
        times[0] += 1
        if times[0] == 1:
            try:
                while True:
                    checkpoint()
                    time.sleep(0.005)
            except StoppedError:
                schedule.ask(b"same", work, second.done, 60)
                raise
        return "answer"

    first = Asker()
    piece = schedule.ask(b"same", work, first.done, 60)
    assert isinstance(piece, Piece)
    until(lambda: times[0] == 1)
    schedule.leave(piece, first.done, come_back=False)
    assert second.result(5.0) == "answer"
    assert times[0] == 2


def test_a_thread_outlives_what_goes_wrong_after_a_piece(schedule: Schedule) -> None:
    def broken() -> None:
        raise RuntimeError("changed size during iteration")

    schedule.after_each = broken
    for number in range(6):
        asker = Asker()
        schedule.ask(str(number).encode(), lambda n=number: n, asker.done, 60)  # type: ignore[misc]
        assert asker.result(5.0) == number
