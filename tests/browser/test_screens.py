"""Parts of the screens one by one: pad, words of a lamp, other tests, list and conclusion, theme, states."""

from __future__ import annotations

import re
import time
from typing import Any
from uuid import uuid4

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from sondar.circuit_files import library_circuits
from sondar.simulators.vehicle import SimulatedVehicle
from tests.browser.conftest import Page
from tests.conftest import FAN_TEXT, circuit_of


def press(page: Page, words: str) -> None:
    """Press the button with these words; one that waits for an answer before it is given a few seconds to be ready."""
    button = page.wait(lambda: page.driver.find_element(By.XPATH, f'//button[contains(., "{words}")]'), words)
    end = time.monotonic() + 3.0
    while not button.is_enabled() and time.monotonic() < end:
        time.sleep(0.05)
    button.click()


@pytest.fixture
def fresh_job(page: Page) -> str:
    """The diagnosis of a new job on the fan circuit, made through the API the page itself uses."""
    version = page.api("POST", "/circuits", {"text": FAN_TEXT})["version_id"]
    vehicle = {"make": "Halden", "plate": "PA 55 NEW"}
    body = {"client_key": str(uuid4()), "vehicle": vehicle, "circuit_version_id": version, "complaint": "fan silent"}
    job = page.api("POST", "/jobs", body)
    diagnosis: str = page.api("GET", f"/jobs/{job['id']}")["diagnoses"][0]["id"]
    page.open(f"/measure/{diagnosis}")
    page.find("[data-testid=proposal]")
    return diagnosis


def pick(page: Page, label: str, words: str) -> None:
    """Choose in one of the lists of *Change the test*."""
    css = "[aria-label='Change the test'] label"
    chosen = page.wait(lambda: next(e for e in page.all(css) if e.text.startswith(label)), label)
    Select(chosen.find_element(By.TAG_NAME, "select")).select_by_visible_text(words)


def test_the_pad_enters_a_figure_without_a_keyboard(page: Page, fresh_job: str) -> None:
    page.wait(lambda: page.proposal()["instrument"] == "voltmeter" or page.keys(Keys.ARROW_DOWN), "a voltmeter test")
    press(page, "Number pad")
    for key in ("1", "2", ".", "4"):
        page.driver.find_element(By.XPATH, f"//fieldset[@aria-label='Number pad']//button[.='{key}']").click()
    assert page.find("[data-testid=entry]").get_attribute("value") == "12.4"
    page.find("button[aria-label='Delete last']").click()
    assert page.find("[data-testid=entry]").get_attribute("value") == "12."
    page.driver.find_element(By.XPATH, "//fieldset[@aria-label='Number pad']//button[.='3']").click()
    press(page, "Record")
    page.wait(lambda: page.count_readings() == 1, "the reading")
    page.see("12.30 V")


def test_a_lamp_is_answered_with_one_press(page: Page, fresh_job: str) -> None:
    page.keys("s")
    pick(page, "Instrument", "Test lamp 21 W")
    page.see("Your test.")
    pick(page, "Red probe", "F14.2")
    pick(page, "Black probe", "BAT.neg")
    page.wait(lambda: page.proposal()["red"] == "F14.2" and page.proposal()["instrument"] == "lamp-21w", "the lamp at F14.2")
    words = [b.text for b in page.all("form button")]
    assert words[1:4] == ["bright", "dim", "off"], words
    press(page, "bright")
    page.wait(lambda: page.count_readings() == 1, "the reading")
    page.see("Within expected range")


def test_a_lamp_on_a_module_line_is_refused_with_the_reason(page: Page, fresh_job: str) -> None:
    page.keys("s")
    pick(page, "Instrument", "Test lamp 21 W")
    pick(page, "Red probe", "X1.23")
    pick(page, "Black probe", "BAT.neg")
    page.see("would overload the module's output here")


def test_other_tests_can_be_chosen_and_a_missing_tool_drops_out(page: Page, fresh_job: str) -> None:
    first = page.proposal()
    page.keys(Keys.ARROW_DOWN)
    second = page.wait(lambda: page.proposal() != first and page.proposal(), "another test")
    assert page.all("button[aria-pressed=true]")
    page.keys(Keys.ARROW_UP)
    page.wait(lambda: page.proposal() == first, "the first again")
    assert second != first
    tool, title = first["instrument"], first["instrument_title"]
    press(page, "Not at hand")
    page.see(f"{title}, include again")
    page.wait(lambda: page.proposal()["instrument"] != tool, "a test with another tool")
    press(page, "include again")
    page.wait(lambda: page.proposal()["instrument"] == tool, "the tool back")


def test_a_conclusion_can_be_made_early_and_says_it_is_none(page: Page, fresh_job: str) -> None:
    page.command("v")
    page.wait(lambda: page.find("[data-testid=conclusion]").text.startswith("Not certain yet"), "the conclusion as it stands")
    page.see("No conclusion yet")
    page.see("What would change it")
    page.keys("b")
    page.find("[data-testid=proposal]")


