"""Recordings and commands as a technician uses them: a file from the scan tool, a level that counts, a flap that is held."""

from __future__ import annotations

from pathlib import Path
from uuid import uuid4

import numpy as np
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import Select

from tests.browser.conftest import Page
from tests.browser.test_screens import press


def tank_log(path: Path, leak_kpa_s: float, seed: int) -> Path:
    """A scan tool's file: purge 0, 60, 0 % with the vent shut; pressure falls while commanded, and by the leak all the time."""
    rng, t = np.random.default_rng(seed), np.arange(0.0, 60.0, 0.1)
    command = np.where((t >= 20.0) & (t < 40.0), 60, 0)
    pressure = 101.3 - np.cumsum(np.where(command > 0, 0.05, leak_kpa_s)) * 0.1 + rng.normal(0.0, 0.01, len(t))
    rows = [f"{a:.1f};{c};{p:.2f}".replace(".", ",") for a, c, p in zip(t, command, pressure, strict=True)]
    path.write_text("Vapour test\nTime;Purge command;Tank pressure\ns;%;kPa\n" + "\n".join(rows) + "\n")
    return path


def in_dialog(page: Page, words: str) -> WebElement:
    found: WebElement = page.wait(
        lambda: next(iter(page.driver.find_elements(By.XPATH, f"//div[@role='dialog']//button[contains(., '{words}')]")), None),
        words,
    )
    return found


def recordings_of(page: Page, plate: str) -> str:
    """Open the recordings of a job; returns its id."""
    job = page.job_of(plate)
    page.go(f"/jobs/{job}?view=recordings")
    page.find("[aria-label='File of a recording']")
    return str(job)


def read_file(page: Page, path: Path) -> None:
    """Add a file, look at how it was understood, read it, and open it."""
    page.wait(lambda: not page.find("input[type=file]").get_property("disabled"), "the list")
    page.wait(lambda: any(b.text == "Add a file" and b.is_enabled() for b in page.all("button")), "the button")
    page.find("[aria-label='File of a recording']").send_keys(str(path))
    page.find("[data-testid='recording-columns']")
    in_dialog(page, "Read it").click()
    page.find(f"[data-recording='{path.name}'] a").click()
    page.find("[data-strip]")


def features(page: Page, channel: str) -> list[str]:
    """What is read off a channel."""
    choice = page.wait(
        lambda: page.driver.find_element(By.XPATH, "//label[starts-with(., 'Read off')]/select"), "the choice of a channel"
    )
    Select(choice).select_by_visible_text(channel)
    page.wait(lambda: any(channel in item.text for item in page.all("[data-feature]")), "features")
    return [item.text for item in page.all("[data-feature]")]


def test_a_valve_stuck_open_shows_before_the_command_and_the_new_one_holds(page: Page, tmp_path: Path) -> None:
    page.sign_in()
    recordings_of(page, "PA 62 TSL")
    read_file(page, tank_log(tmp_path / "old valve.csv", 0.02, 1))
    old = features(page, "Tank pressure")
    falling = [item for item in old if "goes on falling" in item and "0 %" in item and "60 %" not in item]
    assert falling, old
    a_minute = float(falling[0].split(" ±")[0].rsplit(" ", 1)[1].replace("−", "-"))
    assert -1.3 < a_minute < -1.1, "1.2 kPa a minute are lost at 0 %"
    lane = page.find("[data-lane='Purge command']").text
    assert "0 %" in lane
    assert "60 %" in lane
    assert [strip.get_attribute("data-strip") for strip in page.all("[data-strip]")] == ["Tank pressure"], "the command is a lane"
    recordings_of(page, "PA 62 TSL")
    read_file(page, tank_log(tmp_path / "new valve.csv", 0.0, 2))
    new = features(page, "Tank pressure")
    assert sum("goes on falling" in item for item in new) == 1, "only while it is commanded"


def test_cursors_zoom_and_marks_by_keys(page: Page, tmp_path: Path) -> None:
    page.sign_in()
    recordings_of(page, "PA 62 TSL")
    read_file(page, tank_log(tmp_path / "keys.csv", 0.0, 3))
    strip = page.find("[data-strip] .u-over")
    ActionChains(page.driver).move_to_element_with_offset(strip, -100, 0).click().perform()
    page.see("A ")
    ActionChains(page.driver).move_to_element_with_offset(strip, 100, 0).click().perform()
    cursors = page.wait(lambda: (found := page.find("[data-testid=cursors]").text) and "B − A" in found and found, "two cursors")
    between = float(cursors.split("B − A ")[1].split(" s")[0])
    assert 5.0 < between < 30.0
    page.wait(lambda: "Between the cursors" in page.text(), "the stretch to read off")
    page.keys("m")
    page.find("div[role=dialog] input").send_keys("vent shut")
    in_dialog(page, "Mark").click()
    page.wait(lambda: "vent shut" in page.find("[aria-label=Marks]").text, "the mark")
    page.keys("+")
    page.keys("0")


