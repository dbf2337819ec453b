"""Scenes of the trade, from the demo's vehicles: what a recording or a command tells that no single figure does."""

from __future__ import annotations

from uuid import uuid4

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.conftest import Page
from tests.browser.test_recordings import features, recordings_of
from tests.browser.test_screens import press


def open_recording(page: Page, plate: str, name: str) -> None:
    """Open a recording of a demo job by its name."""
    recordings_of(page, plate)
    page.find(f"[data-recording='{name}'] a").click()
    page.find("[data-strip]")


def choice(page: Page, label: str) -> Select:
    """A choice beside the strips."""
    return Select(
        page.wait(lambda: page.driver.find_element(By.XPATH, f"//label[starts-with(., '{label}')]/select"), f"the choice '{label}'")
    )


def figure(items: list[str], words: str) -> float:
    """The figure of the first feature with these words."""
    item = next(one for one in items if words in one)
    return float(item.split(" ±")[0].rsplit(" ", 1)[1].replace("−", "-"))


def verdicts(page: Page) -> dict[str, str]:
    """What the laws say of the recording, by check."""
    page.wait(lambda: page.all("[data-check]"), "the checks")
    return {one.get_attribute("data-check") or "": one.get_attribute("data-verdict") or "" for one in page.all("[data-check]")}


def test_one_of_two_phasers_is_late_until_warm_and_exchanging_moved_nothing(page: Page) -> None:
    open_recording(page, "PA 35 ORV", "Phasers, cold")
    late, bank_1, bank_2 = "begins to move after, Phaser command 0 → 20", "Intake camshaft, bank 1", "Intake camshaft, bank 2"
    cold = figure(features(page, bank_1), late)
    other = figure(features(page, bank_2), late)
    assert cold > 1.4
    assert other < 0.3, "only one of the banks is late"
    page.see("locked by its code")
    features(page, bank_1)
    choice(page, "Laid over it").select_by_visible_text("Phasers, warm")
    page.wait(lambda: any("laid over:" in one.text for one in page.all("[data-feature=dead]")), "the warm one laid over it")
    page.find("[data-strip='Intake camshaft, bank 1, difference']")
    told = next(one.text for one in page.all("[data-feature=dead]") if late in one.text)
    assert "difference 1." in told, told
    assert "which may be nothing" not in told
    open_recording(page, "PA 35 ORV", "Phasers, cold, solenoid and sensor exchanged")
    assert figure(features(page, bank_1), late) > 1.4, "it stays on its bank: neither the solenoid nor the sensor"


def test_a_dropout_that_a_fast_log_shows_and_a_slow_one_may_miss(page: Page) -> None:
    open_recording(page, "PA 61 BRG", "Hand pump and warm air, 50 samples a second")
    fast = features(page, "Intake pressure reported")
    [spell] = [one for one in fast if "drops out" in one]
    assert "1 in 70 s" in spell
    assert "at 0" in spell
    assert 0.95 < figure(fast, "per unit commanded, Hand pump 101 → 80") < 1.05, "direction and steps are right"
    choice(page, "Held against").select_by_visible_text("Hand pump gauge")
    page.wait(lambda: page.all("[data-feature='line gain']"), "the reference")
    assert 0.98 < figure([page.find("[data-feature='line gain']").text], "moves, per kPa") < 1.02
    warm = features_of_warm_air(page)
    assert warm > 40.0, "the temperature sensor follows warm air"
    open_recording(page, "PA 61 BRG", "The same, by scan tool, 5 samples a second")
    slow = features(page, "Intake pressure reported")
    assert any("no dropout seen" in one and "misses 50 % each" in one for one in slow), slow


def features_of_warm_air(page: Page) -> float:
    """Greatest temperature that was reported."""
    choice(page, "Held against").select_by_visible_text("nothing")
    found = features(page, "Intake air temperature")
    return float(next(one for one in found if "least to greatest" in one).split("…")[1].split()[0])


