"""From the diagnosis to the proof of the repair, on the screen."""

from __future__ import annotations

from uuid import uuid4

import pytest
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page

CUT = [("5.01", "X2.11"), ("0.00", "X31.1"), ("0.00", "X31.2"), ("5.01", "X12.7")]


@pytest.fixture
def cut(page: Page) -> str:
    """A diagnosis on which the wire W2 has been found open."""
    version = next(c["version_id"] for c in page.api("GET", "/circuits")["circuits"] if c["slug"] == "ambient-temperature")
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Orvane"}, "circuit_version_id": version, "complaint": "Shows dashes"}
    found: str = page.api("GET", f"/jobs/{page.api('POST', '/jobs', body)['id']}")["diagnoses"][0]["id"]
    for entry, red in CUT:
        test = {"instrument": "voltmeter", "red": red, "black": "BAT.neg", "setup": {"controls": {"key": "on"}}}
        page.api("POST", f"/diagnoses/{found}/readings", {"client_key": str(uuid4()), "entry": entry, **test})
    return found


def click(page: Page, words: str) -> None:
    page.wait(lambda: [b for b in page.all("button") if b.text.startswith(words) and b.is_displayed()], f"a button {words}")[
        0
    ].click()


def test_a_repair_is_recorded_verified_and_proved(page: Page, cut: str) -> None:
    page.open(f"/measure/{cut}/diagnosis")
    page.find("[data-testid=conclusion]")
    click(page, "Record the repair")
    page.see("What was done?")
    click(page, "Cancel")  # second thoughts: nothing is recorded
    assert page.api("GET", f"/diagnoses/{cut}")["repairs"] == []
    click(page, "Record the repair")
    click(page, "Replaced")
    page.see("To verify, 1 of 1 left")
    page.see("Not verified yet")
    page.see("since the repair")
    page.open(f"/measure/{cut}")
    page.see("To verify, 1 of 1 left")
    click(page, "Measure")
    page.see("Your test.")
    page.find("[data-testid=entry]").send_keys("4.95", Keys.ENTER)
    page.see("✕ now 4.95 V")
    click(page, "Measure")
    page.find("[data-testid=entry]").send_keys("2.74", Keys.ENTER)
    page.see("the repair is proved")
    page.see("was measured before it")


def test_a_job_is_not_closed_before_the_proof(page: Page, cut: str) -> None:
    page.api("POST", f"/diagnoses/{cut}/repairs", {"client_key": str(uuid4()), "units": ["W2"], "action": "Replaced"})
    job = page.api("GET", f"/diagnoses/{cut}")["job"]["id"]
    page.open(f"/jobs/{job}")
    stage = page.wait(lambda: [s for s in page.all("select") if "verify" in s.text], "the stage")[0]
    stage.send_keys("closed")
    page.see("have not been within the expected range yet")
    assert page.api("GET", f"/jobs/{job}")["job"]["stage"] == "verify"


def test_a_job_is_closed_once_everything_is_put_back(page: Page, cut: str) -> None:
    job = page.api("GET", f"/diagnoses/{cut}")["job"]["id"]
    page.open(f"/jobs/{job}")
    page.see("To put back")
    stage = page.wait(lambda: [s for s in page.all("select") if "verify" in s.text], "the stage")[0]
    stage.send_keys("closed")
    page.see("Put back first")
    left = len(page.all("section[aria-label='To put back'] input"))
    assert left >= 1
    for _ in range(left):
        box = page.find("section[aria-label='To put back'] input:not(:checked):not(:disabled)")
        box.click()
        page.wait(lambda box=box: box.is_selected(), "the tick to be kept")
    page.see("All put back")
    page.wait(lambda: [s for s in page.all("select") if "verify" in s.text], "the stage")[0].send_keys("closed")
    page.wait(lambda: page.api("GET", f"/jobs/{job}")["job"]["stage"] == "closed", "the job to be closed")
