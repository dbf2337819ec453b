"""Six complete jobs of different families, from taking in to the conclusion: once with the keyboard only, once with touch only.

One is run with the server killed and started again in the middle, one with the network gone for a while.
"""

from __future__ import annotations

import os
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from sondar.circuit_files import library_circuits
from sondar.core.circuit.network import Circuit
from sondar.simulators.vehicle import SimulatedVehicle
from tests.browser.conftest import Page
from tests.conftest import circuit_of

MOST_READINGS = 25
GONE_S = float(os.environ.get("SONDAR_TEST_GONE_S", "15"))
"""Ten times the interval of sending again; ``./run nightly`` waits a whole minute."""
BETWEEN_TAPS_S = 0.2
"""No finger is faster; the page may still move after the tap before."""


@dataclass(frozen=True)
class Job:
    """One hidden fault and the way to its circuit."""

    circuit: str
    make: str
    sought: str
    complaint: str
    fault: str
    unit: str
    group: str
    seed: int


JOBS = [
    Job("radiator-fan-relay", "Halden", "cooling fan", "Boils at idle", "W3.open", "W3", "Wiring", 3),
    Job("ambient-temperature", "Orvane", "outside temperature", "Shows dashes", "B9.open", "B9", "Component", 5),
    Job("tern-rail-pressure", "Halden", "rail sensor", "Limps", "W33.open", "W33", "Wiring", 7),
    Job("tessel-purge-valve", "Tessel", "EVAP", "Lamp on after filling up", "Y6.open", "Y6", "Component", 9),
    Job("tern-tail-lamps", "Halden", "tail light", "Left rear dark", "H1.open", "H1", "Component", 11),
    Job("tern-modules-and-bus", "Halden", "no communication", "Starts, then nothing answers", "F15.open", "F15", "Wiring", 13),
]


class Hands(ABC):
    """How the interface is worked: every step of a job as this pair of hands does it."""

    def __init__(self, page: Page) -> None:
        self.page = page

    @abstractmethod
    def check_in(self, job: Job) -> None:
        """From the job list to the open measuring."""

    @abstractmethod
    def record(self, text: str) -> None:
        """Type and record one reading."""

    @abstractmethod
    def conclude(self) -> None:
        """Conclude."""


class Keyboard(Hands):
    """Keys alone: never a click, never a tap."""

    def check_in(self, job: Job) -> None:
        page = self.page
        page.open("/")
        page.see("Check in a vehicle")
        page.keys("n")
        page.wait(lambda: page.driver.switch_to.active_element.get_attribute("name") == "plate", "the plate to have the focus")
        page.keys(Keys.TAB, job.make)
        page.tab_to(lambda e: e.get_attribute("name") == "complaint")
        page.keys(job.complaint)
        page.tab_to(lambda e: e.tag_name == "summary")
        page.keys(Keys.ENTER)
        page.wait(lambda: page.all("[role=radio]"), "the circuits")
        page.keys(Keys.TAB, job.sought)
        page.wait(lambda: len(page.all("[role=radio]")) == 1, f"one circuit called {job.sought}")
        page.keys(Keys.TAB, " ")
        page.wait(lambda: page.all("[role=radio][data-state=checked]"), "the circuit to be chosen")
        page.tab_to(lambda e: e.text == "Check in and measure")
        page.keys(Keys.ENTER)

    def record(self, text: str) -> None:
        self.page.keys(text, Keys.ENTER)

    def conclude(self) -> None:
        self.page.keys("v")


