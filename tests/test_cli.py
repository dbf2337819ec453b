from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner

from sondar.cli import main
from tests.conftest import FAN_TEXT, LIBRARY

FAN = str(LIBRARY / "radiator-fan-relay.yaml")


def run(*arguments: str) -> tuple[int, str]:
    result = CliRunner().invoke(main, list(arguments))
    return result.exit_code, result.output


def test_validate_good_and_bad(tmp_path: Path) -> None:
    code, output = run("validate", FAN)
    assert code == 0
    assert "9 wires" in output
    bad = tmp_path / "bad.yaml"
    bad.write_text(FAN_TEXT.replace("rating_a: 40", "rating_a: x"))
    code, output = run("validate", str(bad))
    assert code == 1
    assert "parts.F14.rating_a" in output
    assert "line " in output
    code, output = run("validate", str(bad), "--json")
    assert code == 1
    assert json.loads(output)["problems"][0]["field"] == "parts.F14.rating_a"


def test_predict_healthy_and_faulty() -> None:
    code, output = run("predict", FAN, "--setup", "commanded", "--json")
    assert code == 0
    healthy = {p["ref"]: p["volts"] for p in json.loads(output)["points"]}
    assert healthy["X3.85"] < 0.2
    code, output = run("predict", FAN, "--set", "key=on", "--set", "fan=on", "--fault", "W8.resistance:300Ω", "--json")
    faulty = {p["ref"]: p["volts"] for p in json.loads(output)["points"]}
    # 12.3 V over coil ‖ suppressor and 300 Ω.
    coil = 85 * 680 / 765
    assert faulty["X3.85"] == pytest.approx(12.3 * (1 - coil / (coil + 300.25)), abs=0.02)
    code, output = run("predict", FAN, "--fault", "F7.open")
    assert code == 0
    assert "X3.86" in output


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("--fault", "W99.open"), "no fault 'W99.open'"),
        (("--fault", "W8.open:9 Ω"), "severity of W8.open"),
        (("--set", "fan=full"), "position of control fan"),
        (("--unplug", "X9"), "no connector 'X9'"),
        (("--setup", "nowhere"), "no set-up 'nowhere'"),
    ],
)
def test_wrong_names_are_answered_with_the_right_ones(arguments: tuple[str, ...], words: str) -> None:
    code, output = run("predict", FAN, *arguments)
    assert code == 1
    assert words in output


def test_judge_reaches_a_conclusion_and_says_not_yet(tmp_path: Path) -> None:
    readings = [
        {"red": "X3.86", "instrument": "voltmeter", "setup": "commanded", "reading": "12.1"},
        {"red": "X3.85", "instrument": "voltmeter", "setup": {"controls": {"key": "on", "fan": "on"}}, "reading": "12,1"},
    ]
    file = tmp_path / "readings.json"
    file.write_text(json.dumps(readings))
    code, output = run("judge", FAN, str(file), "--json")
    assert code == 0
    first = json.loads(output)
    assert first["conclusion"] == "not yet"
    assert first["next"]["test"]["red"]
    readings.append({"red": "X1.23", "instrument": "voltmeter", "setup": "commanded", "reading": "0.0"})
    readings.append({"red": "X3.85", "black": "X1.23", "instrument": "voltmeter", "setup": "commanded", "reading": "12.0"})
    file.write_text(json.dumps(readings))
    code, output = run("judge", FAN, str(file), "--json")
    second = json.loads(output)
    assert max(second["units"], key=second["units"].get) == "W8"
    assert second["groups"]["wiring"] > 0.9
    code, output = run("judge", FAN, str(file))
    assert "Wire W8" in output


@pytest.mark.parametrize(
    "text", ["[", "{}", '[{"red": "X3.86"}]', '[{"instrument": "voltmeter", "red": "X3.86", "reading": "soup"}]']
)
def test_bad_readings_are_a_clear_error(tmp_path: Path, text: str) -> None:
    file = tmp_path / "readings.json"
    file.write_text(text)
    code, output = run("judge", FAN, str(file))
    if text == "{}":
        assert code == 0, "no readings is a job that has just begun"
    else:
        assert code == 1
        assert "readings.json" in output


