"""The repair on the page of a conclusion: steps ticked off, one left out with its reason, a bad new part named; the report says so."""

from __future__ import annotations

from pathlib import Path
from urllib.request import Request, urlopen

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
    job = page.job_of("PA 40 LSK")
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
    page.find(f"{PLAN} [data-testid=parts] summary").click()
    selects = page.all(f"{PLAN} [data-testid=parts] select")
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


def test_a_job_goes_out_as_a_bundle_and_is_recognised_when_it_comes_back(page: Page, tmp_path: Path) -> None:
    page.sign_in()
    job = page.job_of("PA 62 TSL")
    page.go(f"/jobs/{job}?view=hand-over")
    link = page.wait(lambda: page.driver.find_element(By.PARTIAL_LINK_TEXT, "job bundle"), "the link")
    cookie = "; ".join(f"{c['name']}={c['value']}" for c in page.driver.get_cookies())
    with urlopen(Request(link.get_attribute("href"), headers={"Cookie": cookie})) as answer:
        bundle = tmp_path / "job.zip"
        bundle.write_bytes(answer.read())
    page.go("/jobs/new")
    page.find("[aria-label='Job bundle']").send_keys(str(bundle))
    page.see("of this workshop: open that one")
    broken = tmp_path / "broken.zip"
    broken.write_bytes(bundle.read_bytes()[:-400])
    page.find("[aria-label='Job bundle']").send_keys(str(broken))
    page.see("it is no zip file, or it is damaged")
