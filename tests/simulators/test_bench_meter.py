"""The adapter against the simulator over TCP, and the simulator's protocol by itself."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping

import pytest

from sondar.core.circuit.network import Circuit
from sondar.core.instruments import instrument
from sondar.devices.meter import MeterError, Placement, as_entry, read_meter
from sondar.simulators.bench_meter import MeterServer, MeterSession
from sondar.simulators.vehicle import SimulatedVehicle


@pytest.fixture(scope="module")
def vehicles(fan: Circuit) -> dict[str, SimulatedVehicle]:
    return {"sound": SimulatedVehicle(fan, seed=3), "cut": SimulatedVehicle(fan, [("W8.open", None)], seed=4)}


@pytest.fixture(scope="module")
def meter(vehicles: Mapping[str, SimulatedVehicle]) -> Iterator[str]:
    with MeterServer(vehicles) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server.address
        server.shutdown()


def place(circuit: Circuit, vehicle: str, red: str, black: str = "BAT.neg", **controls: str) -> Placement:
    return Placement(vehicle, circuit.setup(controls), red, black)


def test_the_same_point_on_a_sound_and_a_cut_vehicle(meter: str, fan: Circuit) -> None:
    sound = read_meter(meter, "voltmeter", place(fan, "sound", "X3.85", key="on", fan="on"))
    cut = read_meter(meter, "voltmeter", place(fan, "cut", "X3.85", key="on", fan="on"))
    assert sound.endswith("mV")
    assert cut.endswith(" V")
    assert 11.0 < float(cut.removesuffix(" V")) < 13.0


def test_lamp_and_overload_and_live_circuit(meter: str, fan: Circuit) -> None:
    assert read_meter(meter, "lamp-21w", place(fan, "sound", "F14.1")) == "bright"
    apart = Placement("cut", fan.setup({}, frozenset({"X3", "X1"})), "X3.85", "X1.23")
    assert read_meter(meter, "ohmmeter", apart) == "OL"
    assert read_meter(meter, "ohmmeter", place(fan, "sound", "F14.1")) == "voltage present"


def test_no_meter_and_unknown_vehicle_say_what_to_do(meter: str, fan: Circuit) -> None:
    with pytest.raises(MeterError, match="type the reading"):
        read_meter("TCPIP::127.0.0.1::9::SOCKET", "voltmeter", place(fan, "sound", "X3.85"), timeout_s=1)
    with pytest.raises(MeterError, match="no vehicle ghost"):
        read_meter(meter, "voltmeter", place(fan, "ghost", "X3.85"))


def test_protocol_errors_are_reported_as_scpi_does(vehicles: Mapping[str, SimulatedVehicle]) -> None:
    session = MeterSession(vehicles)
    assert session.answer("*IDN?") == "Sondar,Simulated bench meter,0,1"
    assert session.answer("MEAS:TEMP?") is None
    assert str(session.answer("SYST:ERR?")).startswith("-113")
    assert str(session.answer("SYST:ERR?")).startswith("0")
    session.answer("SIM:VEH sound")
    session.answer("SIM:LEAD X3.99,BAT.neg")
    assert session.answer("MEAS:VOLT:DC?") == "9.91E37"
    assert str(session.answer("SYST:ERR?")).startswith("-221")


def test_answers_become_entries() -> None:
    assert as_entry(instrument("ohmmeter"), "9.9E37") == "OL"
    assert as_entry(instrument("voltmeter"), "9.91E37") == "unstable"
    assert as_entry(instrument("ohmmeter"), "9.91E37") == "voltage present"
    assert as_entry(instrument("ohmmeter"), "4.700000E+03") == "4.700 kΩ"
    with pytest.raises(MeterError, match="not a number"):
        as_entry(instrument("voltmeter"), "HELLO")


def test_a_vehicle_keeps_its_tolerances_and_its_meter_does_not_repeat_to_the_digit(fan: Circuit) -> None:
    setup = fan.setup({"key": "on", "fan": "on"})
    one, same, other = (SimulatedVehicle(fan, seed=s) for s in (1, 1, 2))
    first = one.measure("voltmeter", "X20.1", "BAT.neg", setup)
    assert first == same.measure("voltmeter", "X20.1", "BAT.neg", setup)
    assert first != other.measure("voltmeter", "X20.1", "BAT.neg", setup)
    assert len({one.measure("voltmeter", "X20.1", "BAT.neg", setup) for _ in range(6)}) > 1
