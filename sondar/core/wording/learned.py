"""What the readings have taught about the vehicle, whatever is wrong with it; and which of them fit nothing."""

from __future__ import annotations

import numpy as np
from scipy.special import ndtri

from sondar.core.circuit.families import Battery
from sondar.core.diagnosis.belief import shared_states
from sondar.core.diagnosis.forecast import LEADS, LEADS_MEAN_OHM, LEADS_SD_OHM
from sondar.core.diagnosis.hypotheses import UNKNOWN
from sondar.core.diagnosis.judge import Judgement
from sondar.core.wording.labels import describe_test, reading_label

SAID_FROM_V, SAID_FROM_K = 0.2, 4.0
"""A battery this far from what is usual, and parts this much warmer or colder than the job says, are worth a sentence."""

KNOWN_V, KNOWN_K = 0.25, 5.0
"""Standard deviation below which they count as known."""

SAID_FROM_OHM, KNOWN_OHM = 0.1, 0.08
"""The same for the ohmmeter's leads."""

MISFIT_LEVEL = 0.01
"""Chance that any reading of a job is called one that does not fit though it does: the level is divided by their number (Bonferroni)."""


def learned_notes(judgement: Judgement) -> list[str]:
    """One sentence per thing learned; empty as long as everything is as usual."""
    predictor, belief, setup = judgement.predictor, judgement.belief, judgement.situation.setup
    means, variances = shared_states(predictor, [setup], belief.filters, belief.cells)[setup]
    weights = belief.now[:-1] / max(float(belief.now[:-1].sum()), 1e-12)
    centre = means @ weights
    spread = np.sqrt(np.maximum((variances + (means - centre[:, None]) ** 2) @ weights, 0.0))
    notes = []
    battery = predictor.circuit.parts[predictor.circuit.battery]
    if isinstance(battery, Battery) and spread[0] < KNOWN_V and abs(centre[0]) >= SAID_FROM_V:
        usual = battery.state(predictor.circuit.battery, setup)[0]
        way = "lower" if centre[0] < 0 else "higher"
        notes.append(
            f"Battery {usual + centre[0]:.1f} V here, so all supplies are expected {abs(centre[0]):.1f} V {way} than usual."
        )
    if spread[1] < KNOWN_K and abs(centre[1]) >= SAID_FROM_K:
        notes.append(f"Parts are at about {setup.temperature_c + centre[1]:.0f} °C; the job says {setup.temperature_c:.0f} °C.")
    leads = np.zeros((1, len(predictor.parameters.names)))
    leads[0, predictor.parameters.index(LEADS)] = LEADS_SD_OHM
    ohms, variance = belief.filters[int(belief.cells[:, int(np.argmax(weights))].argmax())].along(leads)
    ohm, spread_ohm = float(ohms[:, 0] @ weights), float(np.sqrt(variance[:, 0] @ weights))
    if spread_ohm < KNOWN_OHM and abs(ohm) >= SAID_FROM_OHM:
        notes.append(f"The ohmmeter's leads have about {max(LEADS_MEAN_OHM + ohm, 0.0):.1f} Ω, which is taken off.")
    return notes


def misfit_notes(judgement: Judgement) -> list[str]:
    """Readings that do not go with what leads, and what to do about them."""
    belief = judgement.belief
    leading = int(np.argmax(belief.now[:-1]))
    limit = -float(ndtri(0.5 * MISFIT_LEVEL / max(len(judgement.readings), 1)))
    odd = [
        reading
        for index, reading in enumerate(judgement.readings)
        if abs(belief.residual[index, leading]) > limit and belief.error[index, leading] < 0.5
    ]
    if not odd:
        return []
    which = "; ".join(f"{describe_test(judgement.predictor.circuit, r.test)}: {reading_label(r)}" for r in odd[:3])
    unknown = belief.units()[belief.hypotheses.units.index(UNKNOWN)]
    advice = "Repeat it, with another meter if there is one"
    if len(odd) > 1 or unknown > 0.5:
        advice += "; then compare the drawing with the vehicle, and look for what is not drawn: added wiring, a wrong part, a second fault"
    return [f"Does not fit the leading suspect: {which}. {advice}."]
