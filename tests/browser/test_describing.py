"""Six wiring sheets described in the browser by keys and by touch, counted at a human pace; and what goes wrong on the way."""

from __future__ import annotations

import statistics
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from uuid import uuid4

import pytest
from selenium.common.exceptions import ElementClickInterceptedException
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.conftest import Page
from tests.browser.test_layout import MEASURE, faults_of
from tests.browser.test_screens import press

TAP_S, CHARACTER_S, ITEM_S = 1.2, 0.28, 1.5
"""A person's pace: a tap, a character, and each item read off the sheet."""


@dataclass
class Hands:
    """What a person does, counted; every value typed has been read off the sheet."""

    page: Page
    keyboard: bool
    taps: int = 0
    characters: int = 0
    items: int = 0

    @property
    def seconds(self) -> float:
        return self.taps * TAP_S + self.characters * CHARACTER_S + self.items * ITEM_S

    def tap(self, find: Callable[[], WebElement], item: bool = False) -> None:
        """What is found is tapped; if something lies over it, a person pushes the page first, which counts as one more tap."""

        def done() -> bool:
            element = find()
            try:
                element.click()
            except ElementClickInterceptedException:
                self.page.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", element)
                self.taps += 1
                element.click()
            return True

        self.page.wait(done, "something to tap")
        self.taps += 1
        self.items += item

    def type(self, find: Callable[[], WebElement], text: str) -> None:
        """Into a field: by touch it is tapped first, by keys it is reached with Tab or Enter from the one before."""
        if self.keyboard:
            self.page.wait(lambda: self.page.driver.execute_script("arguments[0].focus(); return true", find()), "the field")
            self.characters += 1
        else:
            self.tap(find)
        self.page.wait(lambda: find().send_keys(text) is None, "the field to take the text")
        self.characters += len(text)
        self.items += 1

    def field(self, label: str, text: str) -> None:
        self.type(
            lambda: self.page.driver.find_element(By.XPATH, f"//label[starts-with(., '{label}')]/following-sibling::input"), text
        )

    def cell(self, column: str, row: int, text: str) -> None:
        self.type(lambda: self.page.driver.find_element(By.CSS_SELECTOR, f"[data-column='{column}'][data-row='{row}']"), text)

    def button(self, words: str, item: bool = False) -> None:
        self.tap(lambda: next(b for b in self.page.all("button, summary") if words in b.text), item)


def begin(hands: Hands, make: str, model: str, part: str, kind: str) -> None:
    hands.field("Make", make)
    hands.field("Model", model)
    hands.field("What the part is called", part)
    hands.tap(lambda: hands.page.driver.find_element(By.CSS_SELECTOR, f"[data-template='{kind}']"), item=True)


def pressure_and_temperature(hands: Hands) -> None:
    begin(hands, "Brigg", "Skerry", "intake pressure and temperature", "pressure-temperature-four-wire")
    for row, colour in enumerate(("pk/bk", "vt/wh", "ye/bu", "gn/bn")):
        hands.cell("colour", row, colour)
    hands.cell("shared", 1, "throttle sensor")
    hands.cell("shared", 3, "throttle sensor")


def oil_control_valve(hands: Hands) -> None:
    begin(hands, "Tessel", "Quay 2.2", "oil-control valve", "valve-pulsed")
    hands.cell("colour", 0, "wh/rd")
    hands.cell("colour", 1, "gy/bu")
    hands.cell("shared", 0, "exhaust valve,wastegate valve")
    hands.button("by a main relay", item=True)
    hands.field("Fuse, A", "15")
    hands.field("Valve: coil resistance", "7 to 8")


def rear_wiper(hands: Hands) -> None:
    begin(hands, "Orvane", "Lisk", "rear wiper", "wiper-on-its-module")
    for row, colour in enumerate(("rd", "bn", "", "bu", "gy")):
        if colour:
            hands.cell("colour", row, colour)
    hands.field("Fuse, A", "20")
    hands.button("Designations, place, and a connector")
    hands.field("Plug", "X90")
    hands.field("Connector on the way", "boot connector")
    hands.field("Cavities that go through it", "1 2 3")


