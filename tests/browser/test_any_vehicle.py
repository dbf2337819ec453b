"""A make that nobody knows: from a code to a measurement in two taps, and codes looked up as people say them."""

from __future__ import annotations

from uuid import uuid4

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.conftest import Page
from tests.browser.test_screens import press

CASES = [("P0443-14", "valve-pulsed", "Canister purge valve"), ("P0118", "thermistor-two-wire", "Coolant temperature sensor 1"),
         ("C0034", "active-two-wire", "Wheel speed sensor, right front")]  # fmt: skip


def job_with(page: Page, codes: str) -> None:
    vehicle = {"make": "Brigg", "model": "Skerry scooter", "plate": f"QA {uuid4().hex[:6].upper()}"}
    job = page.api("POST", "/jobs", {"client_key": str(uuid4()), "vehicle": vehicle, "codes": codes})
    page.open(f"/jobs/{job['id']}")


@pytest.mark.parametrize(("code", "template", "title"), CASES)
def test_two_taps_from_a_code_to_a_measurement(page: Page, code: str, template: str, title: str) -> None:
    job_with(page, code)
    page.find(f"[data-part={template}] button").click()
    page.find(f"[data-template={template}] button").click()
    page.find("[data-testid=proposal]")
    page.see(f"{title}, typical")


def test_a_part_by_its_name_and_the_wires_at_its_plug(page: Page) -> None:
    job_with(page, "")
    press(page, "Measure a part that is not described here")
    page.find("[data-template]")
    page.keys("oil pressure switch")
    page.wait(
        lambda: page.all("[data-template]")[0].get_attribute("data-template") == "switch-to-ground", "the circuit by its name"
    )
    page.wait(lambda: next(b for b in page.all("fieldset button") if b.text == "1"), "the counts").click()
    page.wait(lambda: page.all("[data-template]")[0].get_attribute("data-template") == "switch-one-wire", "that with one wire")
    page.find("[data-template=switch-one-wire] button").click()
    page.find("[data-testid=proposal]")
    page.see("Oil pressure switch, typical")


def test_a_figure_is_looked_up_filled_in_or_published_nowhere(page: Page) -> None:
    """A coil that reads as little as hardly any: is it one of few ohms, or one whose turns are shorted?"""
    job_with(page, "")
    job = page.driver.current_url.rsplit("/", 1)[-1].split("?")[0]
    made = page.api("POST", f"/jobs/{job}/typical", {"client_key": str(uuid4()), "template": "solenoid-low-side"})
    read = {
        "instrument": "ohmmeter",
        "red": "X2.1/c",
        "black": "X2.2/c",
        "setup": {"controls": {"key": "off"}, "unplugged": ["X2"]},
    }
    page.api("POST", f"/diagnoses/{made['id']}/readings", {"client_key": str(uuid4()), "entry": "3.0", **read})
    page.open(f"/measure/{made['id']}")
    page.see("Coil resistance of")
    press(page, "Published nowhere")
    press(page, "include again")
    page.find("[aria-label='Look it up'] input").send_keys("thirty", Keys.ENTER)
    page.see("is not a number or a quantity")
    field = page.find("[aria-label='Look it up'] input")
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("29 to 31", Keys.ENTER)
    page.wait(lambda: not page.all("[aria-label='Look it up']"), "the figure to be known")


def test_a_name_that_nothing_fits_is_said_and_escape_leaves(page: Page) -> None:
    job_with(page, "")
    press(page, "Measure a part that is not described here")
    page.keys("bilge")
    page.see("Nothing is called that")
    page.keys(Keys.ESCAPE)
    page.wait(lambda: not page.all("[role=dialog]"), "the dialog to be gone")


def test_a_code_that_nobody_holds_leads_on_by_the_words_of_the_scan_tool(page: Page) -> None:
    job_with(page, "P1ABD")
    page.see("P1ABD")
    press(page, "describe it")
    page.wait(lambda: page.all("[role=dialog] input"), "the words")[0].send_keys("Oil pressure switch, circuit low")
    page.keys(Keys.ENTER)
    page.wait(lambda: not page.all("[role=dialog]"), "them to be kept")
    press(page, "Measure it")
    page.wait(
        lambda: page.all("[data-template]")[0].get_attribute("data-template") == "switch-to-ground", "the circuit by its words"
    )
    page.find("[data-template=switch-to-ground] button").click()
    page.find("[data-testid=proposal]")
    page.see("Oil pressure switch, circuit low, typical")


