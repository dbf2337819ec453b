"""Bayes' rule over the hypotheses, from the readings that stand; recomputed from scratch, so undo and audit are free.

Likelihood of a reading = (1 − misread) · what is expected after the readings before it (``learning``) + misread · what a probe at a
wrong place shows. That is mostly a figure the circuit does have somewhere: 0 V and 12 V are the likeliest errors of all.

*Not on the drawing* is every hypothesis once more, with something beside it that makes an unknown share of the readings anything at
all: what fits stays explained, what does not fit counts for it, and the more so the more readings there are (a contamination model,
Huber, *Robust Statistics*, 1981, ch. 1).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.special import logsumexp, ndtri

from sondar.core.circuit.model import Setup
from sondar.core.diagnosis.hypotheses import HypothesisSet
from sondar.core.diagnosis.learning import Filter, density_of, normal_density
from sondar.core.diagnosis.predictions import ERROR_ELSEWHERE, ERROR_NO_CONTACT, MISREAD, Predictor
from sondar.core.instruments import instrument
from sondar.core.instruments.base import Display, Test
from sondar.core.instruments.reading import Reading

Array = npt.NDArray[np.float64]

DISTURBED_SHARES, DISTURBED_WEIGHTS = (0.05, 0.15, 0.4, 0.8), (0.25, 0.25, 0.25, 0.25)
"""Something that is not on the drawing disturbs a share of all readings that nobody knows beforehand, be it alone or beside a fault."""

ELSEWHERE_TOO = 0.5
"""Share of what something undrawn shows that is a figure the circuit has somewhere, as a probe at a wrong place would: mostly 0 V or 12 V."""

ALIKE_SDS, AGAIN_SHARE, OTHERWISE = 0.5, 0.6, 0.02
"""Figures predicted so many of the meter's own errors apart are the same; they then differ by that share of the error; and how often the
same thing shows something else all the same."""

PLACE_ASKED_FROM = 0.3
"""Where else the probe may have been is worked out for readings that were errors with this probability."""

WORD_CHANCE = 0.15
"""Chance that a probe or reading error shows a given word."""


@dataclass(frozen=True, eq=False)
class Expected:
    """What a healthy vehicle would have shown, all readings before it considered: figure in the working scale, and words (W,)."""

    mean: float
    sd: float
    words: Array


@dataclass(frozen=True, eq=False)
class Belief:
    """Probabilities after the readings that have not been voided.

    Attributes:
        prior: (H,) before the first reading. now: (H,) posterior; steps: (R + 1, H) prior, then after each reading in order.
        log_likelihood: (R, H) natural log of each reading's likelihood given those before it.
        residual: (R, H − 1) each reading's distance from what was expected, in standard deviations; of a word the normal deviate that
            is exceeded as seldom as something as unexpected as that word.
        error: (R, H − 1) chance that each reading was a probe or reading error, under every hypothesis.
        expected: per reading the healthy vehicle's (mean, standard deviation, chance of each word) before it was taken.
        filters: what has been learned, one filter per temperature cell; cells: (C, H − 1) their weights.
    """

    hypotheses: HypothesisSet
    prior: Array
    now: Array
    steps: Array
    log_likelihood: Array
    residual: Array
    error: Array
    expected: tuple[Expected, ...]
    filters: tuple[Filter, ...]
    cells: Array

    def at_last(self, now: Array) -> Belief:
        """The same with another posterior (H,) after the last reading."""
        return replace(self, now=now, steps=np.vstack([self.steps[:-1], now]))

    def units(self, step: int = -1) -> Array:
        """(U,) probability per replaceable unit after a step."""
        result: Array = self.steps[step] @ self.hypotheses.member
        return result

    def groups(self, step: int = -1) -> dict[str, float]:
        """Probability per group: wiring, module, component, none, unknown."""
        found: dict[str, float] = dict.fromkeys(("wiring", "module", "component", "system", "setting", "none", "unknown"), 0.0)
        for suspect, probability in zip(self.hypotheses.suspects, self.steps[step], strict=True):
            found[suspect.group] += float(probability)
        return found


def density(reading: Reading, shown: Display) -> Array:
    """Likelihood (H − 1, P) of what was read at each of the display's probe pairs, no probe or reading error considered."""
    device = shown.instrument
    if reading.state is not None:
        behind = device.soft_words.get(reading.state, {reading.state: 1.0})
        chance: Array = sum(weight * shown.words[:, :, device.words.index(word)] for word, weight in behind.items())  # type: ignore[assignment]
        return chance
    assert reading.value is not None
    at = float(device.working(reading.value))
    last_digit = np.hypot(reading.resolution, reading.meter_error) / np.sqrt(3.0)
    if device.log_scale:
        last_digit /= (max(reading.value, 0.0) + device.log_offset) * np.log(10.0)
    sd = np.hypot(shown.sd, last_digit)
    numeric: Array = normal_density(at - shown.mean, sd**2) * np.maximum(0.0, 1.0 - shown.words.sum(axis=2))
    return numeric


