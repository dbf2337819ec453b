"""Does a recording fit together? What physics asks of several channels at once, with the engine standing or running.

Channels are known by their names and units, as scan tools and OBD service 01 write them. Nothing here is evidence: it says which sensor
to look at, and what else would explain it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from sondar.core.engine_air import FILLED, by_trims, drawn_kg_s
from sondar.core.recordings.estimate import Estimate
from sondar.core.recordings.model import Array, Channel
from sondar.core.recordings.together import together

STANDING_RPM, RUNNING_RPM = 50.0, 400.0
WINDOW_S = 4.0
"""A stretch this long is one point; the engine must run steadily in it."""
STEADY_RPM, STEADY_SHARE = 60.0, 0.06
"""How far the speed may wander in a steady stretch: the larger of both."""
PRESSURES_AGREE_KPA, TEMPERATURES_AGREE_K, ZERO_KPA = 2.5, 7.0, 0.5
"""Within which absolute pressures and temperatures of a standing engine are equal, and a differential pressure is zero: what good
sensors of a vehicle differ by."""
FLOWS_APART = 1.8
"""Ratio of greatest to least flow from which low and high flow are told apart."""
BANKS_APART_PERCENT = 8.0
MOVED = 6.0
"""Times its noise by which a driver must have moved for what it drives to be asked."""
FOLLOWS_R = 0.5

PRESSURE = {"kpa": 1.0, "mbar": 0.1, "hpa": 0.1, "bar": 100.0, "pa": 0.001, "psi": 6.894757}
"""Units in kilopascals (NIST SP 811, appendix B.8)."""
FLOW = {"g/s": 1.0, "kg/h": 1.0 / 3.6, "kg/hr": 1.0 / 3.6}
TURNING = ("rpm", "1/min", "/min", "min-1", "u/min", "r/min")


@dataclass(frozen=True)
class Check:
    """What one law says of a recording.

    Attributes:
        verdict: ``agrees``, ``differs`` or ``not told`` (what is missing stands in ``words``).
        channels: names of those it rests on. start_s, end_s: where. figures: what was compared, by name.
    """

    id: str
    title: str
    verdict: str
    words: str
    because: str = ""
    channels: tuple[str, ...] = ()
    start_s: float = 0.0
    end_s: float = 0.0
    figures: tuple[tuple[str, Estimate], ...] = ()


def quantity_of(name: str, unit: str) -> tuple[str, float] | None:
    """What a channel is, and the factor to its unit here (kPa, g/s, °C, %, 1/min); None if its name does not say."""
    words, measure = name.lower(), unit.lower().replace(" ", "").replace("⁻¹", "-1")
    if measure in TURNING and ("engine" in words or words.strip() in ("speed", "rpm", "n")):
        return "speed", 1.0
    if measure in FLOW and "air" in words and "fuel" not in words:
        return "air mass", FLOW[measure]
    if measure in PRESSURE:
        factor = PRESSURE[measure]
        if "differ" in words:
            return "differential pressure", factor
        if any(word in words for word in ("barometric", "ambient", "atmospheric")):
            return "ambient pressure", factor
        if any(word in words for word in ("manifold", "intake", "boost", "charge")):
            return "manifold pressure", factor
        return None
    if measure in ("°c", "degc", "c"):
        if "intake" in words or "charge air" in words:
            return "intake temperature", 1.0
        return ("temperature", 1.0) if any(w in words for w in ("coolant", "oil", "ambient", "outside", "fuel")) else None
    if measure == "%":
        for word, found in (
            ("trim", "trim"),
            ("accelerator", "pedal"),
            ("pedal", "pedal"),
            ("throttle", "throttle"),
            ("load", "load"),
        ):
            if word in words:
                return found, 1.0
    return None


def checks(channels: Sequence[Channel], displacement_m3: float | None) -> list[Check]:
    """Every law that these channels can be held against, those that differ first.

    Args:
        channels: of one stretch. displacement_m3: of the engine, if it is known.
    """
    known: dict[str, list[Channel]] = {}
    for channel in channels:
        found = quantity_of(channel.name, channel.unit)
        if found is not None and len(channel.t) >= 3 and channel.role != "command":
            kind, factor = found
            known.setdefault(kind, []).append(
                Channel(channel.name, channel.unit, channel.t, factor * channel.y, channel.role, factor * channel.bound)
            )
    made = [
        *_standing_pressures(known),
        *_standing_temperatures(known),
        *_differential(known),
        *_moving_together(known),
        *_air(known, displacement_m3),
    ]
    order = {"differs": 0, "agrees": 1, "not told": 2}
    return sorted(made, key=lambda check: order[check.verdict])


# -- the engine standing ----------------------------------------------------------------------------------


def _standing(known: Mapping[str, Sequence[Channel]]) -> tuple[float, float] | None:
    """The first stretch in which the engine stands; None if it runs all the time or nobody knows."""
    speed = next(iter(known.get("speed", ())), None)
    if speed is None:
        return None
    still = speed.y < STANDING_RPM
    if not still.any():
        return None
    first = int(np.argmax(still))
    after = np.flatnonzero(~still[first:])
    last = first + int(after[0]) - 1 if after.size else len(still) - 1
    return (float(speed.t[first]), float(speed.t[last])) if last - first >= 2 else None


def _levels(channels: Sequence[Channel], where: tuple[float, float]) -> dict[str, Estimate]:
    found = {}
    for channel in channels:
        part = channel.within(*where)
        if len(part.y) >= 2:
            found[channel.name] = _mean(part.y, part.resolution, part.bound)
    return found


def _mean(y: Array, step: float, bound: float = 0.0) -> Estimate:
    sd = float(y.std(ddof=1)) / np.sqrt(len(y)) if len(y) > 1 else 0.0
    return Estimate(float(y.mean()), float(np.sqrt(sd**2 + step**2 / 12.0 + bound**2 / 3.0)))


def _odd_one(levels: Mapping[str, Estimate], allowed: float) -> str:
    """The level furthest from the middle of the others, if it is away by more than is allowed and known; empty if none is."""
    worst, by = "", 0.0
    for name, level in levels.items():
        others = [one.value for other, one in levels.items() if other != name]
        away = abs(level.value - float(np.median(others))) - allowed - 2.0 * level.sd
        if away > by:
            worst, by = name, away
    return worst


def _alike(
    id_: str, title: str, levels: Mapping[str, Estimate], allowed: float, unit: str, where: tuple[float, float], if_: str
) -> list[Check]:
    if len(levels) < 2:
        return []
    worst = _odd_one(levels, allowed)
    shown = tuple((name, Estimate(one.value, one.sd, unit)) for name, one in levels.items())
    if not worst:
        words = f"They agree within {allowed:g} {unit}."
        return [Check(id_, title, "agrees", words, if_, tuple(levels), *where, shown)]
    names = [f"{name} {one.value:.4g} {unit}" for name, one in levels.items()]
    told = (
        f"{worst} stands apart from the others"
        if len(levels) > 2
        else f"{' and '.join(levels)} differ; a third would tell which is wrong"
    )
    return [Check(id_, title, "differs", f"{told}: {', '.join(names)}.", if_, tuple(levels), *where, shown)]


def _standing_pressures(known: Mapping[str, Sequence[Channel]]) -> list[Check]:
    where = _standing(known)
    found = [*known.get("manifold pressure", ()), *known.get("ambient pressure", ())]
    if where is None:
        return []
    levels = {name: one for name, one in _levels(found, where).items() if one.value > 40.0}  # a gauge pressure is no absolute one
    because = "With the engine standing every absolute pressure is that of the air outside."
    return _alike("standing-pressures", "Absolute pressures, engine standing", levels, PRESSURES_AGREE_KPA, "kPa", where, because)


def _standing_temperatures(known: Mapping[str, Sequence[Channel]]) -> list[Check]:
    where = _standing(known)
    found = [*known.get("temperature", ()), *known.get("intake temperature", ())]
    if where is None:
        return []
    because = "After a night everything has the temperature of the air. It says nothing of a vehicle that has just been driven."
    levels = _levels(found, where)
    return _alike("standing-temperatures", "Temperatures after a cold soak", levels, TEMPERATURES_AGREE_K, "°C", where, because)


def _differential(known: Mapping[str, Sequence[Channel]]) -> list[Check]:
    where, found = _standing(known), []
    for channel in known.get("differential pressure", ()):
        if where is None:
            continue
        level = _levels([channel], where).get(channel.name)
        if level is None:
            continue
        id_, title, shown = (
            f"zero {channel.name}",
            f"{channel.name}, engine standing",
            ((channel.name, Estimate(level.value, level.sd, "kPa")),),
        )
        if abs(level.value) - 2.0 * level.sd > ZERO_KPA:
            words = f"{level.value:.3g} kPa with nothing flowing: the sensor is off, its lines are blocked or swapped, or it was never set to zero."
            found.append(
                Check(id_, title, "differs", words, "Nothing flows, so nothing falls across it.", (channel.name,), *where, shown)
            )
        else:
            found.append(Check(id_, title, "agrees", "It is zero, as it must be.", "", (channel.name,), *where, shown))
    return found


# -- the engine running -----------------------------------------------------------------------------------


DRIVEN = (
    ("pedal", "throttle"),
    ("throttle", "manifold pressure"),
    ("throttle", "air mass"),
    ("pedal", "air mass"),
    ("speed", "air mass"),
)
"""What moves, and what must then move with it."""


def _moving_together(known: Mapping[str, Sequence[Channel]]) -> list[Check]:
    found = []
    for driver, driven in DRIVEN:
        for one in known.get(driver, ())[:2]:
            spread = float(np.quantile(one.y, 0.95) - np.quantile(one.y, 0.05))
            if spread < MOVED * max(one.resolution, 1e-9) or spread < 0.1 * max(abs(float(np.median(one.y))), 1e-9):
                continue
            for other in known.get(driven, ())[:2]:
                pair = together(one, other)
                if pair is None:
                    continue
                where = max(one.t[0], other.t[0]), min(one.t[-1], other.t[-1])
                id_, title = f"{one.name} > {other.name}", f"{other.name} follows {one.name}"
                names = (one.name, other.name)
                if pair.high < FOLLOWS_R and pair.r < FOLLOWS_R:
                    words = f"{one.name} moves and {other.name} hardly moves with it (correlation {pair.r:.2f}, {pair.low:.2f} to {pair.high:.2f})."
                    found.append(Check(id_, title, "differs", words, "One cannot move without the other.", names, *where))
                elif pair.low > 0.0:
                    words = f"They move together (correlation {pair.r:.2f})."
                    found.append(Check(id_, title, "agrees", words, "", names, *where))
    return found


@dataclass(frozen=True)
class _Steady:
    """One stretch in which the engine runs steadily, by its means."""

    start_s: float
    end_s: float
    means: Mapping[str, float]


def _steady(known: Mapping[str, Sequence[Channel]], wanted: Sequence[Channel]) -> list[_Steady]:
    speed = known["speed"][0]
    edges = np.arange(speed.t[0], speed.t[-1] + 1e-9, WINDOW_S)
    found = []
    for a, b in pairwise(edges):
        inside = speed.within(a, b).y
        if len(inside) < 3 or inside.min() < RUNNING_RPM or np.ptp(inside) > max(STEADY_RPM, STEADY_SHARE * inside.mean()):
            continue
        parts = {channel.name: channel.within(a, b).y for channel in wanted}
        if all(len(y) for y in parts.values()):
            found.append(_Steady(float(a), float(b), {name: float(y.mean()) for name, y in parts.items()}))
    return found


def _air(known: Mapping[str, Sequence[Channel]], displacement_m3: float | None) -> list[Check]:
    """Air mass against what the engine draws, fuel trims over load, and what both say together."""
    if not known.get("speed") or not (known.get("air mass") or known.get("trim")):
        return []
    air, fuel = _air_mass(known, displacement_m3), _trims(known)
    if air and fuel and air.verdict == fuel.verdict == "differs":
        low, high = (one.value for _, one in air.figures[:2]) if len(air.figures) > 1 else (air.figures[0][1].value,) * 2
        grows = "more air flows" in fuel.because and "added" in fuel.because
        if grows and high < FILLED[0]:
            both = (
                "Both agree: the air mass is read too low, and more so the more flows. Look at the air mass sensor: a dirty film."
            )
        elif low < FILLED[0] <= high:
            both = "Both agree: air enters behind the air mass sensor. Look for it with smoke before anything is replaced."
        else:
            both = ""
        if both:
            return [Check("air", "Air mass and fuel trims together", "differs", both, f"{air.words} {fuel.words}",
                          (*air.channels, *fuel.channels), air.start_s, air.end_s), air, fuel]  # fmt: skip
    if air and fuel and air.verdict == "agrees" and fuel.verdict == "differs" and "sags with demand" in fuel.words:
        words = "The air mass is what the engine draws, and fuel is added with load: measure fuel pressure under load."
        return [Check("air", "Air mass and fuel trims together", "differs", words, f"{air.words} {fuel.words}",
                      (*air.channels, *fuel.channels), air.start_s, air.end_s), air, fuel]  # fmt: skip
    return [one for one in (air, fuel) if one is not None]


def _air_mass(known: Mapping[str, Sequence[Channel]], displacement_m3: float | None) -> Check | None:
    title = "Air mass against what the engine draws"
    reported = next(iter(known.get("air mass", ())), None)
    if reported is None:
        return None
    absent = [
        words
        for kind, words in (("manifold pressure", "manifold pressure"), ("intake temperature", "intake air temperature"))
        if kind not in known
    ]
    absent += [] if displacement_m3 else ["the engine's displacement"]
    if absent:
        return Check("air-mass", title, "not told", f"It needs {' and '.join(absent)} as well.", "", (reported.name,))
    assert displacement_m3 is not None
    speed, pressure, intake = (known[kind][0] for kind in ("speed", "manifold pressure", "intake temperature"))
    points = _steady(known, [reported, speed, pressure, intake])
    if not points:
        return Check("air-mass", title, "not told", f"It needs {WINDOW_S:g} s at a steady speed.", "", (reported.name,))
    flow = np.array([point.means[reported.name] for point in points])
    full = np.array([
        1000.0 * drawn_kg_s(displacement_m3, p.means[speed.name], 1000.0 * p.means[pressure.name], p.means[intake.name], 1.0) for p in points
    ])  # fmt: skip
    share = flow / full
    names = (reported.name, speed.name, pressure.name, intake.name)
    where = (points[0].start_s, points[-1].end_s)
    low = full < np.sqrt(full.min() * full.max()) if full.max() > FLOWS_APART * full.min() else np.zeros(len(full), dtype=bool)
    groups = [("at low flow", share[low]), ("at high flow", share[~low])] if low.any() else [("at this flow", share)]
    shown = tuple((f"Filled {words}", _mean(values, 0.0)) for words, values in groups)
    least, most = FILLED[0], FILLED[1]
    values = [one.value for _, one in shown]
    because = (
        f"A healthy engine without boost fills {100 * least:.0f} to {100 * most:.0f} % of its displacement at the pressure in its manifold; here "
        + ", ".join(f"{100 * one.value:.0f} % {name.removeprefix('Filled ')}" for name, one in shown)
        + ". Recirculated exhaust gas takes the place of air: shut it for this test."
    )
    if all(least <= value <= most * 1.08 for value in values):
        return Check("air-mass", title, "agrees", "The air mass reported is what the engine draws.", because, names, *where, shown)
    if max(values) > most * 1.08:
        words = "More air is reported than the engine can draw: the sensor reads high, or displacement or manifold pressure is not right."
    elif len(values) > 1 and values[0] >= least > values[1]:
        words = "Too little is reported the more flows: a dirty film reads like this."
    elif len(values) > 1 and values[0] < least <= values[1]:
        words = "Too little is reported at idle and enough at high flow: air enters behind the sensor."
    else:
        words = "Too little is reported: the sensor reads low, or air enters behind it, or displacement is not right."
    return Check("air-mass", title, "differs", words, because, names, *where, shown)


def _trims(known: Mapping[str, Sequence[Channel]]) -> Check | None:
    title = "Fuel trims over load"
    trims = known.get("trim", ())
    burden = next((known[kind][0] for kind in ("air mass", "load", "manifold pressure") if kind in known), None)
    if not trims or burden is None:
        return None
    points = _steady(known, [*trims, burden, known["speed"][0]])
    load = np.array([point.means[burden.name] for point in points])
    if len(points) < 2 or load.max() < FLOWS_APART * load.min():
        return Check("trims", title, "not told", "It needs idle and load: hold the engine steady at both for a few seconds.", "",
                     tuple(one.name for one in trims))  # fmt: skip
    banks = sorted({_bank(one.name) for one in trims})
    by_bank = {
        bank: np.array([sum(p.means[one.name] for one in trims if _bank(one.name) == bank) for p in points]) for bank in banks
    }
    total = np.mean(list(by_bank.values()), axis=0)
    edges = load.min() * (load.max() / load.min()) ** np.array([1 / 3, 2 / 3])
    group = np.searchsorted(edges, load)
    idle, load_ = float(total[group == 0].mean()), float(total[group == 2].mean())
    part = float(total[group == 1].mean()) if (group == 1).any() else 0.5 * (idle + load_)
    verdict = by_trims(idle, part, load_)
    shown = tuple((words, Estimate(value, 0.0, "%")) for words, value in (("idle", idle), ("part load", part), ("load", load_)))
    fine = "within what healthy" in verdict.words
    words = verdict.words
    if len(banks) > 1:
        apart = max(float(np.abs(a - b).mean()) for a, b in pairwise(by_bank.values()))
        if apart > BANKS_APART_PERCENT:
            fine, words = (
                False,
                f"The banks differ by {apart:.0f} %: the cause is on one of them, not in the air mass common to both. {words}",
            )
    because = f"Short and long trims together: {idle:+.0f} % at idle, {part:+.0f} % at part load, {load_:+.0f} % at load; {verdict.because}."
    names = tuple(one.name for one in trims)
    return Check("trims", title, "agrees" if fine else "differs", words, because, names, points[0].start_s, points[-1].end_s, shown)


def _bank(name: str) -> str:
    return "2" if "bank 2" in name.lower() or name.strip().endswith("2") else "1"
