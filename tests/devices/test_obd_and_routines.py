"""OBD services and routines against the simulated vehicle, over the real protocol."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator

import pytest

from sondar.circuit_files import library_network
from sondar.core.circuit.vehicle import VehicleNetwork
from sondar.core.codes import is_stored
from sondar.core.obd import FIGURES
from sondar.devices import obd, scan_tool
from sondar.devices.commander import RefusedByModuleError, link
from sondar.devices.lines import ScanToolError
from sondar.simulators.diagnostic_vehicle import DiagnosticVehicle, HiddenFault
from sondar.simulators.doip_vehicle import DoipServer

FAST = 60.0


@pytest.fixture(scope="module")
def network() -> VehicleNetwork:
    return library_network("orvane-lisk")


def serve(vehicle: DiagnosticVehicle) -> DoipServer:
    server = DoipServer(lambda: vehicle)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return server


@pytest.fixture
def broken(network: VehicleNetwork) -> Iterator[DoipServer]:
    """A throttle position sensor that is open."""
    server = serve(DiagnosticVehicle(network, [HiddenFault("B24.open", "")], "1" * 17, speed=FAST))
    yield server
    server.shutdown()


def ask(server: DoipServer) -> obd.Seen:
    return obd.look(server.address, server.vehicle.network.document.module_addresses["ECM"])


def stored(server: DoipServer) -> list[str]:
    scan = scan_tool.read_codes(server.address, server.vehicle.network.document.module_addresses)
    return [code.code for code in scan.codes if is_stored(code.status)]


def test_a_vehicle_says_its_readiness_its_figures_and_the_frame_of_its_code(broken: DoipServer) -> None:
    seen = ask(broken)
    assert seen.readiness.lamp
    assert seen.readiness.codes == 1
    assert seen.readiness.outstanding == []
    assert seen.vin == "1" * 17
    assert {0x05, 0x0C, 0x42} <= set(seen.figures)
    assert seen.frame is not None
    assert seen.frame.code == "P0122"
    assert 12.0 < seen.frame.figures[0x42] < 15.0


def test_nobody_knows_the_module_and_all_are_asked(broken: DoipServer) -> None:
    assert obd.look(broken.address, None).vin == "1" * 17


def test_clearing_resets_the_monitors_which_complete_one_after_the_other(broken: DoipServer) -> None:
    scan_tool.clear_codes(broken.address, broken.vehicle.network.document.module_addresses)
    first = ask(broken).readiness.outstanding
    assert "evaporative system" in first
    time.sleep(0.6)  # 36 simulated seconds
    later = ask(broken).readiness.outstanding
    assert set(later) < set(first)
    assert "misfire" not in later
    assert "evaporative system" in later


def test_figures_are_those_of_the_circuit_within_their_step(broken: DoipServer) -> None:
    with obd.asking(broken.address, None) as questions:
        found = questions.figures([0x05, 0x0C, 0x42])
        assert questions.request(0x01, b"\xa7") == b""  # a number that it does not offer
    live = broken.vehicle.live.figures_by_number()[0x42]
    assert found[0x05] == 20.0
    assert found[0x42] == pytest.approx(live, abs=FIGURES[0x42].factor)


def test_a_repair_takes_the_fault_away_and_leaves_the_code_stored_until_it_is_cleared(broken: DoipServer) -> None:
    assert stored(broken) == ["P0122"]
    assert broken.vehicle.repair(["W34"]) == []
    assert broken.vehicle.repair(["B24"]) == ["B24.open"]
    assert stored(broken) == ["P0122"]
    scan_tool.clear_codes(broken.address, broken.vehicle.network.document.module_addresses)
    time.sleep(0.3)
    assert stored(broken) == []


def routine(server: DoipServer, name: str) -> str:
    document = server.vehicle.network.document
    item = document.routines[name]
    with link(server.address, {item.module: document.module_addresses[item.module]}, document.data) as opened:
        opened.begin(item.module)
        opened.start_routine(item)
        end = time.monotonic() + 5.0
        while (found := opened.routine_result(item)) is None:
            assert time.monotonic() < end
            time.sleep(0.02)
        return found


def test_a_routine_goes_on_for_a_while_and_says_how_it_ended(broken: DoipServer) -> None:
    assert routine(broken, "throttle_ends") == "ends not plausible"
    broken.vehicle.repair(["B24"])
    assert routine(broken, "throttle_ends") == "completed"


def test_a_routine_is_refused_outside_its_conditions_and_its_session(broken: DoipServer) -> None:
    document = broken.vehicle.network.document
    item = document.routines["throttle_ends"]
    broken.vehicle.live.key = "off"
    with link(broken.address, {"ECM": document.module_addresses["ECM"]}, document.data) as opened:
        with pytest.raises(RefusedByModuleError, match="service not in this session"):
            opened.start_routine(item)
        opened.begin("ECM")
        with pytest.raises(RefusedByModuleError, match="conditions"):
            opened.start_routine(item)


def test_live_figures_and_obd_figures_come_in_one_row(broken: DoipServer) -> None:
    document = broken.vehicle.network.document
    with link(broken.address, {"ECM": document.module_addresses["ECM"]}, document.data, "ECM") as opened:
        opened.watch(["throttle", "obd:42", "obd:0C"])
        row = opened.read()
    assert set(row) == {"throttle", "obd:42", "obd:0C"}
    assert row["obd:0C"] == 0.0


@pytest.mark.parametrize(
    ("answer", "said"),
    [
        (b"\x7f\x01\x33", "security access"),
        (b"\x55\x00", "cannot be read"),
        (b"\x7f\x01\x78", "pending"),
        (b"\x41\x00", ""),
        (b"", "no emission-related module"),
    ],
)
def test_odd_answers_are_said_in_words_or_count_as_not_offered(answer: bytes, said: str) -> None:
    class Odd:
        def empty_rxqueue(self) -> None: ...
        def send(self, _raw: bytes) -> None: ...
        def wait_frame(self, timeout: float, exception: bool) -> bytes:
            if not answer:
                raise TimeoutError
            return answer

    class OddClient:
        conn = Odd()
        config = {"p2_timeout": 0.1, "p2_star_timeout": 0.1, "request_timeout": 0.2}  # noqa: RUF012

    questions = obd.Questions(OddClient())  # type: ignore[arg-type]
    if said:
        with pytest.raises(obd.ObdError, match=said):
            questions.offered(0x01)
    else:
        assert questions.offered(0x01) == []


def test_no_interface_is_said() -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        port = taken.getsockname()[1]
    with pytest.raises(ScanToolError, match="no vehicle interface"):
        obd.look(f"127.0.0.1:{port}", None)


def test_results_of_monitors_with_their_limits_until_the_codes_are_cleared(broken: DoipServer) -> None:
    seen = {one.title: one for one in ask(broken).results}
    assert seen["Catalyst, bank 1, test 80"].value == pytest.approx(0.94, abs=1e-3)
    assert seen["Evaporative system, small leak, test 81"].value == pytest.approx(-0.11)
    assert len(seen) == 7
    scan_tool.clear_codes(broken.address, broken.vehicle.network.document.module_addresses)
    after = {one.title: one for one in ask(broken).results}
    assert not after["Catalyst, bank 1, test 80"].has_run, "it takes five minutes of driving"
