"""What ships with Sondar for vehicles that nobody has described: generic trouble codes, typical circuits, kinds of parts, read once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any

from ruamel.yaml import YAML

from sondar.circuit_files import LIBRARY, terms
from sondar.core.describing.templates import Template, circuit_document, read_templates
from sondar.core.generic_codes import Electrically, GenericCodes, read_codes
from sondar.core.part_kinds import PartKind, read_kinds
from sondar.yaml_text import written_yaml

FOLDER = LIBRARY / "codes"
SUBJECTS = ("air-and-fuel", "ignition-and-emissions", "speed-and-auxiliary", "transmission", "chassis-and-body", "network")


@lru_cache(maxsize=1)
def generic_codes() -> GenericCodes:
    """Every generic code held.

    Raises:
        GenericCodesError: the library contradicts itself.
    """
    electrically = {
        template: Electrically(item["low"], item["high"]) for item in _read("electrically") for template in item["templates"]
    }
    subjects = [subject for name in SUBJECTS for subject in _read(name)]
    return GenericCodes(read_codes(subjects, _read("manners"), electrically), _read("failure-types"), terms())


def _read(name: str) -> Any:
    return YAML(typ="safe").load((FOLDER / f"{name}.yaml").read_text(encoding="utf-8"))


@lru_cache(maxsize=1)
def circuit_templates() -> dict[str, Template]:
    """Every typical circuit, by id."""
    names = ("sensors", "switches", "actuators", "supplies-and-buses")
    return read_templates(
        item
        for name in names
        for item in YAML(typ="safe").load((LIBRARY / "templates" / f"{name}.yaml").read_text(encoding="utf-8"))
    )


@lru_cache(maxsize=1)
def part_kinds() -> dict[str, PartKind]:
    """Every kind of part, by id."""
    names = ("sensors", "actuators", "supplies-and-switches")
    return read_kinds(
        item for name in names for item in YAML(typ="safe").load((LIBRARY / "parts" / f"{name}.yaml").read_text(encoding="utf-8"))
    )


def circuit_text(template: Template, vehicle: Mapping[str, str], name: str = "", slug: str = "", order: Sequence[int] = ()) -> str:
    """A circuit file of a template; see ``circuit_document``."""
    return written_yaml(circuit_document(template, vehicle, name, slug, order))