def test_a_level_of_a_recording_counts_as_a_reading(page: Page, tmp_path: Path) -> None:
    page.sign_in()
    job = page.api(
        "POST",
        "/jobs",
        {"client_key": str(uuid4()), "vehicle": {"make": "Tessel", "model": "Brae", "plate": "QA 63 REC"}, "codes": "P0443"},
    )
    page.api("POST", f"/jobs/{job['id']}/typical", {"client_key": str(uuid4()), "template": "valve-pulsed", "code": "P0443"})
    path = tmp_path / "line.csv"
    path.write_text("Time [s],Line [V]\n" + "\n".join(f"{n / 10:.1f},{12.31 + 0.01 * (n % 3):.2f}" for n in range(100)) + "\n")
    page.go(f"/jobs/{job['id']}?view=recordings")
    read_file(page, path)
    features(page, "Line")
    press(page, "Say what it measures")
    fields = page.wait(lambda: page.all("div[role=dialog] select"), "fields")
    page.wait(lambda: len(Select(fields[2]).options) > 3, "the points of the circuit")
    Select(fields[2]).select_by_value("X2.1")
    in_dialog(page, "Keep").click()
    page.wait(lambda: "Measured at X2.1" in page.text(), "the meaning")
    page.wait(lambda: page.all("[data-feature=level] button"), "the level")[0].click()
    press(page, "Use as a reading")
    page.see("It counts as a reading")
    [diagnosis] = page.api("GET", f"/jobs/{job['id']}")["diagnoses"]
    [reading] = page.api("GET", f"/diagnoses/{diagnosis['id']}")["readings"]
    assert reading["source"] == "recording"
    assert reading["entry"].startswith("12.3")


def test_a_flap_runs_only_while_it_is_held(page: Page) -> None:
    page.sign_in()
    recordings_of(page, "PA 07 LSK")
    choice = page.find("[aria-label='Command and record'] select")
    Select(choice).select_by_value("command:flap")
    page.see("Keep fingers out of the heater box")
    press(page, "Connect, then hold to run")
    state = "[data-run-state]"
    page.wait(lambda: page.find(state).text.startswith("rest"), "the connection")
    button = next(b for b in page.all("button") if b.text == "Hold to run")
    ActionChains(page.driver).click_and_hold(button).perform()
    page.wait(lambda: page.find(state).text.startswith("move"), "the flap to move")
    ActionChains(page.driver).release().perform()
    page.wait(lambda: page.find(state).text.startswith("rest"), "the flap to stop")
    press(page, "Stop")
    page.wait(lambda: page.find(state).get_attribute("data-run-state") == "stopped", "the end")
    press(page, "It moves")
    page.see("It moves, kept")
    press(page, "Done")
    page.see("BCM Cabin temperature flap works (1×)")
    page.find("[data-recording='Cabin temperature flap'] a").click()
    page.find("[data-strip='Cabin flap motor current']")


def test_before_is_laid_over_after_by_the_command(page: Page) -> None:
    page.sign_in()
    job = recordings_of(page, "PA 62 TSL")
    names = {one["name"]: one["id"] for one in page.api("GET", f"/jobs/{job}/recordings")["recordings"]}
    page.go(f"/recordings/{names['Tank pressure with the vent shut, purge 0, 60, 0 %']}")
    choice = page.wait(lambda: page.driver.find_element(By.XPATH, "//label[starts-with(., 'Laid over')]/select"), "the choice")
    page.wait(lambda: len(Select(choice).options) > 1, "other recordings")
    Select(choice).select_by_visible_text("The same test with the new valve")
    page.see("aligned by Purge valve command")
    page.find("[data-strip='Tank pressure, difference']")
    page.wait(lambda: any("laid over" in item.text for item in page.all("[data-feature]")), "features of both")
    while_commanded = next(item.text for item in page.all("[data-feature=slope]") if "60 %" in item.text)
    assert "which may be nothing" in while_commanded, "commanded, both valves draw the tank down alike"
