"""Operating points per second against ngspice doing the same points in its fastest way: one process, built-in DC sweep.

The sweep: the fan relay's control wire from 0.05 Ω to 40 Ω, fan commanded, motor, coil, relay and driver in the circuit. (Near
55 Ω the relay chatters, and neither program has an operating point to give.) ngspice sweeps the resistor itself (``.dc``) and
writes a binary file; its start-up is taken off by a second run with few points. Sondar solves the same points as hypotheses of
one set-up, its factorisation included. The voltages of all points at all nodes are compared as well.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import tempfile
import time
from pathlib import Path

import numpy as np

from benchmarks.hidden_faults import CIRCUITS
from sondar.circuit_files import load_circuit_text
from sondar.core.circuit.model import CHASSIS, Change
from sondar.core.circuit.network import Circuit
from sondar.core.solving.operating_points import SAMPLES
from sondar.core.solving.solver import SetupSolver
from sondar.core.solving.spice import netlist

WIRE, LOW_OHM, HIGH_OHM = "W8", 0.05, 40.0
CHUNK = 4000


def ngspice_sweep(circuit: Circuit, count: int, folder: Path) -> tuple[float, np.ndarray, list[str]]:
    """Seconds of one ngspice process, voltages (count, n_nodes), node names in Sondar's spelling."""
    setup = circuit.named_setup("commanded")
    lines, names = netlist(circuit, setup)
    index = [b.id for b in circuit.branches(setup)].index(WIRE)
    step = (HIGH_OHM - LOW_OHM) / (count - 1)
    raw = folder / f"sweep{count}.raw"
    nodes = [n for n in names if names[n] != "0"]
    deck = [
        "* sweep", ".options gmin=1e-15 reltol=1e-6 vntol=1e-8", *lines, f".dc R{index} {LOW_OHM} {HIGH_OHM + step / 2} {step!r}",
        f".save {' '.join(f'v({names[n]})' for n in nodes)}", ".end",
    ]  # fmt: skip
    path = folder / "sweep.cir"
    path.write_text("\n".join(deck))
    start = time.perf_counter()
    subprocess.run(["ngspice", "-b", "-r", str(raw), str(path)], check=True, capture_output=True)
    seconds = time.perf_counter() - start
    data = raw.read_bytes()
    head, body = data.split(b"Binary:\n", 1)
    listed = [line.split()[1].decode() for line in head.split(b"Variables:\n")[1].strip().splitlines()]
    table = np.frombuffer(body, dtype=np.float64).reshape(-1, len(listed))[:count]
    order = [listed.index(f"v({names[n]})") for n in nodes]
    return seconds, table[:, order], nodes


def sondar_sweep(circuit: Circuit, count: int, nodes: list[str], samples: int = 1) -> tuple[float, np.ndarray]:
    """Seconds and nominal voltages (count, n_nodes), factorisation included; ``samples`` vehicles for each resistance."""
    setup = circuit.named_setup("commanded")
    hypotheses = [(Change(WIRE, set_ohm=float(r)),) for r in np.linspace(LOW_OHM, HIGH_OHM, count)]
    start = time.perf_counter()
    solver = SetupSolver(circuit, setup, [(node, CHASSIS) for node in nodes], samples=samples)
    parts = [solver.solve(hypotheses[i : i + CHUNK // samples]).volts[0] for i in range(0, count, CHUNK // samples)]
    return time.perf_counter() - start, np.concatenate(parts)


def main() -> None:
    """Best of several interleaved runs, as points per second and as a ratio."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--points", type=int, default=20000)
    parser.add_argument("--rounds", type=int, default=5)
    arguments = parser.parse_args()
    circuit = Circuit(load_circuit_text((CIRCUITS / "radiator-fan-relay.yaml").read_text(encoding="utf-8")))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        theirs, ours, idle, ensemble = [], [], [], []
        for _ in range(arguments.rounds):
            idle.append(ngspice_sweep(circuit, 10, folder)[0])
            seconds, expected, nodes = ngspice_sweep(circuit, arguments.points, folder)
            theirs.append(seconds)
            seconds, found = sondar_sweep(circuit, arguments.points, nodes)
            ours.append(seconds)
            ensemble.append(sondar_sweep(circuit, arguments.points // SAMPLES, nodes, SAMPLES)[0])
    wrong = np.abs(found - expected) / np.maximum(1e-3, 1e-3 * np.abs(expected))
    spice_rate = arguments.points / (min(theirs) - min(idle))
    our_rate = arguments.points / min(ours)
    print(
        json.dumps(
            {
                "points": arguments.points,
                "nodes": len(nodes),
                "ngspice_points_per_s": round(spice_rate),
                "sondar_points_per_s": round(our_rate),
                "ratio": round(our_rate / spice_rate, 2),
                "sondar_points_per_s_as_used_with_tolerances": round(arguments.points // SAMPLES * SAMPLES / min(ensemble)),
                "ratio_as_used_with_tolerances": round(arguments.points // SAMPLES * SAMPLES / min(ensemble) / spice_rate, 2),
                "worst_difference_in_allowances_of_1mV_or_0.1pct": round(float(wrong.max()), 4),
            },
            indent=2,
        )
    )


if __name__ == "__main__":
    main()
