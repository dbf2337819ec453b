"""Vehicle models: their files are checked, and their circuits must join, before anything is stored. Runs in a worker."""

from __future__ import annotations

from collections.abc import Mapping

from sondar.app.computed import Computed
from sondar.circuit_files import load_vehicle_text
from sondar.core.circuit.vehicle import VehicleDocument, VehicleNetwork
from sondar.store.circuits import CircuitVersion


def checked(_computed: Computed, text: str) -> VehicleDocument:
    """A vehicle file.

    Raises:
        CircuitFileError: it is none; lists every problem with its line.
    """
    return load_vehicle_text(text)


def joined(computed: Computed, document: VehicleDocument, versions: Mapping[str, CircuitVersion]) -> None:
    """Join its circuits.

    Raises:
        CircuitDocumentError: they do not fit together.
    """
    VehicleNetwork(document, {slug: computed.circuit(versions[slug]).document for slug in document.circuits})
