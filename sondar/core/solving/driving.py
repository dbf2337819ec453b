"""What a powered probe runs: physics only, shared by the predictions and by simulated vehicles."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from typing import Literal

import numpy as np

from sondar.core.circuit.model import Acts, Setup
from sondar.core.circuit.network import PROBE, PROBE_TRIPS_A, Circuit
from sondar.core.solving.solver import SetupSolver

Drive = Literal["supply", "ground"]

RUNS_SHARE = 0.5
"""A driven part counts as run if its current comes to this share of what it needs to act fully."""


def driven_setup(setup: Setup, drive: Drive, red: str, black: str) -> Setup:
    """The set-up while the probe's tip is on ``red``; with supply on it, the probe's own ground lead is on ``black``."""
    drives: tuple[tuple[str, Drive], ...] = ((red, drive),)
    if drive == "supply":
        drives = (*drives, (black, "ground"))
    return replace(setup, drives=drives)


def probe_branch(drive: Drive) -> str:
    """The branch whose current trips the probe's breaker."""
    return f"{PROBE}.{drive}"


@lru_cache(maxsize=512)
def driven_part(circuit: Circuit, setup: Setup, drive: Drive, red: str, black: str) -> tuple[str, Acts] | None:
    """The part that acts in a healthy vehicle because the probe drives it, with how it acts; None if nothing does.

    None too for a load that is more than the probe's breaker carries. Of several the one that is driven hardest against what it
    needs is taken: behind a relay, the motor.
    """
    acting = {ref: acts for ref, part in circuit.parts.items() if (acts := part.acts(ref, setup)) is not None}
    if not acting:
        return None
    branches = [acts.branch for acts in acting.values()]
    before = np.abs(SetupSolver(circuit, setup, [], 1, None, branches).solve([()]).flow_amps[0, 0])
    driven = driven_setup(setup, drive, red, black)
    *found, probe = np.abs(SetupSolver(circuit, driven, [], 1, None, [*branches, probe_branch(drive)]).solve([()]).flow_amps[0, 0])
    after = np.array(found)
    need = np.array([acts.full_a for acts in acting.values()])
    share = np.where(before < RUNS_SHARE * need, after / need, 0.0)
    best = int(np.argmax(share))
    return list(acting.items())[best] if share[best] > RUNS_SHARE and probe < PROBE_TRIPS_A else None
