"""An edited circuit file as text, checked like any other."""

from __future__ import annotations

from typing import Any

from sondar.circuit_files import load_circuit_text
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.yaml_text import written_yaml


def written(data: Any) -> tuple[CircuitDocument, str]:
    """The checked document of an edited file, and its text; comments and order stay.

    Raises:
        CircuitFileError: it is no circuit any more; lists every problem.
    """
    text = written_yaml(data, compact=False)
    return load_circuit_text(text), text
