"""Bad circuit files: every error at once, with line, field and what to do."""

from __future__ import annotations

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sondar.circuit_files import CircuitFileError, load_circuit_text
from sondar.contracts import OPENAPI, SCHEMAS, as_text, openapi, schema_of
from sondar.core.circuit.document.fields import CircuitDocument
from tests.conftest import FAN_TEXT


def problems(text: str) -> dict[str, tuple[int | None, str]]:
    with pytest.raises(CircuitFileError) as caught:
        load_circuit_text(text)
    return {p.field: (p.line, p.message) for p in caught.value.problems}


def line_of(text: str, fragment: str) -> int:
    return next(i for i, line in enumerate(text.splitlines(), 1) if fragment in line)


def test_all_errors_are_reported_at_once_with_their_lines() -> None:
    text = (
        FAN_TEXT.replace("rating_a: 40", "rating_a: forty")
        .replace("gauge_mm2: 6,", "gauge: 6,")
        .replace("family: relay", "family: rely")
    )
    found = problems(text)
    assert found["parts.F14.rating_a"][0] == line_of(text, "forty")
    assert "not a number or a quantity" in found["parts.F14.rating_a"][1]
    assert found["wires.W1.gauge"][0] == line_of(text, "gauge: 6,")
    assert "check its spelling" in found["wires.W1.gauge"][1]
    assert found["parts.K3.family"][0] == line_of(text, "rely")
    assert "'relay'" in found["parts.K3.family"][1]


def test_a_wire_to_nowhere_is_named_with_near_names() -> None:
    text = FAN_TEXT.replace("to: X3.86", "to: X3.68")
    found = problems(text)
    line, message = found["wires.W7.to"]
    assert line == line_of(text, "X3.68")
    assert "X3.86" in message
    assert "no wire ends at X3.86" in found["connectors.X3.cavities.86"][1]


@pytest.mark.parametrize(
    ("change", "field", "words"),
    [
        (
            ('on_when: {key: [on, run], fan: "on"}', "on_when: {ignition: on}"),
            "parts.DRV.on_when.ignition",
            "no control 'ignition'",
        ),
        (('fan: "on"}}', 'fan: "full"}}'), "parts.DRV.on_when.fan", "no position 'full'"),
        (("module: ECM", "module: EXM"), "parts.DRV.module", "no module 'EXM'"),
        (("unplugged: [X3]", "unplugged: [X99]"), "setups.relay-out.unplugged.0", "no connector 'X99'"),
        (("armature_ohm: 0.16", "armature_ohm: 16"), "parts.M5", "leaves no voltage to turn"),
        (("sondar: 1", "sondar: 2"), "sondar", "1"),
        (("length_m: 0.5, rate: 0.3", "length_m: -1"), "wires.W1.length_m", "greater than 0"),
        (("F14: {family: fuse", "F7x: {family: fuse"), "parts.F7x", "joins nothing"),
    ],
)
def test_each_kind_of_mistake(change: tuple[str, str], field: str, words: str) -> None:
    assert change[0] in FAN_TEXT
    found = problems(FAN_TEXT.replace(*change))
    assert words in found[field][1]
    assert found[field][0] is not None


@pytest.mark.parametrize("text", ["", "- 1\n- 2\n", "just words", "a: [1, 2", "a: 1\na: 2\n", "\t- x", "42"])
def test_what_is_no_circuit_at_all(text: str) -> None:
    with pytest.raises(CircuitFileError) as caught:
        load_circuit_text(text)
    assert caught.value.problems[0].message


def test_too_large_a_file_is_refused() -> None:
    assert "KiB" in problems("x" * 600_000)["file"][1]


@settings(max_examples=60, deadline=None)
@given(st.integers(0, len(FAN_TEXT) - 1), st.integers(1, 40), st.text(max_size=6))
def test_any_damage_ends_in_a_circuit_or_in_a_located_error(start: int, length: int, put: str) -> None:
    damaged = FAN_TEXT[:start] + put + FAN_TEXT[start + length :]
    try:
        load_circuit_text(damaged)
    except CircuitFileError as error:
        assert error.problems


def test_published_contracts_are_current() -> None:
    """``./run types`` was run after the last change of models or routes."""
    assert OPENAPI.read_text() == as_text(openapi())
    for path, document in SCHEMAS.items():
        assert path.read_text() == as_text(schema_of(document)), path.name
    assert "discriminator" in json.dumps(schema_of(CircuitDocument))
