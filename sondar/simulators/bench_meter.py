"""A bench meter on simulated vehicles: SCPI over TCP, one command per line.

Standard: ``*IDN?``, ``*OPT?``, ``SYST:ERR?``, ``MEAS:VOLT:DC?`` and the others of ``MEASURES``. What a person's hands and eyes would do
has its own subsystem: ``SIM:VEH name``, ``SIM:CONT key=on,fan=on``, ``SIM:UNPL X3``, ``SIM:TEMP 20``, ``SIM:LEAD red,black``,
``SIM:SEE? instrument`` for lamps, the LED probe, functional checks and the scan tool's value, ``SIM:REP W2,X31`` for a repair.

Run: ``python -m sondar.simulators.bench_meter VEHICLES.json PORT``, where the file maps a vehicle's name to
{"vehicle": name of a library vehicle, "faults": [[id, severity], [id, severity, "hot"], …], "seed": number},
or {"circuit": path, …} for one circuit only.
"""

from __future__ import annotations

import json
import socketserver
import sys
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, ClassVar

from sondar.circuit_files import library_network, load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.errors import SondarError
from sondar.core.instruments import INSTRUMENTS
from sondar.core.instruments.ohmmeter import LIVE, OVER
from sondar.core.instruments.voltmeter import UNSTABLE
from sondar.simulators.vehicle import SimulatedVehicle

OVERLOAD, NOT_A_NUMBER = "9.9E37", "9.91E37"


MEASURES = {device.query: name for name, device in INSTRUMENTS.items() if device.query}
"""What it can be asked, by the instruments' own SCPI queries."""


class MeterSession:
    """One connection: where its probes are and what the vehicle is set to. Pure: a line in, an answer or None out."""

    def __init__(self, vehicles: Mapping[str, SimulatedVehicle]) -> None:
        self._vehicles = vehicles
        self._vehicle = ""
        self._controls: dict[str, str] = {}
        self._unplugged: frozenset[str] = frozenset()
        self._temperature_c = 20.0
        self._probes = ("", "")
        self._error = '0,"No error"'

    def answer(self, line: str) -> str | None:
        """Carry out one command; None when it has no answer."""
        command, _, argument = line.strip().partition(" ")
        match command.upper():
            case "*IDN?":
                return "Sondar,Simulated bench meter,0,1"
            case "*OPT?":
                return "LEADS"
            case "SYST:ERR?":
                error, self._error = self._error, '0,"No error"'
                return error
            case "SIM:VEH":
                self._vehicle = argument
                if argument not in self._vehicles:
                    self._error = f'-224,"Illegal parameter value; no vehicle {argument}"'
            case "SIM:CONT":
                self._controls = dict(pair.split("=", 1) for pair in argument.split(",") if "=" in pair)
            case "SIM:UNPL":
                self._unplugged = frozenset(filter(None, argument.split(",")))
            case "SIM:TEMP":
                self._temperature_c = float(argument)
            case "SIM:LEAD":
                red, _, black = argument.partition(",")
                self._probes = (red, black)
            case "SIM:REP":
                self._repair(list(filter(None, argument.split(","))))
            case name if name in MEASURES:
                return self._measure(MEASURES[name])
            case "SIM:SEE?":
                return self._measure(argument)
            case _:
                self._error = f'-113,"Undefined header; {command}"'
        return None

    def _repair(self, units: list[str]) -> None:
        if self._vehicle not in self._vehicles:
            self._error = f'-221,"Settings conflict; no vehicle {self._vehicle}"'
            return
        self._vehicles[self._vehicle].repair(units)
        if isinstance(self._vehicles, DescribedVehicles):
            self._vehicles.tell_repaired(self._vehicle, units)

    def _measure(self, instrument: str) -> str:
        try:
            vehicle = self._vehicles[self._vehicle]
            setup = vehicle.circuit.setup(self._controls, self._unplugged, self._temperature_c)
            value, word = vehicle.measure(instrument, *self._probes, setup)
        except (KeyError, SondarError) as error:
            self._error = f'-221,"Settings conflict; {error}"'
            return NOT_A_NUMBER
        if word is None:
            return f"{value:.6E}"
        return {OVER: OVERLOAD, UNSTABLE: NOT_A_NUMBER, LIVE: NOT_A_NUMBER}.get(word, word)


class _Handler(socketserver.StreamRequestHandler):
    vehicles: ClassVar[Mapping[str, SimulatedVehicle]] = {}

    def handle(self) -> None:
        session = MeterSession(self.vehicles)
        for raw in self.rfile:
            answer = session.answer(raw.decode("utf-8", "replace"))
            if answer is not None:
                self.wfile.write(answer.encode() + b"\n")


class MeterServer(socketserver.ThreadingTCPServer):
    """The simulator on a loopback port (0 picks a free one; see ``server_address``)."""

    allow_reuse_address = True
    daemon_threads = True

    def __init__(self, vehicles: Mapping[str, SimulatedVehicle], port: int = 0) -> None:
        super().__init__(("127.0.0.1", port), type("Handler", (_Handler,), {"vehicles": vehicles}))

    @property
    def address(self) -> str:
        """VISA address."""
        return f"TCPIP::127.0.0.1::{self.server_address[1]}::SOCKET"


class DescribedVehicles(Mapping[str, SimulatedVehicle]):
    """Simulated vehicles as described in a JSON file, each made when it is asked for; circuit paths are relative to the file."""

    def __init__(self, path: Path) -> None:
        self._folder, self._described = path.parent, json.loads(path.read_text())
        self._made: dict[str, SimulatedVehicle] = {}
        self._making = threading.Lock()
        self._told: dict[str, Callable[[Sequence[str]], object]] = {}

    def when_repaired(self, name: str, told: Callable[[Sequence[str]], object]) -> None:
        """Have the vehicle's other stand-ins told of a repair, beside everything else."""
        self._told[name] = told

    def tell_repaired(self, name: str, units: Sequence[str]) -> None:
        """These units of a vehicle have been repaired."""
        if name in self._told:
            threading.Thread(target=self._told[name], args=(units,), daemon=True).start()

    def __getitem__(self, name: str) -> SimulatedVehicle:
        with self._making:
            if name not in self._made:
                self._made[name] = self._make(self._described[name])
            return self._made[name]

    def prepare(self, after_s: float = 0.0) -> None:
        """Make every vehicle, so that nobody's first reading waits for it longer than for a meter."""
        time.sleep(after_s)
        for name in self:
            self[name]

    def __contains__(self, name: object) -> bool:
        return name in self._described

    def __iter__(self) -> Iterator[str]:
        return iter(self._described)

    def __len__(self) -> int:
        return len(self._described)

    def _make(self, spec: dict[str, Any]) -> SimulatedVehicle:
        if "vehicle" in spec:
            circuit = library_network(spec["vehicle"]).network
        else:
            circuit = Circuit(load_circuit_text((self._folder / spec["circuit"]).read_text(encoding="utf-8")))
        return SimulatedVehicle(circuit, spec["faults"], spec.get("seed", 0))


if __name__ == "__main__":
    with MeterServer(DescribedVehicles(Path(sys.argv[1])), int(sys.argv[2])) as server:
        server.serve_forever()