ROWS = ("00000", "01001", "00110", "10011", "11000", "11110")
CLASSIC = {
    "states": [{"id": f"s{i}", "p": p} for i, p in enumerate((0.70, 0.01, 0.02, 0.10, 0.05, 0.12))],
    "tests": [
        {"id": f"t{j + 1}", "cost": 1, "p_fail": {f"s{i}": 1 for i, row in enumerate(ROWS) if row[j] == "1"}} for j in range(5)
    ],
}


def test_plan_finds_the_published_optimum(tmp_path: Path) -> None:
    file = tmp_path / "table.json"
    file.write_text(json.dumps(CLASSIC))
    code, output = run("plan", str(file), "--json")
    found = json.loads(output)
    assert code == 0
    assert found["expected_cost"] == pytest.approx(2.18)
    assert (found["policy"], found["exact"]) == ("optimal", True)
    assert set(found["tree"]) == {"test", "expected_cost", "pass", "fail"}
    code, output = run("plan", str(file), "--policy", "order")
    assert "order: expected cost 2.89" in output
    assert "s3 100.0%" in output


def test_plan_names_what_is_wrong_with_a_table(tmp_path: Path) -> None:
    file = tmp_path / "table.json"
    file.write_text(json.dumps({**CLASSIC, "tests": [{"id": "t1", "cost": 0, "p_fail": {}}]}))
    code, output = run("plan", str(file), "--json")
    assert code == 1
    assert json.loads(output)["problems"][0]["field"] == "tests.0.cost"
    file.write_text(json.dumps({**CLASSIC, "tests": [{"id": "t1", "cost": 1, "p_fail": {"s9": 1}}]}))
    assert "names 's9', which is no state" in run("plan", str(file), "--json")[1]
    file.write_text("{")
    assert run("plan", str(file))[0] == 1


def test_a_resistance_of_any_size_can_be_predicted() -> None:
    code, output = run("predict", FAN, "--set", "key=on", "--set", "fan=on", "--fault", "W8.resistance:250", "--json")
    assert code == 0
    coil = 85 * 680 / 765
    volts = {p["ref"]: p["volts"] for p in json.loads(output)["points"]}["X3.85"]
    assert volts == pytest.approx(12.3 * (1 - coil / (coil + 250.25)), abs=0.02)


def test_judge_gives_every_fault_by_its_id(tmp_path: Path) -> None:
    file = tmp_path / "readings.json"
    file.write_text(json.dumps([{"instrument": "voltmeter", "red": "X3.86", "setup": "commanded", "reading": "0.0"}]))
    found = json.loads(run("judge", FAN, str(file), "--json")[1])
    assert sum(found["faults"].values()) == pytest.approx(1.0)
    assert sum(found["units"].values()) == pytest.approx(1.0)
    assert {"none", "unknown", "F7.open"} <= set(found["faults"])


def test_a_code_is_explained_and_one_that_is_not_held_ends_with_1() -> None:
    code, output = run("code", "P0443", "--json")
    told = json.loads(output)
    assert code == 0
    assert {"code": "P0443", "kind": "electrical", "template": "valve-pulsed"}.items() <= told.items()
    assert told["meaning"] == "Canister purge valve: circuit"
    assert "P0444" in told["companions"]
    code, output = run("code", "443-14")
    assert code == 0
    assert "understood as P0443" in output
    assert "circuit shorted to ground or open" in output
    code, output = run("code", "P1234", "--json")
    assert code == 1
    assert json.loads(output)["held"] is False
    assert run("code", "bilge")[0] == 1


def test_templates_are_listed_and_written(tmp_path: Path) -> None:
    code, output = run("templates", "--json")
    assert code == 0
    listed = json.loads(output)["templates"]
    assert len(listed) >= 50
    assert "pressure-three-wire" in run("templates")[1]
    code, output = run("template", "pressure-three-wire", "--make", "Brigg")
    assert code == 0
    path = tmp_path / "made.yaml"
    path.write_text(output)
    assert run("validate", str(path))[0] == 0
    assert run("template", "warp-drive")[0] == 1