def starting_prior(hypotheses: HypothesisSet, triage: Mapping[str, float], factors: Mapping[str, float]) -> Array:
    """Prior (H,) from what was known before the first reading.

    Args:
        triage: id of a suspect (``Suspect.id``) -> probability that it is among the causes; empty without triage. What the triage
            puts elsewhere goes to *no fault here*. The share of *not on the drawing* stays.
        factors: fault id -> factor from the history, used when there is no triage (triage has it in its weights).
    """
    if not triage:
        raw = np.array([factors.get(s.fault, 1.0) for s in hypotheses.suspects]) * hypotheses.prior
        inner = raw[1:-1] / raw[1:-1].sum() * hypotheses.prior[1:-1].sum()
        return np.concatenate([hypotheses.prior[:1], inner, hypotheses.prior[-1:]])
    inner = _by_suspect(hypotheses, triage)
    here = min(float(inner.sum()), 0.96)
    floor = 1e-4 * hypotheses.prior[1:-1]
    inner = inner / max(float(inner.sum()), 1e-12) * here + floor
    elsewhere = max(1.0 - here - hypotheses.prior[-1], 0.02)
    made = np.concatenate([[elsewhere], inner, hypotheses.prior[-1:]])
    result: Array = made / made.sum()
    return result


def _by_suspect(hypotheses: HypothesisSet, triage: Mapping[str, float]) -> Array:
    """(H − 2,) what the triage puts on each suspect.

    A severity that is no longer on its grid (kept by an earlier engine, or under its label) gives its share to the fault.
    """
    inner = np.zeros(len(hypotheses.suspects) - 2)
    place = {suspect.id: index for index, suspect in enumerate(hypotheses.suspects[1:-1])}
    for name, share in triage.items():
        if name in place:
            inner[place[name]] += share
            continue
        fault, _, label = name.partition("|") if "|" in name else name.partition(":")
        rows = hypotheses.index(fault, label) or hypotheses.index(fault)
        if rows:
            weights = hypotheses.prior[rows] / hypotheses.prior[rows].sum()
            inner[np.array(rows) - 1] += share * weights
    return inner


@dataclass(frozen=True, eq=False)
class _Learned:
    """What a sequence of readings teaches whatever the prior: rows as in ``Belief``, without *not on the drawing*."""

    filters: tuple[Filter, ...]
    cells: Array
    log_likelihood: tuple[Array, ...] = ()
    anything: tuple[Array, ...] = ()
    residual: tuple[Array, ...] = ()
    error: tuple[Array, ...] = ()
    expected: tuple[Expected, ...] = ()


def update(predictor: Predictor, readings: Sequence[Reading], prior: Array | None = None, known: Sequence[Reading] = ()) -> Belief:
    """Belief from the prior and the readings that have not been voided, in the order they were made.

    Args:
        prior: (H,) replaces the circuit's own, see ``starting_prior``.
        known: what was measured before the diagnosis began, such as the battery at intake; it is part of the prior.
    """
    if known:
        before = update(predictor, known, prior)
        both = update(predictor, [*known, *readings], prior)
        first = len(known)
        return replace(
            both, steps=both.steps[first:], log_likelihood=both.log_likelihood[first:], residual=both.residual[first:],
            error=both.error[first:], expected=both.expected[first:], prior=before.now,
        )  # fmt: skip
    hypotheses = predictor.hypotheses
    prior = hypotheses.prior if prior is None else prior
    count = len(prior) - 1
    learned = _learned(predictor, tuple(readings), count)
    log_likelihood = _with_the_undrawn(prior, learned, count)
    logs = np.log(prior) + np.vstack([np.zeros(count + 1), np.cumsum(log_likelihood, axis=0)])
    steps = np.exp(logs - logs.max(axis=1, keepdims=True))
    steps /= steps.sum(axis=1, keepdims=True)
    shape = (len(log_likelihood), count)
    return Belief(
        hypotheses, prior, steps[-1], steps, log_likelihood, np.array(learned.residual).reshape(shape), np.array(learned.error).reshape(shape),
        learned.expected, learned.filters, learned.cells,
    )  # fmt: skip