def test_the_list_shows_stages_and_moves_by_arrow(page: Page) -> None:
    page.open("/?q=Lisk")
    page.see("PA 40 LSK")
    text = page.text().lower()
    for words in ("check-in", r"diagnosis, \d+ readings", "p0073"):
        assert re.search(words, text)

    def focused() -> str:
        return page.driver.switch_to.active_element.get_attribute("href") or ""

    first = page.wait(focused, "the first job")
    page.keys(Keys.ARROW_DOWN)
    assert focused() not in ("", first)
    page.keys(Keys.ARROW_UP, Keys.ENTER)
    page.find("[aria-label='What is known']")
    assert page.driver.current_url == first


def test_the_theme_is_switched_and_remembered(page: Page) -> None:
    def theme() -> Any:
        return page.driver.execute_script("return document.documentElement.dataset.theme")

    assert theme() == "light"
    press(page, "Dark")
    assert theme() == "dark"
    answered = "return performance.getEntriesByName(location.origin + '/api/v1/me/theme').length"
    page.wait(lambda: page.driver.execute_script(answered), "the theme to be kept")
    page.driver.refresh()
    page.see("Jobs")
    assert theme() == "dark"
    press(page, "Light")
    assert theme() == "light"


def test_a_wrong_year_is_said_and_nothing_typed_is_lost(page: Page) -> None:
    page.open("/jobs/new")
    page.find("input[name=make]").send_keys("Brigg")
    page.find("input[name=year]").send_keys("1700")
    page.find("textarea[name=complaint]").send_keys("dead")
    press(page, "Check in")
    page.see("greater than or equal to 1950")
    assert page.find("textarea[name=complaint]").get_attribute("value") == "dead"
    page.find("input[name=year]").clear()
    page.find("input[name=year]").send_keys("2021")
    press(page, "Check in")
    page.find("[aria-label='What is known']")
    page.see("The circuits of Brigg")


def test_addresses_that_lead_nowhere_say_so(page: Page) -> None:
    page.open("/nowhere")
    page.see("This address leads nowhere")
    page.open("/jobs/00000000-0000-0000-0000-000000000000")
    page.see("This job cannot be opened")
    page.open("/measure/00000000-0000-0000-0000-000000000000")
    page.see("This circuit diagnosis cannot be opened")
    page.open("/s/no-such-link")
    page.see("expired or was ended")


def test_values_hang_on_the_drawing_where_they_were_taken(page: Page, fresh_job: str) -> None:
    page.driver.find_element(By.CSS_SELECTOR, "g[aria-label^='F7.2:']").click()
    page.wait(lambda: page.proposal()["red"] == "F7.2", "the probe on F7.2")
    page.keys("12.2", Keys.ENTER)
    page.wait(lambda: page.count_readings() == 1, "the reading")
    drawn = page.find("g[aria-label^='F7.2:'] text").text
    assert drawn == "12.20"


def test_nothing_runs_over_the_edge_at_upright_tablet_size(page: Page, fresh_job: str) -> None:
    size = {"width": 800, "height": 1280, "deviceScaleFactor": 1, "mobile": False}
    page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    try:
        page.driver.refresh()
        page.find("[data-testid=proposal]")
        wide = page.driver.execute_script("return document.documentElement.scrollWidth")
        assert wide <= 800
        small = page.driver.execute_script(
            "return [...document.querySelectorAll('main button')].filter(b => b.offsetHeight && b.offsetHeight < 24).map(b => b.innerText)"
        )
        assert small == [], "targets of at least 24 px (WCAG 2.2), most of 44"
    finally:
        page.driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})


def test_demo_vehicles_answer_the_meter(page: Page) -> None:
    page.open_diagnosis("PA 12 TRN")
    page.find("[data-testid=proposal]")
    assert "Read the meter" in page.text()
    page.keys("r")
    page.wait(lambda: page.find("[data-testid=entry]").get_attribute("value"), "a figure")
    page.keys(Keys.ESCAPE)
    page.wait(lambda: page.find("[data-testid=entry]").get_attribute("value") == "", "an empty field")


def test_a_stuck_valve_is_found_by_listening(page: Page) -> None:
    """Nothing electrical is wrong: the coil carries its current and the valve does not click."""
    circuit = circuit_of(library_circuits()["tessel-purge-valve"])
    vehicle = SimulatedVehicle(circuit, [("Y6.stuck", None)], seed=4)
    version = page.api("POST", "/circuits", {"text": library_circuits()["tessel-purge-valve"]})["version_id"]
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Tessel"}, "circuit_version_id": version}
    job = page.api("POST", "/jobs", body)["id"]
    page.open(f"/measure/{page.api('GET', f'/jobs/{job}')['diagnoses'][0]['id']}")
    heard, made = 0, 0
    while "Further measuring is not needed" not in page.text():
        assert made < 20, "no conclusion in sight"
        test = page.proposal()
        if test["instrument"] == "functional-check":
            heard += 1
            page.see("Watch, listen and feel")
            press(page, page.measure_proposal(vehicle))
        else:
            page.keys(page.measure_proposal(vehicle), Keys.ENTER)
        made += 1
        page.wait(lambda n=made: page.count_readings() == n, f"reading {made}")
    assert heard
    page.keys("v")
    page.wait(lambda: "System" in page.find("[data-testid=conclusion]").text, "the conclusion")
    assert "Purge valve plunger" in page.find("[data-testid=conclusion]").text
