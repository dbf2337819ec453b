"""Circuit files as text: YAML 1.2 in, checked circuits or located errors out.

YAML 1.2 (ruamel.yaml) because there ``on`` and ``off`` are words, and every key position is known.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeVar

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap, CommentedSeq

from sondar.core.circuit.document.checks import read_document, variants_of
from sondar.core.circuit.document.fields import CircuitDocument, Variant
from sondar.core.circuit.network import Circuit
from sondar.core.circuit.vehicle import VehicleDocument, VehicleNetwork, read_vehicle
from sondar.core.circuit_review import problems_of, warnings_of
from sondar.core.errors import CircuitDocumentError, FieldProblem
from sondar.core.former_names import with_current_names
from sondar.yaml_text import YamlTextError, load_yaml

LIBRARY = Path(__file__).parent / "library"

T = TypeVar("T")


class CircuitFileError(CircuitDocumentError):
    """A circuit file that cannot be used; ``problems`` lists every error with line and field."""

    def __init__(self, problems: list[FieldProblem]) -> None:
        super().__init__(problems)
        self.detail = f"The file has {len(problems)} problem{'s' if len(problems) > 1 else ''}. Nothing was stored."

    def __str__(self) -> str:
        return "; ".join(f"line {p.line}: {p.field or 'file'}: {p.message}" for p in self.problems)


def load_circuit_text(text: str) -> CircuitDocument:
    """Parse and check a circuit file.

    Raises:
        CircuitFileError: not YAML, or not a circuit; lists every problem with its line.
    """

    def read(data: object) -> CircuitDocument:
        document = read_document(data)
        problems = problems_of(document)
        if problems:
            raise CircuitDocumentError(problems)
        return document

    return load_document(text, read)


def variants_in(text: str) -> dict[str, tuple[Variant, CircuitDocument]]:
    """The variants of a circuit file, each with the document as it is then.

    Raises:
        CircuitFileError: not YAML, or not a circuit.
    """
    return load_document(text, lambda data: variants_of(data) if isinstance(data, Mapping) else {})


def former_names_in(text: str) -> list[FieldProblem]:
    """Notes on former names that a circuit or procedure file uses; it loads all the same.

    Raises:
        CircuitFileError: not YAML.
    """

    def notes(data: object) -> list[FieldProblem]:
        found = with_current_names(data)[1] if isinstance(data, Mapping) else []
        return [_locate(FieldProblem(note.path, note.message), data) for note in found]

    return load_document(text, notes)


def doubts_in(text: str, circuit: Circuit) -> list[FieldProblem]:
    """What may be meant in a circuit file and should be looked at, with its lines: limits that contradict the drawing, fuses that blow."""
    warnings = warnings_of(circuit)
    return load_document(text, lambda data: [_locate(warning, data) for warning in warnings])


def load_vehicle_text(text: str) -> VehicleDocument:
    """Parse and check a vehicle file.

    Raises:
        CircuitFileError: not YAML, or not a vehicle; lists every problem with its line.
    """
    return load_document(text, read_vehicle)


@lru_cache(maxsize=64)
def circuits_in_vehicle(text: str) -> tuple[str, ...]:
    """Ids of the circuits that a vehicle file names."""
    return tuple(load_vehicle_text(text).circuits)


def library_circuits() -> dict[str, str]:
    """Text of every circuit file that ships with Sondar, by file name without ending."""
    return {path.stem: path.read_text(encoding="utf-8") for path in sorted((LIBRARY / "circuits").glob("*.yaml"))}


def library_procedures() -> dict[str, str]:
    """Text of every procedure that ships with Sondar, by the circuit's file name."""
    return {path.stem: path.read_text(encoding="utf-8") for path in sorted((LIBRARY / "procedures").glob("*.yaml"))}


def library_vehicles() -> dict[str, str]:
    """Text of every vehicle file that ships with Sondar, by file name without ending."""
    return {path.stem: path.read_text(encoding="utf-8") for path in sorted((LIBRARY / "vehicles").glob("*.yaml"))}


def terms() -> list[list[str]]:
    """Groups of names that mean the same part, for searching."""
    return [[str(name) for name in group] for group in _terms_file()["synonyms"]]


def glossary() -> list[dict[str, Any]]:
    """Terms that a screen explains: ``term``, ``meaning``, ``matters`` and ``synonyms``, by name."""
    return sorted(({"synonyms": [], **item} for item in _terms_file()["glossary"]), key=lambda item: str(item["term"]).lower())


@lru_cache(maxsize=1)
def _terms_file() -> dict[str, Any]:
    found: dict[str, Any] = YAML(typ="safe").load((LIBRARY / "terms.yaml").read_text(encoding="utf-8"))
    return found


@lru_cache(maxsize=8)
def library_vehicle(name: str) -> VehicleDocument:
    """A vehicle file of the library."""
    return load_vehicle_text((LIBRARY / "vehicles" / f"{name}.yaml").read_text(encoding="utf-8"))


@lru_cache(maxsize=4)
def library_network(name: str) -> VehicleNetwork:
    """A vehicle of the library with all its circuits joined."""
    document = library_vehicle(name)
    circuits = {key: load_circuit_text(text) for key, text in library_circuits().items() if key in document.circuits}
    return VehicleNetwork(document, circuits)


def load_document(text: str, read: Callable[[object], T]) -> T:
    """Parse YAML and have it checked by ``read``; its problems come back with their lines.

    Raises:
        CircuitFileError: not YAML, too long, or refused by ``read``.
    """
    try:
        data = load_yaml(text)
    except YamlTextError as error:
        raise CircuitFileError([FieldProblem(("file",), error.reason, error.line)]) from error
    try:
        return read(data)
    except CircuitDocumentError as error:
        raise CircuitFileError(sorted((_locate(p, data) for p in error.problems), key=lambda p: p.line or 0)) from error


def _locate(problem: FieldProblem, data: Any) -> FieldProblem:
    """Line of the deepest field of the path that the file has."""
    line, node = (1 if data is not None else None), data
    for step in problem.path:
        if isinstance(node, CommentedMap):
            key = next((k for k in node if str(k) == str(step)), None)
            if key is None:
                break
            line = node.lc.key(key)[0] + 1
            node = node[key]
        elif isinstance(node, CommentedSeq) and isinstance(step, int) and step < len(node):
            line = node.lc.item(step)[0] + 1
            node = node[step]
        else:
            break
    return replace(problem, line=line)