def _with_the_undrawn(prior: Array, learned: _Learned, count: int) -> Array:
    """(R, H) log likelihood of each reading, that under *not on the drawing* added as the last column."""
    own = np.array(learned.log_likelihood).reshape(-1, count)
    if not len(own):
        return np.zeros((0, count + 1))
    share = np.array(DISTURBED_SHARES)[:, None]
    start = np.log(prior[:-1] / prior[:-1].sum())[None, :] + np.log(DISTURBED_WEIGHTS)[:, None]  # (Q, H − 1)
    either = np.log((1.0 - share) * np.exp(own)[:, None] + share * np.array(learned.anything)[:, None])  # (R, Q, H − 1)
    evidence = logsumexp(np.vstack([start[None], start + np.cumsum(either, axis=0)]), axis=(1, 2))
    return np.column_stack([own, np.diff(evidence)])


def _learned(predictor: Predictor, readings: tuple[Reading, ...], count: int) -> _Learned:
    """From the longest beginning of the readings that is known already."""
    known, found = predictor.recalled(readings)
    if not isinstance(found, _Learned):
        weights = np.array([weight for _, weight in predictor.temperature_cells])
        filters = tuple(Filter.before_any(count, len(predictor.parameters.names)) for _ in weights)
        found = _Learned(filters, np.repeat(weights[:, None], count, axis=1))
    for index in range(known, len(readings)):
        found = _take(predictor, found, readings[index], readings[:index])
        predictor.keep(readings[: index + 1], found)
    return found


def _anything(reading: Reading) -> float:
    """Likelihood of a reading that can be anything at all."""
    return WORD_CHANCE if reading.state is not None else 1.0 / reading.device.span


def _take(predictor: Predictor, state: _Learned, reading: Reading, before: Sequence[Reading]) -> _Learned:
    """One reading more."""
    device, word = reading.device, reading.state is not None
    weights = state.cells
    wrong = _misread(predictor, reading, state)
    alike, usual = _again(predictor, reading, before) if reading.present >= 1.0 else (np.zeros(weights.shape[1]), 0.0)
    joint, errors, seldom = np.zeros_like(weights), np.zeros_like(weights), np.zeros(weights.shape[1])
    centre, square = np.zeros((2, weights.shape[1]))
    healthy, filters = [], []
    for cell, (filter_, (shift, _)) in enumerate(zip(state.filters, predictor.temperature_cells, strict=True)):
        forecast = predictor.forecast(reading.test, shift)
        if reading.value is not None:
            forecast = forecast.read_as(reading.value)
        mean, variance = filter_.expected(forecast)
        words = forecast.words(filter_.possible(forecast) if device.words else None)
        # On a point that floats a person reads any small figure as often as the word for it.
        healthy.append((float(mean[0]), float(variance[0] + forecast.wander[0] ** 2), words[0]))
        if word:
            proper = _word_chance(reading, words)
            surprise, variance = -_deviate_of_word(reading, words), np.ones(len(words))
        else:
            proper, surprise, variance = density_of(reading, forecast, mean, variance)
            proper = proper * np.maximum(0.0, 1.0 - words.sum(axis=1))
        # A fault that comes and goes: while it is away the reading is that of the healthy circuit.
        mixed = reading.present * proper + (1.0 - reading.present) * proper[0]
        known = (1.0 - MISREAD) * mixed + MISREAD * wrong
        errors[cell] = 1.0 - (1.0 - MISREAD) * mixed / known
        if word:
            seldom += weights[cell] * surprise
        else:
            centre += weights[cell] * surprise
            square += weights[cell] * (variance + surprise**2)
        if not word:
            share = np.clip((1.0 - MISREAD) * reading.present * proper / known, 0.0, 1.0)
            filter_ = filter_.learn(forecast, surprise, variance, share * (1.0 - alike))
        filters.append(filter_)
        joint[cell] = weights[cell] * (alike * usual + (1.0 - alike) * known)
    total = joint.sum(axis=0)
    cells = joint / total
    residual = seldom if word else centre / np.sqrt(np.maximum(square - centre**2, 1e-12))
    anything = alike * usual + (1.0 - alike) * (ELSEWHERE_TOO * wrong + (1.0 - ELSEWHERE_TOO) * _anything(reading))
    return _Learned(
        tuple(filters), cells, (*state.log_likelihood, np.log(total)), (*state.anything, anything), (*state.residual, residual),
        (*state.error, (cells * errors).sum(axis=0)), (*state.expected, _expected(healthy, weights[:, 0])),
    )  # fmt: skip


