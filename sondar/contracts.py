"""Write the published contracts: OpenAPI document and the JSON Schemas of circuit and vehicle files. Run by ``./run types``."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any
from unittest.mock import patch

from pydantic import BaseModel

from sondar.core.bundle import Bundle
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.vehicle import VehicleDocument

ROOT = Path(__file__).parent.parent
OPENAPI = ROOT / "docs" / "openapi.json"
SCHEMAS: dict[Path, type[BaseModel]] = {
    ROOT / "sondar" / "library" / "schema" / "circuit.schema.json": CircuitDocument,
    ROOT / "sondar" / "library" / "schema" / "vehicle.schema.json": VehicleDocument,
    ROOT / "docs" / "bundle.schema.json": Bundle,
}
"""Published file -> the document it describes."""


def openapi() -> dict[str, Any]:
    """The OpenAPI document; built without a database."""
    with patch("sondar.web.application.open_pool"):
        from sondar.web.application import create_app

        document: dict[str, Any] = create_app(dsn="", meter_address="", prepare=False).api_doc
    return document


def schema_of(document: type[BaseModel]) -> dict[str, Any]:
    """The JSON Schema of a kind of file."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **document.model_json_schema(by_alias=True)}


def as_text(value: dict[str, Any]) -> str:
    """Stable text of a published document."""
    return json.dumps(value, indent=1, ensure_ascii=False, sort_keys=True) + "\n"


if __name__ == "__main__":
    OPENAPI.write_text(as_text(openapi()))
    for path, document in SCHEMAS.items():
        path.write_text(as_text(schema_of(document)))
