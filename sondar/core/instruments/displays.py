"""All displays of one set-up: one solve for every test that reads voltages or currents, whatever the instrument."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sondar.core.instruments.base import Display, Instrument, Observation, Population, Solved, Test
from sondar.core.interruption import checkpoint
from sondar.core.solving.operating_points import Pair, Waves


def observations(
    instruments: dict[str, Instrument], population: Population, tests: Sequence[Test]
) -> dict[str, tuple[list[Test], Observation]]:
    """Per instrument its own tests in their order, and what it shows at them.

    Raises:
        UnknownReferenceError: a part is watched that does not act, or driven that cannot be run.
    """
    wanted = {test: instruments[test.instrument].quantity(population.circuit, test) for test in tests}
    pairs: list[Pair] = list(dict.fromkeys(q for q in wanted.values() if isinstance(q, tuple)))
    flows = list(dict.fromkeys(q for q in wanted.values() if isinstance(q, str)))
    waves = population.solve(pairs, flows) if pairs or flows else Waves((), (), (), {})
    solved = Solved(waves, {pair: i for i, pair in enumerate(pairs)}, {flow: i for i, flow in enumerate(flows)})
    found = {}
    for name in dict.fromkeys(test.instrument for test in tests):
        checkpoint()
        own = [test for test in tests if test.instrument == name]
        found[name] = (own, instruments[name].observe(population, solved, own))
    return found


def displays_of(instruments: dict[str, Instrument], population: Population, tests: Sequence[Test]) -> dict[str, Display]:
    """Display (H, P) per instrument over that instrument's tests, in their order."""
    return {name: instruments[name].display(seen) for name, (_, seen) in observations(instruments, population, tests).items()}


FRESH_SHARE = 0.3
"""Share of an instrument's error bound that changes from reading to reading; the rest is its calibration and stays."""


def shown_once(
    device: Instrument, seen: Observation, noise: np.random.Generator, calibration: tuple[float, float] = (0.0, 0.0)
) -> tuple[float | None, str | None]:
    """What a person reads off a real instrument at the first test of one vehicle: (SI value, None) or (None, word).

    Args:
        calibration: how far the instrument's gain and zero are off, in shares of their bounds (−1 … 1).
    """
    words = None if seen.words is None else seen.words[0, 0, 0]
    figure = max(0.0, 1.0 - float(words.sum())) if words is not None else 1.0
    if not device.figures or seen.value is None or (figure < 1.0 and noise.random() >= figure):
        assert words is not None
        return None, device.words[int(words.argmax())]
    value = float(seen.value[0, 0, 0])
    if seen.wander is not None:
        value += float(noise.normal(0.0, 0.25 * float(seen.wander[0, 0])))
    off = (1.0 - FRESH_SHARE) * (calibration[0] * device.error_share * abs(value) + calibration[1] * device.error_floor)
    bound = FRESH_SHARE * (device.error_share * abs(value) + device.error_floor)
    value = round(value + off + float(noise.uniform(-bound, bound)), device.decimals)
    return (max(0.0, value) if device.never_negative else value), None
