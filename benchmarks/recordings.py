"""Features of recordings against known truth: do stated 95 % intervals hold it, and are figures free of bias?

The recordings are integrated step by step from equations that the features know nothing of: parts that stick, run at limited speed, follow
through two lags, swing, or leak; seen through noise that resembles its neighbours, converters with coarse steps, clocks that jitter and loggers
that leave samples out.
"""

from __future__ import annotations

import argparse
import math
from collections import defaultdict
from collections.abc import Callable

import numpy as np
from scipy.stats import binomtest

from sondar.core.recordings.dropouts import chance_seen, dropouts
from sondar.core.recordings.estimate import Estimate, settled_level
from sondar.core.recordings.model import Channel
from sondar.core.recordings.response import response
from sondar.core.recordings.together import line, together
from sondar.core.recordings.trend import decay, slope

Rng = np.random.Generator
PLANTS = ("first order", "two lags", "limited speed", "limited speed and lag", "swings", "sticks", "creeps", "two stages")
DT = 1e-3


def integrated(plant: str, rng: Rng, duration_s: float, at_s: float) -> tuple[np.ndarray, np.ndarray, dict[str, float]]:
    """True course of a part that is commanded at ``at_s``, every ``DT`` seconds, with what is true of it."""
    dead = float(rng.uniform(0.0, 0.4))
    lag = float(10 ** rng.uniform(-1.0, 0.15))
    gain = float(rng.choice([-1, 1]) * 10 ** rng.uniform(-0.5, 1.5))
    level = float(rng.uniform(-20, 80))
    n = int(duration_s / DT)
    t = np.arange(n) * DT
    wanted = (t >= at_s + dead).astype(float)
    x, v, second = 0.0, 0.0, 0.0
    stuck_until = at_s + dead + float(rng.uniform(0.05, 0.5)) if plant == "sticks" else 0.0
    jump = float(rng.uniform(0.15, 0.6))
    lag2, zeta = lag * float(rng.uniform(0.1, 0.9)), float(rng.uniform(0.25, 0.75))
    speed = 1.0 / (1.6 * lag)
    gave_way, held_until = False, 0.0
    y = np.empty(n)
    for i in range(n):
        u = wanted[i]
        if plant == "first order":
            x += DT * (u - x) / lag
            out = x
        elif plant == "two lags":
            x += DT * (u - x) / lag
            second += DT * (x - second) / lag2
            out = second
        elif plant == "limited speed":
            x += float(np.clip(u - x, -speed * DT, speed * DT))
            out = x
        elif plant == "limited speed and lag":
            x += float(np.clip(u - x, -speed * DT, speed * DT))
            second += DT * (x - second) / (0.4 * lag)
            out = second
        elif plant == "creeps":  # nine tenths soon, the rest with a lag of 2 s
            x += DT * (0.9 * u - x) / lag
            second += DT * (0.1 * u - second) / 2.0
            out = x + second
        elif plant == "two stages":  # one half, a rest of 0.3 s, then the other
            x += float(np.clip(u - x, -speed * DT, speed * DT)) if not 0.5 <= x < 0.5 + speed * DT or t[i] > held_until else 0.0
            held_until = t[i] + 0.3 if x < 0.5 else held_until
            out = x
        elif plant == "swings":
            v += DT * ((u - x) / lag**2 - 2 * zeta * v / lag)
            x += DT * v
            out = x
        else:
            if u and t[i] >= stuck_until:
                if not gave_way:
                    x, gave_way = jump, True
                x += DT * (u - x) / lag
            out = x
        y[i] = out
    began = (stuck_until if plant == "sticks" else at_s + dead) - at_s
    reached63 = t[int(np.argmax(y >= 1 - math.exp(-1)))] - at_s
    reached90 = t[int(np.argmax(y >= 0.9))] - at_s
    return t, level + gain * y, {"before": level, "gain": gain, "dead": began, "lag": reached63 - began, "reached": reached90}


