"""Fault–test tables: how near Sondar's order is to the optimum and to the bound, and what a step costs as tables grow.

Random tables: probabilities from a Dirichlet distribution (a few likely states, many rare ones), costs uniform over a decade, each
test failing in about half of the states. Small ones are solved exactly; on larger ones the cost is set against the Huffman bound at the
cheapest test's cost. A step is ranking every test once in the first situation. Run: ``./run bench tables`` (``--tables 200 --seed 3``).
"""

from __future__ import annotations

import argparse
import json
import time

import numpy as np

from sondar.core.diagnosis.sequencing import SequencingProblem, Table, huffman_cost, read_table, sequence

SIZES = ((50, 50), (100, 100), (200, 200), (200, 300), (400, 400), (500, 500))


def random_table(rng: np.random.Generator, states: int, tests: int, uncertain: bool = False) -> Table:
    """A table as described above; uncertain ones fail with 0.05 or 0.95."""
    fails = rng.random((tests, states)) < 0.5
    p_fail = np.where(fails, 0.95, 0.05) if uncertain else fails.astype(float)
    return read_table({
        "states": [{"id": f"s{i}", "p": float(p)} for i, p in enumerate(rng.dirichlet(np.full(states, 0.7)))],
        "tests": [
            {"id": f"t{j}", "cost": float(rng.uniform(1.0, 10.0)), "p_fail": {f"s{i}": float(v) for i, v in enumerate(row) if v}}
            for j, row in enumerate(p_fail)
        ],
    })  # fmt: skip


def main() -> None:
    """Print ratios and the growth of a step."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--tables", type=int, default=200)
    parser.add_argument("--seed", type=int, default=3)
    arguments = parser.parse_args()
    rng = np.random.default_rng(arguments.seed)
    ratios: dict[str, list[float]] = {"sondar": [], "order": []}
    for _ in range(arguments.tables):
        table = random_table(rng, int(rng.integers(5, 11)), int(rng.integers(6, 13)))
        best = sequence(table)
        assert best.exact
        if best.expected_cost > 0.0:
            for policy, found in ratios.items():
                found.append(sequence(table, policy).expected_cost / best.expected_cost)  # type: ignore[arg-type]
    for policy, found in ratios.items():
        print(json.dumps({"policy": policy, "tables": len(found), "mean cost over optimum": round(float(np.mean(found)), 4),
                          "p95": round(float(np.percentile(found, 95)), 3), "worst": round(max(found), 3),
                          "optimal": round(float(np.mean(np.array(found) < 1 + 1e-9)), 3)}))  # fmt: skip
    above = []
    for _ in range(8):
        table = random_table(rng, 60, 80)
        bound = huffman_cost(np.array([s.p for s in table.states]), min(t.cost for t in table.tests))
        above.append(sequence(table, "sondar", budget=1).expected_cost / bound)
    print(json.dumps({"60 states x 80 tests, cost over the Huffman bound": round(float(np.mean(above)), 2)}))
    first: float | None = None
    for states, tests in SIZES:
        problem = SequencingProblem(random_table(rng, states, tests, uncertain=True), budget=1)
        left = problem.prior / problem.prior.sum()
        spans = []
        for _ in range(30):
            begun = time.perf_counter()
            problem.ranked(left, frozenset())
            spans.append(time.perf_counter() - begun)
        step = float(np.median(spans))
        per = step / (states * tests)
        first = per if first is None else first
        print(
            json.dumps(
                {
                    "states": states,
                    "tests": tests,
                    "ms per step": round(1e3 * step, 2),
                    "per state x test, over the smallest": round(per / first, 2),
                }
            )
        )


if __name__ == "__main__":
    main()
