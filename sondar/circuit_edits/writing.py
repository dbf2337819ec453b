"""An edited circuit file as text, checked like any other."""

from __future__ import annotations

from io import StringIO
from typing import Any

from ruamel.yaml import YAML

from sondar.circuit_files import load_circuit_text
from sondar.core.circuit.document.fields import CircuitDocument


def written(data: Any) -> tuple[CircuitDocument, str]:
    """The checked document of an edited file, and its text; comments and order stay.

    Raises:
        CircuitFileError: it is no circuit any more; lists every problem.
    """
    stream = StringIO()
    writer = YAML()
    writer.width = 140
    writer.dump(data, stream)
    text = stream.getvalue()
    return load_circuit_text(text), text
