"""The test under whose condition a limit holds."""

from __future__ import annotations

from sondar.core.circuit.network import Circuit
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Test
from sondar.core.limits.document import Limit


def limit_test(circuit: Circuit, limit: Limit, temperature_c: float = 20.0) -> Test:
    """The test that a limit is about.

    Raises:
        UnknownReferenceError: its instrument does not exist.
    """
    device = instrument(limit.instrument)
    setup = circuit.setup(limit.when, frozenset(limit.unplugged), temperature_c)
    return Test(device.id, limit.red, limit.black or circuit.black_reference, setup)