def test_air_mass_against_what_the_engine_draws(page: Page) -> None:
    open_recording(page, "PA 33 ORV", "Idle, 2,000 and 3,200, as it came")
    assert {name: verdict for name, verdict in verdicts(page).items() if name in ("air", "air-mass", "trims")} == dict.fromkeys(
        ("air", "air-mass", "trims"), "differs"
    )
    page.see("a dirty film")
    page.see("litres, from the job")
    page.find("[data-check=air-mass] button").click()
    page.see("Recirculated exhaust gas takes the place of air")
    open_recording(page, "PA 33 ORV", "The same with the new sensor")
    page.find("section[aria-label='Does it fit together?'] summary").click()
    assert set(verdicts(page).values()) == {"agrees"}
    open_recording(page, "PA 34 ORV", "Idle, 2,000 and 3,200")
    assert verdicts(page)["trims"] == "differs"
    page.see("enters behind the air mass sensor")


def noticed(page: Page, command: str, what: str, part: str) -> None:
    """Command something through the vehicle's interface, say by one key what it did, and count it as a check of a part."""
    Select(page.find("[aria-label='Command and record'] select")).select_by_value(f"command:{command}")
    button = page.wait(
        lambda: next(one for one in page.all("[aria-label='Command and record'] button") if one.text.startswith("Command ")),
        "the button",
    )
    button.click()
    page.wait(lambda: page.find("[data-run-state]").get_attribute("data-run-state") == "ended", "the end of the run")
    press(page, what)
    page.see(f"{what}, kept")
    press(page, part)
    page.see("It counts: see what it did")
    press(page, "Done")


def conclude(page: Page, diagnosis: str, most: int = 24) -> list[str]:
    """Read what is proposed off the simulated vehicle until there is a conclusion; the units that it names."""
    page.open(f"/measure/{diagnosis}")
    page.find("[data-testid=proposal]")
    for _ in range(most):
        conclusion = page.api("GET", f"/diagnoses/{diagnosis}")["assessment"]["conclusion"]
        if conclusion["settled"]:
            return list(conclusion["units"])
        before = page.count_readings()
        page.command("r")
        page.wait(lambda: page.find("[data-testid=entry]").get_attribute("value"), "an answer of the vehicle")
        page.keys(Keys.ENTER)
        page.wait(lambda: page.count_readings() > before, "the reading")  # noqa: B023
    raise AssertionError(page.text())


def diagnosis_of(page: Page, plate: str) -> str:
    return str(page.api("GET", f"/jobs/{page.job_of(plate)}")["diagnoses"][0]["id"])


def test_the_neighbour_in_the_same_cluster_moves_and_this_one_does_not(page: Page) -> None:
    diagnosis = diagnosis_of(page, "PA 36 QUY")
    recordings_of(page, "PA 36 QUY")
    noticed(page, "fuel_pointer", "Nothing", "Fuel pointer")
    noticed(page, "temperature_pointer", "It moves", "Temperature pointer")
    page.open(f"/measure/{diagnosis}")
    page.wait(lambda: page.count_readings() == 2, "both commands as readings")
    assert page.suspects()["ICM"] > 0.6, "supply, ground and the way of the command are proved by the neighbour"
    assert conclude(page, diagnosis) == ["ICM"]
    page.open(f"/measure/{diagnosis}/diagnosis")
    page.see("Instrument cluster")


def test_a_fan_module_that_does_nothing_and_a_fan_that_is_seized(page: Page) -> None:
    for plate, amps, unit in (("PA 37 HLD", "0.3", "FPM"), ("PA 38 HLD", "38", "M1")):
        diagnosis = diagnosis_of(page, plate)
        controls = {"key": "on", "fan": "full"}
        for instrument, red, entry in (("functional-check", "M1", "inoperative"), ("current-clamp", "W2", amps)):
            kept = page.api(
                "POST",
                f"/diagnoses/{diagnosis}/readings",
                {
                    "client_key": str(uuid4()),
                    "instrument": instrument,
                    "red": red,
                    "black": "BAT.neg",
                    "setup": {"controls": controls, "unplugged": []},
                    "entry": entry,
                },
            )
            assert kept["readings"][-1]["entry"] == entry
        page.open(f"/measure/{diagnosis}")
        page.find("[data-testid=proposal]")
        assert page.suspects()["M1"] > (0.9 if unit == "M1" else 0.2)
        assert unit in conclude(page, diagnosis), plate