def sampled(t: np.ndarray, y: np.ndarray, rng: Rng, size: float) -> tuple[Channel, str]:
    """What a logger keeps of a true course: rate, noise, steps, jitter and gaps drawn; and in words how it looked."""
    rate = float(rng.choice([10, 20, 50, 100]))
    times = np.arange(0.0, t[-1], 1.0 / rate)
    how = str(rng.choice(["even", "jittered", "uneven", "quantised", "coloured"]))
    true_times = times + rng.uniform(-0.3, 0.3, len(times)) / rate if how == "jittered" else times
    if how == "uneven":
        true_times = times = np.sort(times[rng.random(len(times)) > 0.4])
    clean = np.interp(true_times, t, y)
    noise = size * float(10 ** rng.uniform(-2.3, -1.0))
    white = rng.standard_normal(len(times))
    if how == "coloured":
        rho = float(rng.uniform(0.3, 0.85))
        for i in range(1, len(white)):
            white[i] = rho * white[i - 1] + math.sqrt(1 - rho**2) * white[i]
    seen = clean + noise * white
    if how == "quantised":
        step = size * float(rng.choice([0.01, 0.03, 0.06]))
        seen = np.round(seen / step) * step
    return Channel("signal", "kPa", times, seen), how


Held = dict[str, list[tuple[bool, float, str]]]


def _note(held: Held, name: str, found: Estimate | None, true: float, how: str) -> None:
    if found is None:
        held[name].append((False, math.inf, how))
        return
    pull = (found.value - true) / found.sd if found.sd > 0 else (0.0 if found.value == true else math.inf)
    held[name].append((found.low <= true <= found.high, pull, how))


def steps(rng: Rng, held: Held, index: int) -> None:
    """A command and what followed."""
    plant = PLANTS[index % len(PLANTS)]
    t, y, true = integrated(plant, rng, 14.0, 3.0)
    channel, how = sampled(t, y, rng, abs(true["gain"]))
    found = response(channel, 3.0, 0.0, 14.0)
    for name in ("before", "gain", "dead", "lag", "reached"):
        _note(held, f"step: {name}", getattr(found, name) if found and found.moved else None, true[name], f"{plant}, {how}")


def rests(rng: Rng, held: Held) -> None:
    """A level that is not zero at rest."""
    level, size = float(rng.uniform(-5, 50)), float(10 ** rng.uniform(-1, 1))
    t = np.arange(0, 12, DT)
    channel, how = sampled(t, np.full_like(t, level), rng, size)
    _note(held, "offset at rest", settled_level(channel), level, how)


def trends(rng: Rng, held: Held) -> None:
    """A pressure that is held and lost, straight or towards ambient."""
    t = np.arange(0, 30, DT)
    size, rate = float(10 ** rng.uniform(-1, 1)), float(rng.normal(0, 0.05))
    channel, how = sampled(t, 30 + size * rate * t, rng, size)
    _note(held, "slope", slope(channel), size * rate, how)
    lag, end, begin = float(10 ** rng.uniform(0.2, 1.1)), float(rng.uniform(-2, 2)) * size, 0.0
    begin = end + size * float(rng.choice([-1, 1])) * float(rng.uniform(0.8, 3))
    channel, how = sampled(t, end + (begin - end) * np.exp(-t / lag), rng, size)
    found = decay(channel)
    _note(held, "decay: time constant", found.lag if found else None, lag, how)


