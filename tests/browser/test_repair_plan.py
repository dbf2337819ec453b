"""The repair on the page of a conclusion: steps ticked off, one left out with its reason, a bad new part named; the report says so."""

from __future__ import annotations

from selenium.webdriver.common.by import By
from selenium.webdriver.support.ui import Select

from tests.browser.conftest import Page
from tests.browser.test_screens import press

PLAN = "section[aria-label=Repair]"


def open_steps(page: Page) -> int:
    found: str = page.find(f"{PLAN} [data-testid=steps-open]").text
    return 0 if found.startswith("Every") else int(found.split()[0])


def test_a_repair_is_worked_through_and_a_bad_new_part_named(page: Page) -> None:
    page.sign_in()
    job = next(job["id"] for job in page.api("GET", "/jobs")["jobs"] if job["plate"] == "PA 40 LSK")
    [diagnosis] = page.api("GET", f"/jobs/{job}")["diagnoses"]
    page.go(f"/measure/{diagnosis['id']}/diagnosis")
    steps = open_steps(page)
    assert steps >= 4
    page.find(f"{PLAN} li input[type=checkbox]").click()
    page.wait(lambda: open_steps(page) == steps - 1, "the first step to be done")
    last = page.all(f"{PLAN} li[data-step]")[-1]
    last.find_element(By.CSS_SELECTOR, "button").click()
    page.find(f"{PLAN} form input").send_keys("codes are read next week")
    page.find(f"{PLAN} form button").click()
    page.wait(lambda: open_steps(page) == steps - 2, "the last step to be left out")
    page.see("Left out: codes are read next week")
    page.find(f"{PLAN} summary").click()
    selects = page.all(f"{PLAN} details select")
    Select(selects[0]).select_by_visible_text("used")
    page.see("may be locked to its former vehicle")
    Select(selects[1]).select_by_visible_text("bad")
    press(page, "Add the part")
    page.see("This new part is bad: it does not go in.")
    page.open(f"/measure/{diagnosis['id']}/diagnosis")
    page.see("This new part is bad: it does not go in.")
    page.wait(lambda: open_steps(page) == steps - 2, "what was ticked to be kept")
    page.open(f"/api/v1/jobs/{job}/report?reader=colleague&form=html")
    page.see("codes are read next week")
