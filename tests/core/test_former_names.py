"""What was written in the words of earlier versions is still understood, and told what it is called now."""

from __future__ import annotations

import pytest

from sondar.circuit_files import former_names_in, load_circuit_text, load_document
from sondar.core.circuit.network import Circuit
from sondar.core.former_names import (
    FORMER_IDS,
    FORMER_SOURCES,
    FORMER_STAGES,
    FORMER_WORDS,
    current_id,
    current_stage,
    current_word,
)
from sondar.core.instruments import INSTRUMENTS, instrument
from sondar.core.limits.document import SOURCES
from sondar.core.procedures.document import read_procedure
from sondar.store.jobs import STAGES
from tests.conftest import AMBIENT_TEXT, FAN_TEXT

FORMER_TEXT = (
    FAN_TEXT.replace("synonyms:", "also:", 1).replace("with: functional-check", "with: senses").replace("word: operates", "word: acts")
)  # fmt: skip


def test_every_former_name_leads_to_one_of_today() -> None:
    assert set(FORMER_IDS.values()) <= set(INSTRUMENTS)
    assert not set(FORMER_IDS) & set(INSTRUMENTS), "a former id must not be taken again"
    words = {word for device in INSTRUMENTS.values() for word in device.words} | {
        word for device in INSTRUMENTS.values() for word in device.soft_words
    }
    assert set(FORMER_WORDS.values()) <= words
    assert set(FORMER_STAGES.values()) <= set(STAGES)
    assert set(FORMER_SOURCES.values()) <= set(SOURCES)


@pytest.mark.parametrize("name", FORMER_IDS)
def test_an_instrument_answers_to_its_former_id(name: str) -> None:
    assert instrument(name) is INSTRUMENTS[current_id(name)]


def test_what_is_called_as_today_stays() -> None:
    assert (current_id("voltmeter"), current_word("bright"), current_stage("repair")) == ("voltmeter", "bright", "repair")


def test_a_former_circuit_file_loads_as_the_same_circuit() -> None:
    assert FORMER_TEXT != FAN_TEXT
    assert load_circuit_text(FORMER_TEXT) == load_circuit_text(FAN_TEXT)


def test_every_former_name_of_a_file_is_named_with_its_line() -> None:
    assert former_names_in(FAN_TEXT) == []
    lines = FORMER_TEXT.splitlines()
    notes = former_names_in(FORMER_TEXT)
    assert len(notes) >= 2
    for note in notes:
        assert note.line is not None
        assert any(old in lines[note.line - 1] for old in ("also", "senses", "acts")), (note, lines[note.line - 1])
    assert any("synonyms" in note.message for note in notes)
    assert any("functional-check" in note.message for note in notes)


def test_a_former_procedure_is_followed() -> None:
    text = """sondar_chart: 1
title: Outside temperature shows dashes
circuit: ambient-temperature
steps:
  1: {do: Plug sound?, with: look, red: X31, word: sound, if_pass: {unit: B9}, if_fail: {unit: W2}}
"""
    circuit = Circuit(load_circuit_text(AMBIENT_TEXT))
    procedure = load_document(text, lambda data: read_procedure(data, circuit))
    step = procedure.steps["1"]
    assert (step.instrument, step.word) == ("visual-inspection", "OK")