def pairs(rng: Rng, held: Held) -> None:
    """What is reported against a reference, and two signals that share a part of their movement."""
    t = np.arange(0, 20, DT)
    walk = np.interp(t, np.arange(0, 21, 1.0), np.cumsum(rng.normal(0, 1, 21)))
    gain, offset = float(rng.uniform(0.7, 1.3)), float(rng.uniform(-3, 3))
    size = float(np.ptp(walk)) * 0.1
    reference, how = sampled(t, walk, rng, size * 0.2)
    reported, how2 = sampled(t, offset + gain * walk, rng, size)
    found = line(reported, reference)
    _note(held, "reported against reference: gain", found.gain if found else None, gain, f"{how}/{how2}")
    true_r = float(rng.uniform(-0.9, 0.9))
    n = 2000
    x = rng.standard_normal(n)
    other = true_r * x + math.sqrt(1 - true_r**2) * rng.standard_normal(n)
    clock = np.arange(n) * 0.01
    pair = together(Channel("a", "", clock, x), Channel("b", "", clock, other), 0.0)
    assert pair is not None
    held["correlation"].append(
        (pair.low <= true_r <= pair.high, (math.atanh(pair.r) - math.atanh(true_r)) * math.sqrt(n - 3), "white")
    )


def spells(rng: Rng, held: Held) -> None:
    """Dropouts at random: is the rate in its interval, and does the chance of having seen any hold?"""
    duration, rate = 60.0, float(rng.uniform(1, 20))
    t = np.arange(0, duration, DT)
    y = np.full_like(t, 2.5)
    count, spell = int(rng.poisson(rate * duration / 60)), float(rng.uniform(0.15, 0.5))
    for at in rng.uniform(1, duration - 2, count):
        y[int(at / DT) : int((at + spell) / DT)] = 0.1
    times = np.arange(0, duration, 0.02)
    found = dropouts(Channel("signal", "V", times, np.interp(times, t, y) + rng.normal(0, 0.01, len(times))))
    assert found is not None
    held["dropouts: rate"].append(
        (found.low <= rate <= found.high, (found.per_minute - rate) / math.sqrt(max(rate, 1e-9)), "50 Hz")
    )


def seen_share(rng: Rng, cases: int = 2000) -> tuple[float, float]:
    """(stated, found) share of slow recordings that show at least one of the short spells."""
    spell, rate, sample, duration = 0.1, 6.0, 0.2, 30.0
    shown = 0
    for _ in range(cases):
        starts = rng.uniform(0, duration, int(rng.poisson(rate * duration / 60)))
        clock = rng.uniform(0, sample) + np.arange(0, duration, sample)
        shown += bool(any(np.any((clock >= s) & (clock < s + spell)) for s in starts))
    return chance_seen(spell, rate, duration, sample), shown / cases


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cases", type=int, default=600)
    parser.add_argument("--seed", type=int, default=5)
    parser.add_argument("--by", action="store_true", help="also by plant and logger")
    chosen = parser.parse_args()
    held: Held = defaultdict(list)
    for index in range(chosen.cases):
        rng = np.random.default_rng([chosen.seed, index])
        steps(rng, held, index)
        others: list[Callable[[Rng, Held], None]] = [rests, trends, pairs, spells]
        others[index % 4](rng, held)
    print(f"{'feature':40} {'n':>5} {'in 95 %':>8} {'interval':>16} {'bias σ':>8} {'none':>5}")
    for name, rows in held.items():
        n, inside = len(rows), sum(ok for ok, _, _ in rows)
        sure = binomtest(inside, n).proportion_ci(0.95, "wilson")
        low, high = sure.low, sure.high
        pulls = [p for _, p, _ in rows if math.isfinite(p)]
        print(
            f"{name:40} {n:5} {100 * inside / n:7.1f}% {100 * low:6.1f} … {100 * high:5.1f}% {np.median(pulls):8.2f} {n - len(pulls):5}"
        )
        if chosen.by:
            groups: dict[str, list[bool]] = defaultdict(list)
            for ok, _, how in rows:
                for word in how.split(", "):
                    groups[word].append(ok)
            print("   " + "; ".join(f"{word} {100 * np.mean(oks):.0f} % of {len(oks)}" for word, oks in sorted(groups.items())))
    stated, found = seen_share(np.random.default_rng(chosen.seed))
    print(f"chance that a slow recording shows a spell: stated {100 * stated:.1f} %, found {100 * found:.1f} %")
