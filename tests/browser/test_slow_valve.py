"""From a code that says *too slow* to the called part: what is measured steadily is good, and the recording of a command says the rest."""

from __future__ import annotations

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page
from tests.browser.test_screens import press

SLOW = "M12@system"


def test_a_valve_that_follows_too_slowly_is_recorded_and_called(page: Page) -> None:
    page.sign_in()
    page.open_job("PA 24 QUY")
    page.find("[data-testid=triage]")
    press(page, "Test this circuit first")
    for _ in range(12):
        test = page.proposal()
        if test["recorded"]:
            break
        before = page.count_readings()
        page.keys("r")
        page.wait(lambda: page.find("[data-testid=entry]").get_attribute("value"), "an answer of the vehicle")
        page.keys(Keys.ENTER)
        page.wait(lambda: page.count_readings() > before, "the reading")  # noqa: B023
    assert test["instrument"] in ("response-time", "response-delay"), "what steady readings cannot tell is recorded"
    assert page.suspects()[SLOW] > 0.5
    page.driver.find_element(By.XPATH, "//a[contains(., 'command and record it')]").click()
    page.see("The valve on the exhaust side opens")
    page.see("Keep fingers out of the valve")
    press(page, "Command recirculation valve")
    page.wait(lambda: page.find("[data-run-state]").get_attribute("data-run-state") == "ended", "the end of the run")
    press(page, "It moves")
    press(page, "Done")
    page.find("[data-recording='Recirculation valve'] a").click()
    page.find("[data-strip='Recirculation valve position']")
    assert page.wait(lambda: page.all("[data-feature=lag] button"), "the time it takes")
    page.all("[data-feature=lag] button")[0].click()
    press(page, "Use as a reading")
    page.see("It counts as a reading")
    page.driver.find_element(By.XPATH, "//a[contains(., 'see what it did')]").click()
    page.wait(lambda: page.suspects().get(SLOW, 0.0) > 0.95, "the call")
    page.see("Recirculation valve moves slowly")
