"""The same modules over ISO-TP on CAN: a bus of frames, an adapter on a serial line, and what happens when they are not there."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator

import can
import pytest

from sondar.circuit_files import library_network
from sondar.core.circuit.vehicle import VehicleDocument
from sondar.core.codes import is_stored
from sondar.core.diagnostic_address import EMISSIONS, ModuleAddress
from sondar.devices import lines, obd
from sondar.devices.commander import LostError, RefusedByModuleError, link
from sondar.devices.lines import ScanToolError, open_line
from sondar.devices.scan_tool import clear_codes, read_codes
from sondar.simulators.can_vehicle import CanAdapter, CanVehicle
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle, HiddenFault

TERN, QUAY = library_network("halden-tern"), library_network("tessel-quay")
VIN = "WHDTRN17X00001203"


def served(vehicle: DiagnosticVehicle) -> CanAdapter:
    adapter = CanAdapter(CanVehicle(lambda: vehicle, vehicle.network.document.module_addresses))
    threading.Thread(target=adapter.serve_forever, daemon=True).start()
    return adapter


@pytest.fixture(scope="module")
def tern() -> Iterator[CanAdapter]:
    """A van with an open rear ground: its trailer module has no supply."""
    adapter = served(DiagnosticVehicle(TERN, [HiddenFault("W66.open", "open")], VIN, clock=lambda: 0.0))
    yield adapter
    adapter.shutdown()
    adapter.server_close()
    adapter.behind.close()


@pytest.fixture
def quay() -> Iterator[CanAdapter]:
    adapter = served(DiagnosticVehicle(QUAY, [], "WTSKAY19000002408"))
    yield adapter
    adapter.shutdown()
    adapter.server_close()
    adapter.behind.close()


def document(adapter: CanAdapter) -> VehicleDocument:
    return adapter.vehicle.network.document


def test_identifiers_follow_from_the_address_unless_the_vehicle_says_its_own() -> None:
    assert ModuleAddress(0x1031).can_ids == (0x18DA31F1, 0x18DAF131), "ISO 15765-4, normal fixed addressing"
    assert QUAY.document.module_addresses["ECM"].can_ids == (0x7E0, 0x7E8)


def test_codes_of_every_module_in_many_frames(tern: CanAdapter) -> None:
    scan = read_codes(tern.address, document(tern).module_addresses)
    assert scan.modules == {"ECM": True, "BCM": True, "TSM": False}
    assert scan.vin == VIN, "twenty bytes: three frames with flow control"
    assert {c.code for c in scan.codes if is_stored(c.status)} >= {"B1D10", "B1D11", "U0157"}
    assert clear_codes(tern.address, document(tern).module_addresses) == ["ECM", "BCM"]


def test_the_bus_can_be_joined_directly(tern: CanAdapter) -> None:
    scan = read_codes(f"can:virtual:{tern.behind.channel}", {"BCM": document(tern).module_addresses["BCM"]})
    assert scan.modules == {"BCM": True}


def adapter_live(adapter: CanAdapter, name: str) -> float:
    """A figure as the module has it, without the noise of its converter."""
    return adapter.vehicle.live._value(name)


def test_two_modules_in_one_row_and_a_refusal_in_words(tern: CanAdapter) -> None:
    about = document(tern)
    where = {name: about.module_addresses[name] for name in ("ECM", "BCM")}
    with link(tern.address, where, about.data) as opened:
        opened.watch(["engine_supply", "body_supply"])
        row = opened.read()
        engine, body = (adapter_live(tern, name) for name in ("engine_supply", "body_supply"))
        assert row == pytest.approx({"engine_supply": engine, "body_supply": body}, rel=0.03)
        command = next(iter(about.commands.values()))
        with pytest.raises(RefusedByModuleError, match="not in this session"):
            opened.command(command, next(iter(command.positions)))


def test_a_command_moves_a_figure_and_the_vehicle_goes_away(quay: CanAdapter) -> None:
    about = document(quay)
    valve = about.commands["valve"]
    with link(quay.address, {"ECM": about.module_addresses["ECM"]}, about.data) as opened:
        opened.watch(["valve_position"])
        opened.begin("ECM")
        rest = opened.read()["valve_position"]
        opened.command(valve, list(valve.positions)[1])
        live = quay.vehicle.live
        assert live.commanded() == ("valve",)
        live.clock = lambda: 1e9
        assert opened.read()["valve_position"] == pytest.approx(rest, abs=0.1), "its session has run out: control is back"
        quay.behind.go_away()
        with pytest.raises(LostError):
            opened.read()


def test_emissions_are_asked_at_the_first_address_if_no_module_is_known() -> None:
    lisk = library_network("orvane-lisk")
    adapter = served(DiagnosticVehicle(lisk, [], "WRVLSK18000004012"))
    seen = obd.look(adapter.address, None)
    assert seen.vin == "WRVLSK18000004012"
    assert EMISSIONS.can_ids == (0x7E0, 0x7E8)
    adapter.shutdown()
    adapter.server_close()
    adapter.behind.close()


@pytest.mark.parametrize(
    ("address", "said"),
    [
        ("kline:/dev/ttyUSB0", "kline is not supported"),
        ("can:nothing-like-it:can0", "names no adapter for CAN"),
        ("can:slcan", "names no adapter for CAN"),
        ("can:slcan:socket://127.0.0.1:1@500000", "no adapter for CAN at"),
        ("can:slcan:socket://127.0.0.1:1@fast", "no adapter for CAN at"),
        ("can:socketcan:no-such-bus@500000", "no adapter for CAN at"),
    ],
)
def test_what_cannot_be_opened_is_said(address: str, said: str) -> None:
    with pytest.raises(ScanToolError, match=said), open_line(address):
        pass


def test_a_silent_bus_is_a_finding_in_bounded_time(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(lines, "TIMEOUT_S", 0.3)
    with can.Bus(interface="virtual", channel="nobody"):
        assert read_codes("can:virtual:nobody", {"ECM": ModuleAddress(0x10)}).modules == {"ECM": False}


def talk(adapter: CanAdapter, said: bytes) -> bytes:
    """What the adapter answers to a few commands on a bare line."""
    host, port = adapter.server_address[:2]
    with socket.create_connection((str(host), int(port)), timeout=30.0) as line:
        line.sendall(said)
        line.shutdown(socket.SHUT_WR)
        return b"".join(iter(lambda: line.recv(4096), b""))


def test_the_adapter_refuses_what_it_does_not_understand(tern: CanAdapter) -> None:
    assert talk(tern, b"t7DF80201000000000000\r") == b"\a", "not opened yet"
    assert talk(tern, b"S6\rO\rt7DFZ\rt7DF20\rQ\rC\r") == b"\r\r\a\a\a\r"
    assert talk(tern, b"t" * 10_000) == b"", "a line that does not end is cut off"