def ventilation_heater(hands: Hands) -> None:
    begin(hands, "Halden", "Tern", "crankcase ventilation heater", "heater-relay")
    hands.cell("pin", 0, "57")
    hands.button("with the key", item=True)
    hands.field("Fuse, A", "10")
    hands.button("Designations, place, and a connector")
    hands.field("Where the plug sits", "under the intake")


def gear_range_switch(hands: Hands) -> None:
    begin(hands, "Tessel", "Quay", "gear range switch", "range-switch-coded")
    for row in range(4):
        hands.cell("pin", row, str(11 + row))
    hands.field("Positions, 1 for grounded", "P 1011,R 0100,N 1101,D 0010")
    hands.button("Designations, place, and a connector")
    hands.field("Module", "TCM")


def wide_band_sensor(hands: Hands) -> None:
    begin(hands, "Orvane", "Lisk", "wide-band oxygen sensor", "oxygen-wide-band-six-wire")
    hands.button("by a main relay", item=True)
    hands.field("Fuse, A", "15")


SHEETS = {
    "pressure and temperature": (pressure_and_temperature, "Intake pressure and temperature"),
    "oil-control valve": (oil_control_valve, "Oil-control valve"),
    "rear wiper": (rear_wiper, "Rear wiper"), "ventilation heater": (ventilation_heater, "Crankcase ventilation heater"),
    "gear range switch": (gear_range_switch, "Gear range switch"), "wide-band sensor": (wide_band_sensor, "Wide-band oxygen sensor"),
}  # fmt: skip


def test_six_sheets_by_keys_and_by_touch_at_a_human_pace(page: Page) -> None:
    taken: dict[tuple[str, bool], Hands] = {}
    for keyboard in (True, False):
        for name, (describe, title) in SHEETS.items():
            hands = taken[name, keyboard] = Hands(page, keyboard)
            page.open("/describe")
            describe(hands)
            hands.tap(lambda: next(b for b in page.all("button") if b.text == "Keep the circuit" and b.is_enabled()))
            page.wait(lambda: "/circuits/" in page.driver.current_url, "the circuit to be kept")
            page.see("Describe it further")
            page.find(f"[data-testid=drawing] svg[aria-label*='{title},']")
            assert not faults_of(page.driver.execute_script(MEASURE)), name
    for (name, keyboard), hands in taken.items():
        way = "keys" if keyboard else "touch"
        print(f"{name} by {way}: {hands.seconds:.0f} s, {hands.taps} taps, {hands.characters} characters, {hands.items} items")
    for keyboard in (True, False):
        assert statistics.median(hands.seconds for (_, way), hands in taken.items() if way is keyboard) <= 120.0
    assert max(hands.taps for hands in taken.values()) <= 40


def test_second_thoughts_wrong_keys_and_a_colour_that_may_be_two(page: Page) -> None:
    page.open("/describe")
    hands = Hands(page, keyboard=True)
    begin(hands, "Tessel", "Quay", "horn", "horn")
    hands.cell("colour", 0, "bl")
    page.see("black or blue")
    keep = next(b for b in page.all("button") if b.text == "Keep the circuit")
    assert not keep.is_enabled()
    press(page, "Undo")
    page.wait(lambda: "black or blue" not in page.text(), "the colour to be taken back")
    press(page, "Redo")
    page.see("black or blue")
    cell = page.find("[data-column='colour'][data-row='0']")
    cell.send_keys("ue")
    page.wait(keep.is_enabled, "a clear sheet")
    cell.send_keys(Keys.ENTER)
    assert page.driver.switch_to.active_element.get_attribute("data-row") == "1", "Enter goes down the column"
    page.see("A healthy vehicle shows")


