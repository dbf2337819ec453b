"""What the documents say is what the code does."""

from __future__ import annotations

import json
import re
import shlex
from pathlib import Path

import pytest
from click.testing import CliRunner

from sondar.circuit_files import library_circuits, load_circuit_text, load_document, load_vehicle_text
from sondar.cli import main
from sondar.core.circuit.families import AnyPart
from sondar.core.circuit.network import Circuit
from sondar.core.instruments import INSTRUMENTS
from sondar.core.limits.document import Limit
from sondar.core.procedures.document import read_procedure
from sondar.web import auth
from tests.conftest import ROOT, circuit_of

DOCS = ROOT / "docs"
FORMAT = (DOCS / "circuit-format.md").read_text(encoding="utf-8")
FAMILIES = {cls.model_fields["family"].annotation.__args__[0]: cls for cls in AnyPart.__origin__.__args__}  # type: ignore[union-attr, attr-defined]


def blocks(text: str, language: str) -> list[str]:
    """Fenced blocks of a Markdown text."""
    return re.findall(rf"```{language}\n(.*?)```", text, re.S)


def table_rows() -> dict[str, list[str]]:
    """Family -> cells of its row in the table of families."""
    rows = {}
    for line in FORMAT.split("## Families")[1].splitlines():
        cells = [cell.strip() for cell in line.strip("|").split("|")]
        if len(cells) == 4 and (name := re.fullmatch(r"`(\w+)`", cells[0])):
            rows[name[1]] = cells
    return rows


def test_the_complete_example_is_a_good_circuit() -> None:
    circuit = Circuit(load_circuit_text(blocks(FORMAT, "yaml")[0]))
    assert circuit.document.id == "washer-pump"
    assert "M1.open" in circuit.faults


def test_every_family_has_its_row_with_terminals_and_fields() -> None:
    rows = table_rows()
    assert set(rows) == set(FAMILIES), set(rows) ^ set(FAMILIES)
    for name, cls in FAMILIES.items():
        _, terminals, fields, _ = rows[name]
        if name != "splice" and terminals not in ("the same",):
            named = re.findall(r"`(\w+)`", terminals)
            assert set(cls.TERMINALS) <= set(named) <= {*cls.TERMINALS, *cls.OPTIONAL_TERMINALS}, name
        for field in re.findall(r"`(\w+)`", fields):
            assert field in cls.model_fields or field in FAMILIES, f"{name} has no field {field}"


OF_TIME = {"sluggish", "late"}
"""Modes of every part with a time constant; a sentence below the table says so."""


def test_every_fault_mode_of_the_library_is_in_the_table() -> None:
    rows = table_rows()
    for text in library_circuits().values():
        circuit = circuit_of(text)
        for fault in circuit.faults.values():
            part = circuit.document.parts.get(fault.part)
            if part is None or part.family == "splice":
                continue
            modes = rows[part.family][3]
            if modes.startswith("the same"):
                continue
            listed = re.sub(r"\((system|setting)\)", "", modes)
            words = {m.strip().replace("trackN", fault.mode[:6]) for m in listed.split(",")}
            words |= OF_TIME if part.lag_s else set()
            assert fault.mode in words, f"{part.family}.{fault.mode} is not in the table: {modes}"


def test_the_vehicle_example_reads() -> None:
    example = next(block for block in blocks(FORMAT, "yaml") if block.startswith("sondar_vehicle"))
    document = load_vehicle_text(example)
    assert document.addresses["ECM"] == 0x1010


def test_the_procedure_example_reads_against_its_circuit() -> None:
    example = next(block for block in blocks(FORMAT, "yaml") if block.startswith("sondar_procedure"))
    circuit = circuit_of(library_circuits()["ambient-temperature"])
    procedure = load_document(example, lambda data: read_procedure(data, circuit))
    assert list(procedure.steps) == ["1", "2"]


def test_every_form_of_limit_in_the_example_is_one() -> None:
    example = next(block for block in blocks(FORMAT, "yaml") if block.startswith("synonyms:"))
    limits = load_document(example, lambda data: {k: Limit.model_validate(dict(v)) for k, v in data["limits"].items()})  # type: ignore[index]
    assert {bool(x.ratio_to) for x in limits.values()} == {True, False}
    assert any(x.table for x in limits.values())
    assert any(x.word for x in limits.values())


def test_every_instrument_is_explained_in_the_engines_document() -> None:
    text = (DOCS / "engine.md").read_text(encoding="utf-8").lower()
    told = {
        "scope-top": "scope levels",
        "scope-bottom": "scope levels",
        "lamp-5w": "lamp",
        "lamp-21w": "lamp",
        "voltmeter-10k": "voltmeter with 10",
    }
    assert [name for name in INSTRUMENTS if told.get(name, name.replace("-", " ")) not in text] == []


def test_the_command_line_examples_run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    text = (DOCS / "cli.md").read_text(encoding="utf-8")
    ran = 0
    for block in blocks(text, ""):
        for name, body in re.findall(r"\$ cat (\S+)\n(.*?)(?=\n\$)", block, re.S):
            json.loads(body)
            (tmp_path / name).write_text(body)
        for command in re.findall(r"\$ \./run sondar (.*)", block):
            words = shlex.split(command, comments=True)
            words = [
                str(tmp_path / w) if (tmp_path / w).exists() else str(ROOT / w) if w.startswith("sondar/") else w for w in words
            ]
            result = CliRunner().invoke(main, words)
            assert result.exit_code == 0, (command, result.output)
            ran += 1
    assert ran >= 4


def test_pictures_and_links_of_the_readme_are_there() -> None:
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    linked = re.findall(r"\]\((?!http)([^)#]+)", readme)
    assert [path for path in linked if not (ROOT / path).exists()] == []
    shown = {Path(path).name for path in linked if path.endswith(".png")}
    assert shown == {path.name for path in (DOCS / "screenshots").glob("*.png")}
    assert len(shown) < 20


def test_decisions_are_numbered_in_order() -> None:
    numbers = [int(path.name[:4]) for path in sorted((DOCS / "decisions").glob("*.md"))]
    assert numbers == list(range(1, len(numbers) + 1))
    architecture = "".join(path.read_text(encoding="utf-8") for path in DOCS.glob("*.md"))
    for path in (DOCS / "decisions").glob("*.md"):
        assert path.stem[:4] in architecture, f"{path.name} is named nowhere"


def test_who_may_ask_what_names_only_real_routes() -> None:
    document = json.loads((DOCS / "openapi.json").read_text(encoding="utf-8"))
    served = {(method.upper(), path) for path, methods in document["paths"].items() for method in methods}

    def plain(route: tuple[str, str]) -> tuple[str, str]:
        return route[0], re.sub(r"<\w+:(\w+)>", r"{\1}", route[1])

    for table in (auth.OPEN_TO_ALL, auth.ONLY_LEADS, auth.WRITES_NOTHING):
        assert {plain(route) for route in table} <= served


def test_every_route_says_what_it_does() -> None:
    document = json.loads((DOCS / "openapi.json").read_text(encoding="utf-8"))
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            assert operation.get("summary"), f"{method} {path}"
