"""Files that nobody writes by hand are refused at once, with the place, and without being built."""

from __future__ import annotations

import time
import tracemalloc
from collections.abc import Callable

import pytest

from sondar.circuit_files import CircuitFileError, library_circuits, load_circuit_text

HEAD = "sondar: 1\nid: t\ntitle: t\nvehicle: {make: Brigg}\n"
BATTERY = "parts:\n  BAT: {family: battery}\n"


def aliases_of_aliases() -> str:
    """308 bytes that stand for 10⁹ nodes."""
    pairs = zip("abcdefgh", "bcdefghi", strict=True)
    return "a: &a [1,1,1,1,1,1,1,1,1,1]\n" + "".join(f"{new}: &{new} [{','.join(['*' + old] * 9)}]\n" for old, new in pairs)


HOSTILE: dict[str, tuple[Callable[[], str], str, int | None]] = {
    "aliases of aliases": (aliases_of_aliases, "aliases counted", 5),
    "an alias inside of itself": (lambda: "a: &x [*x]", "stands for nothing complete", 1),
    "10,000 opening brackets": (lambda: "[" * 10_000, "brackets are open", 1),
    "10,000 opening braces in a field": (lambda: HEAD + "parts: " + "{a: " * 10_000, "brackets are open", 5),
    "5,000 dashes": (lambda: "- " * 5_000, "nested more than", 1),
    "900 indented keys": (lambda: "\n".join(" " * i + "a:" for i in range(900)), "nested more than", 24),
    "36,000 keys": (lambda: "parts:\n" + "".join(f"  k{i}: 1\n" for i in range(36_000)), "more than 12000 fields", None),
    "a text of 400,000 characters": (lambda: HEAD.replace("title: t", "title: " + "x" * 400_000), "400000 characters", 3),
    "more than half a megabyte": (lambda: "#" * 600_000, "larger than 512 KiB", None),
    "2,000 parts": (lambda: HEAD + BATTERY + "".join(f"  F{i}: {{family: fuse}}\n" for i in range(2_000)), "at most 200", 5),
    "a name of 3,000 characters": (lambda: HEAD.replace("id: t", "id: " + "x" * 3_000) + BATTERY, "3000 characters", 2),
    "a part's name of 3,000 characters": (lambda: HEAD + BATTERY + f"  {'x' * 900}: {{family: fuse}}\n", "a name of 900 characters", 7),
    "a plug of 900 cavities": (
        lambda: HEAD + BATTERY + "connectors:\n  X1:\n    cavities: {" + ", ".join(f"{i}: null" for i in range(900)) + "}\n",
        "900 entries; at most 200", 9,
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", list(HOSTILE))
def test_it_is_refused_with_its_place(name: str) -> None:
    make, message, line = HOSTILE[name]
    text = make()
    tracemalloc.start()
    try:
        with pytest.raises(CircuitFileError) as caught:
            load_circuit_text(text)
        _, peak = tracemalloc.get_traced_memory()
    finally:
        tracemalloc.stop()
    problem = caught.value.problems[0]
    assert message in problem.message
    if line is not None:
        assert problem.line == line
    assert peak < 40_000_000, "bounded, whatever it stands for"


def test_refusing_takes_no_longer_than_reading_a_good_one() -> None:
    """The largest circuit of the library is the measure; a hundred times would still be most of a minute."""
    good = max(library_circuits().values(), key=len)
    spent = time.process_time()
    load_circuit_text(good)
    one = time.process_time() - spent
    for name, (make, _, _) in HOSTILE.items():
        text = make()
        spent = time.process_time()
        with pytest.raises(CircuitFileError):
            load_circuit_text(text)
        assert time.process_time() - spent < 30.0 * one, name


def test_no_more_problems_are_listed_than_anybody_reads() -> None:
    wires = "".join(f"  W{i}: {{from: A{i}.1, to: B{i}.2}}\n" for i in range(500))
    with pytest.raises(CircuitFileError) as caught:
        load_circuit_text(HEAD + BATTERY + "wires:\n" + wires)
    assert len(caught.value.problems) == 100


def test_aliases_within_reason_are_read() -> None:
    text = HEAD + (
        "parts:\n  BAT: &battery {family: battery}\n  F1: &fuse {family: fuse, rating_a: 5}\n  F2: *fuse\n"
        "  R: {family: resistor, resistance_ohm: 100}\n"
        "wires:\n  W1: {from: BAT.pos, to: F1.1}\n  W2: {from: F1.2, to: F2.1}\n  W3: {from: F2.2, to: R.1}\n  W4: {from: R.2, to: BAT.neg}\n"
    )
    assert load_circuit_text(text).parts["F2"].family == "fuse"