def test_codes_are_found_as_people_say_them(page: Page) -> None:
    page.open("/codes")
    page.find("main input")
    page.keys("443")
    page.see("if you mean P0443")
    page.wait(lambda: page.driver.find_element(By.PARTIAL_LINK_TEXT, "Canister purge valve: circuit"), "the code").click()
    page.see("What it does not say")
    page.see("P0444")
    page.open("/codes/P1443")
    page.see("A manufacturer's own code")
    page.open("/codes/P0A0B")
    page.see("Nothing is measured here")


def test_what_is_known_is_filled_in_without_leaving_the_measurement(page: Page) -> None:
    job_with(page, "P0443")
    page.find("[data-part=valve-pulsed] button").click()
    page.find("[data-template=valve-pulsed] button").click()
    page.find("[data-testid=proposal]")
    page.keys("k")

    def field(name: str) -> WebElement:
        return page.find(f"[data-known='{name}'] input")

    field("part.Y.coil_ohm").send_keys(Keys.CONTROL, "a")
    page.keys("24 to 28")
    field("wire.W1.colour").send_keys("bl")
    page.keys(Keys.ENTER)
    page.see("black or blue")
    field("wire.W1.colour").send_keys(Keys.CONTROL, "a")
    page.keys("WH/RD", Keys.ENTER)
    page.wait(lambda: not page.all("[role=dialog]"), "the dialog to be gone")
    page.see("white/red")
    page.keys("k")
    page.wait(lambda: field("part.Y.coil_ohm").get_attribute("value") == "24 to 28", "the figure that was filled in")
    page.keys(Keys.ESCAPE)
    page.wait(lambda: not page.all("[role=dialog]"), "the dialog to be gone")
    page.keys("operates", Keys.ENTER)
    page.wait(lambda: page.count_readings() == 1, "a reading on the new version")


def test_unlabelled_wires_are_told_apart_by_voltages(page: Page) -> None:
    job_with(page, "")
    press(page, "Measure a part that is not described here")
    page.find("[data-template]")
    page.keys("camshaft sensor")
    page.wait(lambda: next(b for b in page.all("fieldset button") if b.text == "3"), "the counts").click()
    press(page, "Which wire is which?")
    volts = {
        "off": ("0", "0", "0"),
        "on": ("0.00", "12.3", "5.0"),
        "load": ("0", "12.3", "4.1"),
        "up": ("-12.3", "0", "-7"),
        "joined": ("0.0", "12.3", "4.9"),
    }
    page.find("[data-next]").click()
    outcome = page.find("[data-testid=wires-outcome]")
    for _ in range(12):
        cavity, kind = (page.driver.switch_to.active_element.get_attribute("data-wire") or "").split(".")
        before = outcome.text
        page.keys(volts[kind][int(cavity) - 1], Keys.ENTER)
        page.wait(lambda before=before: outcome.text != before, "what the reading told")
        if "Told apart" in outcome.text:
            break
        page.wait(lambda: page.driver.switch_to.active_element.get_attribute("data-next"), "the next field under the cursor")
    assert [cell.get_attribute("data-carries") for cell in page.all("[data-carries]")] == ["ground", "supply", "signal"]
    press(page, "Measure with this")
    page.find("[data-testid=proposal]")
    page.see("Camshaft sensor, typical")


def test_what_the_readings_show_of_how_it_is_built_is_drawn_by_one_tap(page: Page) -> None:
    vehicle = {"make": "Brigg", "model": "Skerry scooter"}
    job = page.api("POST", "/jobs", {"client_key": str(uuid4()), "vehicle": vehicle, "codes": "P0443"})["id"]
    typical = {"client_key": str(uuid4()), "template": "solenoid-low-side", "code": "P0443"}
    diagnosis = page.api("POST", f"/jobs/{job}/typical", typical)["id"]
    for red in ("X2.1", "F1.2"):
        reading = {
            "client_key": str(uuid4()), "instrument": "voltmeter", "red": red, "black": "BAT.neg", "entry": "12.4",
            "setup": {"controls": {"key": "off"}, "unplugged": []},
        }  # fmt: skip
        page.api("POST", f"/diagnoses/{diagnosis}/readings", reading)
    page.open(f"/measure/{diagnosis}")
    page.see("the supply is permanent, not switched by the key")
    press(page, "Draw it so")
    page.wait(lambda: not page.all("[aria-label='How it is built']"), "the drawing to be as it is built")
    after = page.api("GET", f"/diagnoses/{diagnosis}")
    assert [one["red"] for one in after["readings"]] == ["X2.1", "F1.2"]
    assert all(effect["within_expected"] for effect in after["assessment"]["effects"])
