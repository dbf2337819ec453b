"""Hidden faults on the library circuits: Sondar's order against measuring everything in the order of the file.

A technician without judgement follows each policy to its call. Minutes count set-up changes and access alike for both.
Run: ``./run bench hidden-faults`` (``--cases 20 --seed 7``).
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path

import numpy as np

from benchmarks.technician import Case, InFileOrder, Outcome, by_plan, draw, follow
from sondar.circuit_files import load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.predictions import Predictor

CIRCUITS = Path(__file__).parent.parent / "sondar" / "library" / "circuits"


def load(name: str) -> Predictor:
    """A library circuit, ready to predict."""
    return Predictor(Circuit(load_circuit_text((CIRCUITS / f"{name}.yaml").read_text())))


def draw_cases(predictors: dict[str, Predictor], count: int, seed: int) -> list[Case]:
    """Cases drawn from the prior of each circuit in turn."""
    return [case for case, _ in draw(predictors, count, np.random.default_rng(seed))]


def follow_plan(predictor: Predictor, case: Case) -> Outcome:
    """Do what Sondar proposes until it makes a call."""
    return follow(predictor, case, by_plan)


def in_file_order(predictor: Predictor, case: Case) -> Outcome:
    """Measure everything reachable in the order of the file, stopping when Sondar's belief is certain."""
    return follow(predictor, case, InFileOrder(predictor), limit=2000)


def main() -> None:
    """Run the cases and print a table, or JSON."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cases", type=int, default=20)
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--no-baseline", action="store_true")
    arguments = parser.parse_args()
    predictors = {name: load(name) for name in ("radiator-fan-relay", "ambient-temperature")}
    rows = []
    for case in draw_cases(predictors, arguments.cases, arguments.seed):
        ours = follow_plan(predictors[case.circuit], case)
        fixed = None if arguments.no_baseline else in_file_order(predictors[case.circuit], case)
        rows.append((case, ours, fixed))
        if not arguments.json:
            baseline = "" if fixed is None else f"  file order {fixed.minutes:6.1f} min {'right' if fixed.right else 'WRONG'}"
            print(f"{case.circuit[:8]} {case.fault:24}{case.severity:12} {'right' if ours.right else 'WRONG'} {ours.certainty:4.0%} "
                  f"{ours.readings:3d} readings {ours.minutes:5.1f} min {'+'.join(ours.called)}{baseline}", flush=True)  # fmt: skip
    summary = {
        "cases": len(rows),
        "right": sum(o.right for _, o, _ in rows),
        "mean_minutes": float(np.mean([o.minutes for _, o, _ in rows])),
        "mean_class_size": float(np.mean([len(o.called) for _, o, _ in rows])),
    }
    baseline_rows = [f for _, _, f in rows if f is not None]
    if baseline_rows:
        summary["file_order_right"] = sum(f.right for f in baseline_rows)
        summary["file_order_mean_minutes"] = float(np.mean([f.minutes for f in baseline_rows]))
        summary["ratio"] = summary["mean_minutes"] / summary["file_order_mean_minutes"]
    print(json.dumps(summary, indent=None if arguments.json else 2))


if __name__ == "__main__":
    main()
