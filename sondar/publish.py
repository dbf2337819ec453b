"""Write the published contracts: OpenAPI document and the JSON Schema of circuit files. Run by ``./run types``."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any
from unittest.mock import patch

from sondar.core.circuit.document import CircuitDocument

ROOT = Path(__file__).parent.parent
OPENAPI = ROOT / "docs" / "openapi.json"
CIRCUIT_SCHEMA = ROOT / "sondar" / "library" / "schema" / "circuit.schema.json"


def openapi() -> dict[str, Any]:
    """The OpenAPI document; built without a database."""
    with patch("sondar.web.open_pool"):
        from sondar.web import create_app

        document: dict[str, Any] = create_app(dsn="", meter_address="", prepare=False).api_doc
    return document


def circuit_schema() -> dict[str, Any]:
    """The JSON Schema of circuit files."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **CircuitDocument.model_json_schema(by_alias=True)}


def as_text(value: dict[str, Any]) -> str:
    """Stable text of a published document."""
    return json.dumps(value, indent=1, ensure_ascii=False, sort_keys=True) + "\n"


if __name__ == "__main__":
    OPENAPI.write_text(as_text(openapi()))
    CIRCUIT_SCHEMA.write_text(as_text(circuit_schema()))
