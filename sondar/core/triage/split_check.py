"""The cheapest check that splits the candidates: one voltage, nothing disconnected."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Setup
from sondar.core.triage.model import Posterior, TriageModel
from sondar.core.triage.views import SplitCheck, SplitOutcome

Array = npt.NDArray[np.float64]
Ints = npt.NDArray[np.intp]

SPLIT_GAP_V = 0.6
SPLIT_FROM = 40


def split_check(model: TriageModel, posterior: Posterior) -> SplitCheck | None:
    """The voltage that splits the candidates best for its minutes; None if nothing is left to split."""
    order = np.argsort(-posterior.fault)[:SPLIT_FROM]
    weight = posterior.fault[order] / posterior.fault[order].sum()
    labels = [model.sections[i].id for i in order]
    clusters = {name: index for index, name in enumerate(dict.fromkeys(labels))}
    if len(clusters) < 2:
        return None
    member = np.zeros((len(order), len(clusters)))
    member[np.arange(len(order)), [clusters[label] for label in labels]] = 1.0
    now = float(((weight @ member) ** 2).sum())
    if now > 0.95:
        return None
    hypotheses = [model.listed[i][1].changes for i in order]
    points, blown = model.split_points, model.blown[order]
    best: tuple[float, SplitCheck] | None = None
    titles = {model.sections[i].id: model.sections[i].title for i in order}
    for setup, minutes, solver in model.split_solvers:
        volts = solver.solve(hypotheses, blown).volts[0]  # (H, P)
        for column, point in enumerate(points):
            groups = _gap_groups(volts[:, column])
            if groups.max() == 0:
                continue
            table = np.stack([(weight * (groups == g)) @ member for g in range(groups.max() + 1)])
            chance = table.sum(axis=1)
            after = float((table**2 / np.maximum(chance, 1e-12)[:, None]).sum())
            saving_per_min = (after - now) / (point.access_min + minutes + 0.5)
            if best is None or saving_per_min > best[0] * 1.0001:
                outcomes = _outcomes(volts[:, column], groups, table, [titles[name] for name in clusters])
                check = SplitCheck(
                    point=point.ref, title=point.title, setup=_moved(model, setup), controls=dict(setup.controls),
                    minutes=point.access_min + minutes + 0.5, certainty_now=now, certainty_after=after, outcomes=outcomes,
                )  # fmt: skip
                best = (saving_per_min, check)
    return best[1] if best is not None and best[1].certainty_after > now + 0.03 else None


def _moved(model: TriageModel, setup: Setup) -> str:
    """The set-up in words, controls at rest left out."""
    rest = model.circuit.rest_setup()
    moved = Setup(tuple(pair for pair in setup.controls if pair[0] == "key" or rest[pair[0]] != pair[1]))
    return moved.describe()


def _outcomes(volts: Array, groups: Ints, table: Array, titles: Sequence[str]) -> list[SplitOutcome]:
    """Ranges of a splitting check and where each points; neighbours that point to the same are one."""
    found: list[SplitOutcome] = []
    for group, row in enumerate(table):
        chance, to = float(row.sum()), titles[int(np.argmax(row))]
        if chance < 0.01:
            continue
        low, high = float(volts[groups == group].min()), float(volts[groups == group].max())
        if found and found[-1].points_to == to:
            last = found.pop()
            low, chance = last.low, chance + last.probability
        found.append(SplitOutcome(low=low, high=high, probability=chance, points_to=to))
    return found


def _gap_groups(values: Array) -> Ints:
    """Group numbers of values that lie within the gap of each other, ascending."""
    order = np.argsort(values)
    step = np.diff(values[order]) > SPLIT_GAP_V
    groups = np.empty(len(values), dtype=np.intp)
    groups[order] = np.concatenate([[0], np.cumsum(step)])
    return groups