def _expected(healthy: Sequence[tuple[float, float, Array]], weights: Array) -> Expected:
    """Mixture of the cells of the healthy vehicle as one mean and spread."""
    means, variances = np.array([m for m, _, _ in healthy]), np.array([v for _, v, _ in healthy])
    mean = float(weights @ means)
    spread = float(weights @ (variances + (means - mean) ** 2))
    return Expected(mean, float(np.sqrt(spread)), np.asarray(weights @ np.array([w for _, _, w in healthy])))


def _word_chance(reading: Reading, words: Array) -> Array:
    """(H,) chance of the word that was read; words that people use stand for those the instrument has."""
    device = reading.device
    behind = device.soft_words.get(reading.state or "", {reading.state: 1.0})
    chance: Array = sum(weight * words[:, device.words.index(str(word))] for word, weight in behind.items())  # type: ignore[assignment]
    return chance


def _deviate_of_word(reading: Reading, words: Array) -> Array:
    """(H,) normal deviate with as much probability beyond it, either way, as words at most as likely as the one read have."""
    chance = _word_chance(reading, words)
    with_figure = np.concatenate([words, np.maximum(0.0, 1.0 - words.sum(axis=1, keepdims=True))], axis=1)
    seldom = np.where(with_figure <= chance[:, None] + 1e-9, with_figure, 0.0).sum(axis=1)
    return np.asarray(ndtri(np.clip(0.5 * np.maximum(seldom, chance), 1e-12, 0.5)))


def _again(predictor: Predictor, reading: Reading, before: Sequence[Reading]) -> tuple[Array, float]:
    """How far a reading only says again what an earlier one of the same instrument at the same place has said.

    The same test again, or one in a set-up that a hypothesis holds for electrically the same, shows what the first showed, right or
    wrong, and so tells nothing. Returns (H,) how much each hypothesis predicts both alike, and the likelihood of what is read then.
    """
    best, usual = np.zeros(len(predictor.hypotheses.suspects) - 1), 0.0
    forecast = predictor.forecast(reading.test)
    for other in before:
        if other.test.instrument != reading.test.instrument or (other.state is None) != (reading.state is None):
            continue
        earlier = predictor.forecast(other.test)
        if earlier.nodes != forecast.nodes:
            continue
        if reading.state is not None:
            alike = 1.0 - 0.5 * np.abs(forecast.words() - earlier.words()).sum(axis=1)
            says = 1.0 if other.state == reading.state else OTHERWISE
        else:
            assert reading.value is not None
            assert other.value is not None
            noise = forecast.read_as(reading.value).noise
            # Alike in every vehicle, not only in the nominal one: two modules' levels may be the same figure and not the same thing.
            apart_by = (forecast.mean - earlier.mean) ** 2 + ((forecast.slope - earlier.slope) ** 2).sum(axis=1)
            alike = np.exp(-0.5 * apart_by / (ALIKE_SDS * noise) ** 2)
            alike *= 1.0 - np.abs(forecast.words() - earlier.words()).sum(axis=1).clip(0.0, 1.0)
            spread = np.hypot(AGAIN_SHARE * noise[0], np.hypot(reading.resolution, other.resolution) * _per_unit(reading))
            apart = float(reading.device.working(reading.value)) - float(reading.device.working(other.value))
            says = float(normal_density(np.array(apart), np.array(spread**2)) + OTHERWISE / reading.device.span)
        if other.test == reading.test:
            alike = np.ones_like(alike)
        if alike.mean() > best.mean():
            best, usual = alike, says
    return best, usual


def _per_unit(reading: Reading) -> float:
    """Working scale per SI unit at a figure."""
    assert reading.value is not None
    return float(reading.device.working(reading.value + 0.01) - reading.device.working(reading.value)) / 0.01


