"""Belief against exact inference by a general Bayesian-network package (pyAgrum) on the same tables: same numbers, and the time.

The network of a circuit in a set-up: one node for what is wrong, and one per test with its outcome classes, given what is wrong.
Some tests are observed; both give the posterior of what is wrong. pyAgrum by lazy propagation (Madsen and Jensen, 1999) with the network
built beforehand; Sondar by the product of the tables' rows, as the plan does it. Run: ``./run bench belief`` (``--rounds 20 --seed 5``).
"""

from __future__ import annotations

import argparse
import json
import time

import numpy as np

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.predictions import CLASSES, Predictor

OBSERVED = 6


def main() -> None:
    """Compare on several circuits and print the largest difference and the ratio of times."""
    import pyagrum

    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=20)
    parser.add_argument("--seed", type=int, default=5)
    arguments = parser.parse_args()
    rng = np.random.default_rng(arguments.seed)
    for name in ("ambient-temperature", "radiator-fan-relay", "tessel-air-mass"):
        predictor = Predictor(Circuit(load_circuit_text(library_circuits()[name])))
        predictions = predictor.setup(predictor.circuit.setup({"key": "on"}))
        prior = predictor.hypotheses.prior
        table = np.zeros((len(predictions.tests), CLASSES, len(prior)))
        owner = np.repeat(np.arange(len(predictions.tests)), np.diff(predictions.first))
        table[owner, predictions.outcome] = predictions.chance
        table /= table.sum(axis=1, keepdims=True)  # (T, K, H)
        network = pyagrum.BayesNet(name)
        wrong = network.add(pyagrum.LabelizedVariable("wrong", "", len(prior)))
        network.cpt(wrong).fillWith(prior.tolist())
        for index, rows in enumerate(table):
            test = network.add(pyagrum.LabelizedVariable(f"t{index}", "", rows.shape[0]))
            network.addArc(wrong, test)
            network.cpt(test)[:] = np.ascontiguousarray(rows.T)
        engine = pyagrum.LazyPropagation(network)
        worst, theirs, ours = 0.0, [], []
        for _ in range(arguments.rounds):
            truth = int(rng.choice(len(prior), p=prior))
            chosen = rng.choice(len(table), OBSERVED, replace=False)
            seen = {int(t): int(rng.choice(table.shape[1], p=table[t, :, truth])) for t in chosen}
            begun = time.perf_counter()
            engine.setEvidence({f"t{t}": k for t, k in seen.items()})
            engine.makeInference()
            expected = engine.posterior("wrong").toarray()
            theirs.append(time.perf_counter() - begun)
            begun = time.perf_counter()
            found = prior * np.prod([table[t, k] for t, k in seen.items()], axis=0)
            found /= found.sum()
            ours.append(time.perf_counter() - begun)
            worst = max(worst, float(np.abs(found - expected).max()))
        print(json.dumps({"circuit": name, "hypotheses": len(prior), "tests": len(table), "observed": OBSERVED,
                          "largest difference": f"{worst:.1e}",
                          "their time over ours": round(float(np.median(theirs) / np.median(ours)))}))  # fmt: skip


if __name__ == "__main__":
    main()