class Touch(Hands):
    """A finger alone: taps as the browser's own touch events; letters only on the on-screen keyboard of text fields."""

    def tap(self, element: WebElement) -> None:
        driver = self.page.driver
        time.sleep(BETWEEN_TAPS_S)
        driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", element)
        box = driver.execute_script(
            "const b = arguments[0].getBoundingClientRect(); return [b.x + b.width / 2, b.y + b.height / 2, b.width, b.height]",
            element,
        )
        assert min(box[2:]) >= 24, "a target of at least 24 px"
        point = [{"x": box[0], "y": box[1]}]
        driver.execute_cdp_cmd("Input.dispatchTouchEvent", {"type": "touchStart", "touchPoints": point})
        driver.execute_cdp_cmd("Input.dispatchTouchEvent", {"type": "touchEnd", "touchPoints": []})

    def tap_text(self, text: str, css: str = "button") -> None:
        self.tap(self.page.wait(lambda: next(e for e in self.page.all(css) if e.text.startswith(text) and e.is_displayed()), text))

    def fill(self, css: str, text: str) -> None:
        self.tap(self.page.find(css))
        self.page.wait(
            lambda: self.page.driver.switch_to.active_element == self.page.driver.find_element(By.CSS_SELECTOR, css),
            f"focus in {css}",
        )
        self.page.driver.execute_cdp_cmd("Input.insertText", {"text": text})

    def check_in(self, job: Job) -> None:
        page = self.page
        page.open("/")
        self.tap(page.wait(lambda: next(e for e in page.all("a, button") if e.text.startswith("Check in a vehicle")), "the way in"))
        self.fill("input[name=make]", job.make)
        self.fill("textarea[name=complaint]", job.complaint)
        self.tap(page.find("summary"))
        self.fill("details input:not([type=file])", job.sought)
        page.wait(lambda: len(page.all("[role=radio]")) == 1, f"one circuit called {job.sought}")
        self.tap(page.find("[role=radio]"))
        self.tap_text("Check in and measure")

    def record(self, text: str) -> None:
        page = self.page
        words = {b.text: b for b in page.all("form button") if len(b.text) > 1}
        button = next((b for label, b in words.items() if label == text or label.startswith(f"{text} (")), None)
        if button is not None:
            self.tap(button)
            return
        if not page.all("[aria-label='Number pad']"):
            self.tap_text("Number pad")
        for sign in text.replace("-", "−"):
            pad = page.wait(lambda: page.driver.find_element(By.CSS_SELECTOR, "[aria-label='Number pad']"), "the pad")
            self.tap(next(b for b in pad.find_elements(By.TAG_NAME, "button") if b.text == sign))
        self.tap_text("Record")

    def conclude(self) -> None:
        self.tap_text("Conclude")


def carry_out(page: Page, hands: Hands, job: Job, circuit: Circuit, disturb: Callable[[int], None] = lambda _: None) -> int:
    """From taking in to the conclusion; the number of readings it took."""
    vehicle = SimulatedVehicle(circuit, [(job.fault, None)], job.seed)
    hands.check_in(job)
    page.find("[data-testid=proposal]")
    made = 0
    while "Further measuring is not needed" not in page.text():
        assert made < MOST_READINGS, "no conclusion in sight"
        hands.record(typed(page, vehicle))
        made += 1
        disturb(made)
        page.wait(lambda n=made: page.count_readings() == n or asked_again(page), f"reading {made}")
        assert page.count_readings() == made, page.text()
    hands.conclude()
    page.wait(lambda: job.group in page.find("[data-testid=conclusion]").text, "the conclusion")
    assert job.unit in page.find("[data-testid=conclusion]").text
    return made


def asked_again(page: Page) -> bool:
    return bool(page.find("#entry-problem").text)


def typed(page: Page, vehicle: SimulatedVehicle) -> str:
    return page.measure_proposal(vehicle).removesuffix("Hz").removesuffix("%").removesuffix("A")


@pytest.fixture(params=[Keyboard, Touch], ids=["keyboard", "touch"])
def hands(page: Page, request: pytest.FixtureRequest) -> Iterator[Hands]:
    page.driver.execute_cdp_cmd("Emulation.setTouchEmulationEnabled", {"enabled": request.param is Touch, "maxTouchPoints": 1})
    yield request.param(page)
    page.driver.execute_cdp_cmd("Emulation.setTouchEmulationEnabled", {"enabled": False})


@pytest.mark.parametrize("job", JOBS, ids=lambda job: job.circuit)
def test_a_complete_job(page: Page, hands: Hands, job: Job) -> None:
    readings = carry_out(page, hands, job, circuit_of(library_circuits()[job.circuit]))
    assert readings >= 2


def test_a_job_whose_server_is_killed_in_the_middle(page: Page) -> None:
    def kill(made: int) -> None:
        if made == 2:
            page.site.kill()
            time.sleep(1.0)
            page.site.start()

    job = JOBS[1]
    carry_out(page, Keyboard(page), job, circuit_of(library_circuits()[job.circuit]), kill)


def test_a_job_whose_network_is_gone_for_a_while(page: Page) -> None:
    job = JOBS[2]
    offline = {"offline": True, "latency": 0, "downloadThroughput": 0, "uploadThroughput": 0}

    def restore() -> None:
        online = {**offline, "offline": False, "downloadThroughput": -1, "uploadThroughput": -1}
        page.driver.execute_cdp_cmd("Network.emulateNetworkConditions", online)

    def cut(made: int) -> None:
        if made == 2:
            page.see("kept here")
            began = time.monotonic()
            while time.monotonic() - began < GONE_S:
                assert "kept here" in page.text(), "the entry stays in sight all the time"
                time.sleep(5.0)
            restore()

    class CutKeyboard(Keyboard):
        entered = 0

        def record(self, text: str) -> None:
            self.entered += 1
            if self.entered == 2:
                page.driver.execute_cdp_cmd("Network.enable", {})
                page.driver.execute_cdp_cmd("Network.emulateNetworkConditions", offline)
            super().record(text)

    try:
        carry_out(page, CutKeyboard(page), job, circuit_of(library_circuits()[job.circuit]), cut)
    finally:
        restore()