def _misread(predictor: Predictor, reading: Reading, state: _Learned) -> Array | float:
    """(H,) what a probe at a wrong place, a misread display or a typing error shows."""
    anything = _anything(reading)
    elsewhere = seen_elsewhere(predictor, reading.test, state.filters, state.cells)
    if elsewhere is None:
        return anything
    device = reading.device
    untouched = ERROR_NO_CONTACT if device.no_contact else 0.0
    wrong = ERROR_ELSEWHERE * density(reading, elsewhere).mean(axis=1) + (1.0 - ERROR_ELSEWHERE - untouched) * anything
    return np.asarray(wrong + untouched * (reading.state == device.no_contact))


def seen_elsewhere(predictor: Predictor, test: Test, filters: Sequence[Filter], weights: Array) -> Display | None:
    """What this instrument shows all over the circuit after what has been learned; None without probes, where no place is wrong."""
    if not instrument(test.instrument).probes or not predictor.tables:
        return None
    shown = predictor.setup(test.setup).displays.get(test.instrument)
    if shown is None or shown.shared is None:
        return shown
    mean, variance = shared_states(predictor, [test.setup], filters, weights)[test.setup]  # (2, H)
    moved = shown.mean + np.einsum("khp,kh->hp", shown.shared, mean)
    spread = np.sqrt(shown.sd**2 + np.einsum("khp,kh->hp", shown.shared**2, variance))
    return replace(shown, mean=moved, sd=spread)


def shared_states(
    predictor: Predictor, setups: Sequence[Setup], filters: Sequence[Filter], weights: Array
) -> dict[Setup, tuple[Array, Array]]:
    """Mean and variance (2, H − 1) of the battery's voltage and the parts' temperature, against what a set-up is predicted with."""
    distinct = {setup.controls: setup for setup in setups}
    along = np.concatenate([predictor.shared_directions(setup) for setup in distinct.values()])  # (2 · states, D)
    warmer = np.tile([0.0, 1.0], len(distinct))
    centre, square = np.zeros((2, weights.shape[1], len(along)))
    for weight, (shift, _), filter_ in zip(weights, predictor.temperature_cells, filters, strict=True):
        mean, variance = filter_.along(along)
        mean = mean + shift * warmer
        centre += weight[:, None] * mean
        square += weight[:, None] * (variance + mean**2)
    spread = np.maximum(square - centre**2, 0.0)
    place = {state: slice(2 * index, 2 * index + 2) for index, state in enumerate(distinct)}
    return {setup: (centre[:, place[setup.controls]].T, spread[:, place[setup.controls]].T) for setup in setups}


@dataclass(frozen=True)
class ReadingError:
    """How likely a reading was a probe or reading error, and the test whose probes would have shown it best (None if it fits nowhere)."""

    probability: float
    looks_like: Test | None


def reading_error_of(predictor: Predictor, belief: Belief, index: int, reading: Reading) -> ReadingError:
    """Whether a reading, seen after all others, was rather taken at a wrong place.

    P(error | everything) = Σ_h b(h) · P(error | h, this and the readings before it), over the hypotheses of the drawing.
    """
    if not reading.device.probes:
        return ReadingError(0.0, None)
    weights = belief.now[:-1] / max(float(belief.now[:-1].sum()), 1e-12)
    share = float(weights @ belief.error[index])
    elsewhere = seen_elsewhere(predictor, reading.test, belief.filters, belief.cells) if share >= PLACE_ASKED_FROM else None
    if elsewhere is None:
        return ReadingError(share, None)
    fits = weights @ density(reading, elsewhere)
    tests = [t for t in predictor.setup(reading.test.setup).tests if t.instrument == reading.test.instrument]
    best = int(np.argmax(fits))
    found = tests[best] if fits[best] > 0.2 / (reading.device.span if reading.device.figures else 2.0) else None
    return ReadingError(
        share, None if found is None or {found.red, found.black} == {reading.test.red, reading.test.black} else found
    )


def unit_log_bayes_factors(belief: Belief, reading: int) -> Array:
    """(U,) log10 of how much better each unit's suspects predict a reading than everything else does.

    Severities within a unit are weighted as they stood before the reading (Good's weight of evidence, in bans).
    """
    before = belief.steps[reading]
    likelihood = np.exp(belief.log_likelihood[reading] - belief.log_likelihood[reading].max())
    mass = before @ belief.hypotheses.member
    joint = (before * likelihood) @ belief.hypotheses.member
    with np.errstate(divide="ignore", invalid="ignore"):
        inside = joint / mass
        outside = (joint.sum() - joint) / (1.0 - mass)
        factor = np.log10(inside / outside)
    result: Array = np.nan_to_num(factor, nan=0.0, posinf=9.0, neginf=-9.0)
    return result
