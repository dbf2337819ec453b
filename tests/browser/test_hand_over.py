"""The end of a job: what is said when the vehicle goes, the reports, and the day on which somebody asks again."""

from __future__ import annotations

from datetime import date, timedelta
from uuid import uuid4

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page
from tests.browser.test_screens import press

FETCH = """
const done = arguments[arguments.length - 1];
const ask = () => fetch(arguments[0]).then(async (r) => r.status === 202 ? setTimeout(ask, 500)  // still being worked out
  : done([r.status, r.headers.get("content-type"), (await r.text()).slice(0, 5)]));
ask();
"""


def new_job(page: Page, plate: str) -> str:
    vehicle = {"make": "Tessel", "model": "Quay", "plate": plate}
    return str(page.api("POST", "/jobs", {"client_key": str(uuid4()), "vehicle": vehicle, "codes": ""})["id"])


def test_a_hand_over_with_second_thoughts_and_its_reports(page: Page) -> None:
    job = new_job(page, f"QA {uuid4().hex[:6].upper()}")
    page.open(f"/jobs/{job}")
    press(page, "Hand-over and report")
    press(page, "not until repaired")
    page.wait(lambda: page.api("GET", f"/jobs/{job}")["answers"]["may_drive"]["value"] == "not until repaired", "the answer")
    press(page, "with limits")
    page.wait(lambda: page.api("GET", f"/jobs/{job}")["answers"]["may_drive"]["value"] == "with limits", "the second thought")
    page.find("section[aria-label='May it be driven?'] textarea").send_keys("Not faster than 80 km/h.", Keys.TAB)
    defect = page.find("section[aria-label='What else was seen'] input")
    defect.send_keys("Brake hose rubs | left", Keys.ENTER)
    page.find("select[aria-label='How urgent: Brake hose rubs / left']").send_keys("at once")
    page.wait(
        lambda: page.api("GET", f"/jobs/{job}")["answers"]["defects"]["value"] == ["Brake hose rubs / left | at once | advised"],
        "the defect",
    )
    press(page, "A week from today")
    page.see("How it went")
    day = date.fromisoformat(page.api("GET", f"/jobs/{job}")["answers"]["follow_up"]["value"])
    assert timedelta(days=6) <= day - date.today() <= timedelta(days=8)
    for link in page.driver.find_elements(By.PARTIAL_LINK_TEXT, "(PDF)"):
        status, kind, start = page.driver.execute_async_script(FETCH, link.get_attribute("href"))
        assert (status, kind, start) == (200, "application/pdf", "%PDF-")
    status, kind, start = page.driver.execute_async_script(
        FETCH, page.driver.find_element(By.LINK_TEXT, "For the calendar").get_attribute("href")
    )
    assert (status, kind.split(";")[0], start) == (200, "text/calendar", "BEGIN")


def test_a_job_that_is_due_stands_above_the_list_until_it_is_asked_after(page: Page) -> None:
    plate = f"QA {uuid4().hex[:6].upper()}"
    job = new_job(page, plate)
    body = {"client_key": str(uuid4()), "value": date.today().isoformat(), "seen_seq": 2_000_000_000}
    page.api("PUT", f"/jobs/{job}/answers/follow_up", body)
    page.open("/")
    page.find("section[aria-label='Follow-ups due']")
    page.wait(lambda: page.driver.find_element(By.PARTIAL_LINK_TEXT, plate), "the job that is due").click()
    press(page, "in order")
    page.wait(lambda: page.api("GET", f"/jobs/{job}")["answers"]["follow_up_result"]["value"] == "in order", "the result")
    page.open("/")
    page.see("Check in a vehicle")
    due = [one["job"]["plate"] for one in page.api("GET", "/follow-ups")["jobs"]]
    assert plate not in due
