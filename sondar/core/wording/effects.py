"""What is said of a reading that does not fit."""

from __future__ import annotations

from sondar.core.diagnosis.judge import Effect


def effect_note(effect: Effect) -> str:
    """A sentence where a reading does not go with the circuit or with the others; empty for most."""
    if effect.error is not None:
        other = effect.error.looks_like
        where = f" {other.red} against {other.black} would show it." if other else ""
        return f"Does not fit the other readings: possibly a probe at a wrong place.{where} Measure again."
    if effect.unlikely:
        return "No single fault of this circuit predicts this. Check the points and the set-up, or measure again."
    return ""
