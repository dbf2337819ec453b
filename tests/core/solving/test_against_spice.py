"""Every family, healthy and under every fault, against ngspice: 0.1 % or 1 mV, and every lamp, motor and relay included."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import numpy as np
import pytest

from sondar.circuit_files import library_circuits
from sondar.core.circuit.families import Plug
from sondar.core.circuit.model import CHASSIS, Change, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.fuses import blown_fuses
from sondar.core.solving.solver import SetupSolver
from sondar.core.solving.spice import netlist
from tests.conftest import circuit_of

SETUPS = {
    "fan": [{}, {"key": "on"}, {"key": "on", "fan": "on"}],
    "ambient": [{"key": "on"}],
    "rail": [{"key": "on"}],
    "trailer": [{"key": "on"}, {"key": "on", "bus": "dominant"}],
    "latch": [{"brake": "pressed"}, {"key": "run", "wash": "on"}, {"key": "on", "latch": "open", "brake": "pressed"}],
}


def spice_volts(folder: Path, circuits: list[tuple[list[str], dict[str, str]]]) -> list[dict[str, float]]:
    """Node voltages of many netlists, run as one ngspice process; empty where it found no operating point."""
    script = ["* control", ".control", "set noaskquit", "set numdgt=10"]
    for index, (lines, names) in enumerate(circuits):
        deck = folder / f"c{index}.cir"
        deck.write_text("\n".join(["* circuit", ".options gmin=1e-15 reltol=1e-7 vntol=1e-9 abstol=1e-13", *lines, ".end"]))
        wanted = " ".join(f"v({n})" for n in names.values() if n != "0")
        script += [f"source {deck}", "op", f"echo CIRCUIT {index}", f"print {wanted}", "remcirc"]
    script += ["quit", ".endc", ".end"]
    (folder / "all.cir").write_text("\n".join(script))
    done = subprocess.run(["ngspice", "-b", str(folder / "all.cir")], capture_output=True, text=True, timeout=600, check=False)
    found: list[dict[str, float]] = [{} for _ in circuits]
    current = -1
    for line in done.stdout.splitlines():
        if line.startswith("CIRCUIT "):
            current = int(line.split()[1])
        match = re.match(r"v\((\w+)\) = ([-+.\deE]+)", line.strip())
        if match and current >= 0:
            found[current][match[1]] = float(match[2])
    return found


@pytest.mark.parametrize("name", ["fan", "ambient", "latch", "rail", "trailer"])
def test_predictions_agree_with_ngspice(name: str, request: pytest.FixtureRequest, tmp_path: Path) -> None:
    circuit: Circuit = request.getfixturevalue(name)
    faults: list[tuple[str, tuple[Change, ...]]] = [("healthy", ())]
    for fault in circuit.faults.values():  # the ends of each severity grid
        chosen = {0, len(fault.severities) // 2} if isinstance(circuit.parts[fault.part], Plug) else {0, len(fault.severities) - 1}
        faults += [(f"{fault.id}:{fault.severities[i].label}", fault.severities[i].changes) for i in sorted(chosen)]
    worst: list[tuple[float, str]] = []
    compared = 0
    for controls in SETUPS[name]:
        setup = circuit.setup(controls)
        compared += _compare(circuit, setup, faults, tmp_path, worst)
    worst.sort(reverse=True)
    assert compared > 1000
    assert worst[0][0] <= 1.0, f"worst of {compared} (in units of the larger of 1 mV and 0.1 %): {worst[:5]}"


SIGNALS = [
    "tessel-purge-valve", "tessel-crank-sensor", "brigg-cam-pickup", "tessel-wheel-speed", "tessel-air-mass", "orvane-front-oxygen",
    "orvane-flap-motor", "tessel-pedal", "tessel-filter-pressure", "brigg-idle-stepper", "orvane-knock", "orvane-wiper-lever",
    "brigg-fuel-gauge", "tessel-digital-humidity",
]  # fmt: skip


@pytest.mark.parametrize("name", SIGNALS)
def test_every_instant_of_what_pulses_agrees_with_ngspice(name: str, tmp_path: Path) -> None:
    """Sensors that make signals, bridges, heaters: at rest with the key on, and each phase of the circuit's own set-up."""
    circuit = circuit_of(library_circuits()[name])
    faults: list[tuple[str, tuple[Change, ...]]] = [("healthy", ())]
    for part in circuit.document.parts:
        for fault in (f for f in circuit.faults.values() if f.part == part):
            faults += [(f"{fault.id}:{s.label}", s.changes) for s in (fault.severities[0], fault.severities[-1])]
    setups = [circuit.setup({"key": "on"}), *(circuit.named_setup(s) for s in circuit.document.setups)]
    worst: list[tuple[float, str]] = []
    compared = 0
    for setup in setups:
        for _, instant in circuit.phases(setup):
            compared += _compare(circuit, instant, faults, tmp_path, worst)
    worst.sort(reverse=True)
    assert compared > 100
    assert worst[0][0] <= 1.0, f"worst of {compared}: {worst[:5]}"


def _compare(
    circuit: Circuit, setup: Setup, faults: list[tuple[str, tuple[Change, ...]]], folder: Path, worst: list[tuple[float, str]]
) -> int:
    changes = [c for _, c in faults]
    blown = blown_fuses(circuit, changes)
    nodes = sorted({n for b in circuit.branches(setup) for n in (b.a, b.b)} - {CHASSIS})
    solver = SetupSolver(circuit, setup, [(n, CHASSIS) for n in nodes], samples=1)
    solved = solver.solve(changes, blown)
    ours = solved.volts[0]
    fuses = [solver.branches[i].id for i in solver.fuses]
    decks = [
        netlist(circuit, setup, c, [f for f, out in zip(fuses, b, strict=True) if out], started=solver.conducting())
        for c, b in zip(changes, blown, strict=True)
    ]
    theirs = spice_volts(folder, decks)
    count = 0
    for index, (label, _) in enumerate(faults):
        names = decks[index][1]
        if not solved.settled[index]:
            continue  # the relay chatters: neither program has an operating point to give
        assert theirs[index], f"ngspice found no operating point for {setup.describe()} {label}, Sondar did"
        for position, node in enumerate(nodes):
            expected = theirs[index][names[node]]
            allowed = max(1e-3, 1e-3 * abs(expected))
            worst.append((abs(ours[index, position] - expected) / allowed, f"{setup.describe()} {label} at {node}"))
            count += 1
    return count


def test_voltmeter_load_agrees_with_ngspice(ambient: Circuit, tmp_path: Path) -> None:
    """10 MΩ across a floating section: the reading is what the load makes of it."""
    setup = ambient.setup({"key": "on"}, frozenset({"X12"}))
    changes = ambient.faults["W2.to_supply"].severities[-1].changes
    red, black = ambient.node("X31.1"), ambient.node("BAT.neg")
    points = SetupSolver(ambient, setup, [(red, black)], samples=1).solve([changes])
    shown = points.volts[0, 0, 0] * 1e7 / (1e7 + points.ohms[0, 0, 0])
    lines, names = netlist(ambient, setup, changes, loads=[(red, black, 1e7)])
    volts = spice_volts(tmp_path, [(lines, names)])[0]
    expected = volts[names[red]] - volts.get(names[black], 0.0)
    assert shown == pytest.approx(expected, rel=1e-3, abs=1e-3)
    assert not np.isclose(shown, points.volts[0, 0, 0] * 0.5)
