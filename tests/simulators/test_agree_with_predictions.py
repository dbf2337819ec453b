"""The simulated vehicle shows what the core predicts, within tolerances and meter error, with every instrument, over SCPI too."""

from __future__ import annotations

import threading
from collections.abc import Iterator

import pytest

from sondar.circuit_files import library_circuits
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.errors import UnknownReferenceError
from sondar.core.instruments import INSTRUMENTS, instrument
from sondar.core.instruments.reading import Reading, check_reading
from sondar.devices.meter import MeterError, Placement, read_meter
from sondar.simulators.bench_meter import MeterServer
from sondar.simulators.vehicle import SimulatedVehicle
from tests.conftest import circuit_of

NAMES = (
    "tessel-purge-valve",
    "tessel-crank-sensor",
    "brigg-cam-pickup",
    "orvane-flap-motor",
    "orvane-front-oxygen",
    "radiator-fan-relay",
)


def pulsing_or_commanded(circuit: Circuit) -> list[str]:
    return [*circuit.document.setups] or ["rest"]


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("fault", ["healthy", "first wire open"])
def test_every_instrument_shows_what_is_predicted(name: str, fault: str) -> None:
    circuit = circuit_of(library_circuits()[name])
    predictor = Predictor(circuit, instruments=tuple(INSTRUMENTS))
    setup = circuit.named_setup(pulsing_or_commanded(circuit)[0])
    hidden = [] if fault == "healthy" else [(f"{next(iter(circuit.document.wires))}.open", None)]
    row = 0 if not hidden else predictor.hypotheses.index(hidden[0][0])[0] if predictor.hypotheses.index(hidden[0][0]) else None
    if row is None:
        pytest.skip("nobody would notice this fault")
    vehicle = SimulatedVehicle(circuit, hidden, seed=12)
    far, seen = [], set()
    for test in predictor.setup(setup).tests:
        value, word = vehicle.measure(test.instrument, test.red, test.black, setup)
        shown = predictor.display_of(test)
        seen.add(test.instrument)
        reading = Reading("1", test, value, word)
        check_reading(reading)
        if word is not None:
            chance = float(shown.words[row, 0, shown.instrument.words.index(word)])
            if chance < 0.01:
                far.append((test.instrument, test.red, word, chance))
        else:
            distance = abs(float(shown.instrument.working(value or 0.0)) - float(shown.mean[row, 0])) / float(shown.sd[row, 0])
            if distance > 4.5:
                far.append((test.instrument, test.red, value, distance))
    assert len(far) <= 0.03 * len(predictor.setup(setup).tests), far
    assert {"voltmeter", "led-probe"} <= seen


@pytest.fixture
def meter() -> Iterator[str]:
    circuits = {name: circuit_of(library_circuits()[name]) for name in NAMES[:3]}
    with MeterServer({name: SimulatedVehicle(circuit, seed=2) for name, circuit in circuits.items()}) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server.address
        server.shutdown()


@pytest.mark.parametrize(
    ("name", "device", "red", "black", "low", "high"),
    [
        ("tessel-purge-valve", "frequency", "X51.2", "BAT.neg", 18, 22),
        ("tessel-purge-valve", "duty", "X51.2", "BAT.neg", 57, 63),
        ("tessel-purge-valve", "current-clamp", "W1", "BAT.neg", 0.1, 0.4),
        ("brigg-cam-pickup", "ac-voltmeter", "X53.1", "X53.2", 1.0, 1.7),
        ("tessel-crank-sensor", "live-data", "INK", "BAT.neg", 2.0, 3.0),
    ],
)
def test_other_instruments_read_through_the_same_adapter(
    meter: str, name: str, device: str, red: str, black: str, low: float, high: float
) -> None:
    circuit = circuit_of(library_circuits()[name])
    setup = circuit.named_setup(pulsing_or_commanded(circuit)[0])
    text = read_meter(meter, device, Placement(name, setup, red, black))
    entry = instrument(device).understand(text)
    assert entry.value is not None
    assert low <= entry.value <= high, text


@pytest.mark.parametrize(
    ("device", "red", "word"),
    [("functional-check", "Y6", ("operates", "weak")), ("led-probe", "X51.2", ("both",)), ("frequency", "X51.1", ("no signal",))],
)
def test_words_come_through_as_they_are_typed(meter: str, device: str, red: str, word: tuple[str, ...]) -> None:
    circuit = circuit_of(library_circuits()["tessel-purge-valve"])
    text = read_meter(meter, device, Placement("tessel-purge-valve", circuit.named_setup("purging"), red, "BAT.neg"))
    assert text in word
    assert instrument(device).understand(text).state == text


def test_a_vehicle_says_what_cannot_be_watched() -> None:
    vehicle = SimulatedVehicle(circuit_of(library_circuits()["tessel-purge-valve"]))
    with pytest.raises(UnknownReferenceError, match="part that acts"):
        vehicle.measure("functional-check", "W1", "BAT.neg", vehicle.circuit.rest_setup())
    with pytest.raises(UnknownReferenceError, match="no point"):
        vehicle.measure("current-clamp", "W99", "BAT.neg", vehicle.circuit.rest_setup())


def test_a_meter_without_eyes_says_so(monkeypatch: pytest.MonkeyPatch, meter: str) -> None:
    """A real meter does not announce LEADS; what it cannot measure is typed."""
    from sondar.simulators.bench_meter import MeterSession

    plain = MeterSession.answer
    monkeypatch.setattr(MeterSession, "answer", lambda self, line: "0" if line.strip() == "*OPT?" else plain(self, line))
    circuit = circuit_of(library_circuits()["tessel-purge-valve"])
    with pytest.raises(MeterError, match="type operates, weak, inoperative"):
        read_meter(meter, "functional-check", Placement("tessel-purge-valve", circuit.named_setup("purging"), "Y6", "BAT.neg"))