def test_a_pin_table_fills_the_sheet_once_it_has_been_looked_at(page: Page, tmp_path: Path) -> None:
    table = tmp_path / "pins.csv"
    table.write_text("connector;cavity;colour;to\nX7;A;WH/RD;F12\nX7;B;GY/BU;ECM 31\nX1;31;GY/BU;X7 B\n", encoding="utf-8")
    page.open("/describe")
    begin(Hands(page, keyboard=True), "Tessel", "Quay", "oil-control valve", "valve-pulsed")
    page.find("input[type=file]").send_keys(str(table))
    page.see("a table with semicolons, 3 cavities")
    press(page, "Use 2 cavities")
    page.wait(lambda: page.find("[data-column='cavity'][data-row='1']").get_attribute("value") == "B", "the second cavity")
    assert page.find("[data-column='colour'][data-row='0']").get_attribute("value") == "white/red"
    assert page.find("[data-column='pin'][data-row='1']").get_attribute("value") == "31"


@pytest.mark.parametrize("part", ["oil-control valve"])
def test_from_a_code_to_the_sheet_to_measuring_and_the_sheet_comes_back(page: Page, part: str) -> None:
    job = page.api(
        "POST",
        "/jobs",
        {"client_key": str(uuid4()), "vehicle": {"make": "Tessel", "model": "Quay"}, "codes": ""},
    )
    page.open(f"/describe?job={job['id']}&part={part}")
    hands = Hands(page, keyboard=True)
    hands.tap(lambda: page.driver.find_element(By.CSS_SELECTOR, "[data-template='valve-pulsed']"))
    hands.cell("colour", 0, "wh/rd")
    page.wait(
        lambda: next(b for b in page.all("button") if b.text == "Keep it and measure" and b.is_enabled()), "a clear sheet"
    ).click()
    page.find("[data-testid=proposal]")
    version = page.api("GET", f"/jobs/{job['id']}")["diagnoses"][0]["circuit_version_id"]
    page.open(f"/circuits/{version}")
    page.wait(lambda: page.driver.find_element(By.LINK_TEXT, "Describe it further"), "the link").click()
    page.wait(
        lambda: page.find("[data-column='colour'][data-row='0']").get_attribute("value") == "wh/rd", "the sheet as it was typed"
    )


def test_the_sheet_turns_up_in_the_middle_of_measuring_and_no_reading_is_lost(page: Page) -> None:
    job = page.api("POST", "/jobs", {"client_key": str(uuid4()), "vehicle": {"make": "Tessel", "model": "Quay"}, "codes": "P0443"})
    body = {"client_key": str(uuid4()), "template": "valve-pulsed", "code": "P0443"}
    diagnosis = page.api("POST", f"/jobs/{job['id']}/typical", body)["id"]
    reading = {
        "client_key": str(uuid4()), "instrument": "voltmeter", "red": "X2.1", "black": "BAT.neg", "entry": "12.2",
        "setup": {"controls": {"key": "on"}, "unplugged": []},
    }  # fmt: skip
    before = page.api("POST", f"/diagnoses/{diagnosis}/readings", reading)["readings"]
    page.open(f"/measure/{diagnosis}")
    page.find("[data-testid=proposal]")
    page.command("k")
    page.wait(lambda: page.driver.find_element(By.LINK_TEXT, "I have the wiring sheet"), "the link").click()
    page.wait(
        lambda: page.all("section[aria-label='Vehicle and part'] input")[0].get_attribute("value") == "Tessel", "the job's make"
    )
    hands = Hands(page, keyboard=True)
    hands.tap(lambda: page.driver.find_element(By.CSS_SELECTOR, "[data-template='valve-pulsed']"))
    hands.cell("colour", 0, "wh/rd")
    words = "Keep it and go on measuring"
    page.wait(lambda: next(b for b in page.all("button") if b.text == words and b.is_enabled()), "a clear sheet").click()
    page.find("[data-testid=proposal]")
    page.see("12.2")
    after = page.api("GET", f"/diagnoses/{diagnosis}")
    assert after["readings"] == before
    assert page.api("GET", f"/circuits/{after['diagnosis']['circuit_version_id']}")["sheet"]["rows"][0]["colour"] == "wh/rd"
