"""What the measuring screen does besides readings: magnitudes, corrections, limits, calculators, procedures, expected values, faces."""

from __future__ import annotations

from uuid import uuid4

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page


@pytest.fixture
def measuring(page: Page) -> Page:
    """A new diagnosis of the fan circuit with a voltmeter at the relay, key on."""
    circuits = page.api("GET", "/circuits")["circuits"]
    version = next(c["version_id"] for c in circuits if c["slug"] == "radiator-fan-relay")
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Halden"}, "circuit_version_id": version, "complaint": "Fan silent"}
    job = page.api("POST", "/jobs", body)["id"]
    page.open(f"/measure/{page.api('GET', f'/jobs/{job}')['diagnoses'][0]['id']}")
    page.find("[data-testid=proposal]")
    return page


def tab(page: Page, words: str) -> None:
    page.wait(lambda: next(t for t in page.all("button[role=tab]") if t.text.startswith(words)), words).click()


def press(page: Page, words: str) -> None:
    page.wait(lambda: next(b for b in page.all("button") if b.text.startswith(words)), words).click()


def set_limit_up(page: Page, limit: str) -> None:
    """Through the limits card to a test of one's own."""
    tab(page, "Limits")
    page.find(f"[data-limit='{limit}'] button").click()
    page.see("Your test.")


def test_a_wrong_decimal_sign_is_asked_about_and_either_answer_is_taken(measuring: Page) -> None:
    set_limit_up(measuring, "X3-30-voltage-2")
    measuring.find("[data-testid=entry]").send_keys("0.0123", Keys.ENTER)
    measuring.see("Did you mean")
    assert measuring.count_readings() == 0
    press(measuring, "Yes, 12.30 V")
    measuring.wait(lambda: measuring.count_readings() == 1, "the reading that was meant")
    measuring.see("12.30 V")
    set_limit_up(measuring, "X3-87-voltage")
    measuring.find("[data-testid=entry]").send_keys("118", Keys.ENTER)
    measuring.see("a voltage between")
    measuring.keys(Keys.ESCAPE)


def test_a_correction_takes_the_place_of_its_reading_and_is_told(measuring: Page) -> None:
    set_limit_up(measuring, "X3-87-voltage")
    measuring.find("[data-testid=entry]").send_keys("8.1", Keys.ENTER)
    measuring.wait(lambda: measuring.count_readings() == 1, "the reading")
    press(measuring, "Correct")
    measuring.see("Replaces 8.10 V")
    entry = measuring.find("[data-testid=entry]")
    entry.send_keys(Keys.CONTROL, "a")
    entry.send_keys("11.8", Keys.ENTER)
    measuring.wait(lambda: measuring.count_readings() == 2, "both readings in the record")
    measuring.see("Corrected to 11.8")
    assert len(measuring.all("[data-voided=true]")) == 1


def test_undo_at_once_asks_nothing(measuring: Page) -> None:
    set_limit_up(measuring, "X3-87-voltage")
    measuring.find("[data-testid=entry]").send_keys("8.1", Keys.ENTER)
    measuring.wait(lambda: measuring.count_readings() == 1, "the reading")
    ActionChains(measuring.driver).key_down(Keys.CONTROL).send_keys("z").key_up(Keys.CONTROL).perform()
    measuring.see("Undone at once")


def test_the_limits_card_fills_in_words_and_signs(measuring: Page) -> None:
    set_limit_up(measuring, "X3-87-voltage")
    measuring.find("[data-testid=entry]").send_keys("11.8", Keys.ENTER)
    measuring.wait(lambda: measuring.all("[data-limit='X3-87-voltage'][data-decision=pass]"), "the limit to be kept")
    set_limit_up(measuring, "X20-1-voltage-2")
    measuring.find("[data-testid=entry]").send_keys("6.0", Keys.ENTER)
    measuring.wait(lambda: measuring.all("[data-limit='X20-1-voltage-2'][data-decision=fail]"), "the limit to be broken")
    measuring.see("outside limits: 6.00 V")
    measuring.see("Limits ✕1")


def test_a_calculation_goes_into_the_note_of_the_next_reading(measuring: Page) -> None:
    press(measuring, "Calculators")
    measuring.see("Source resistance")
    field = measuring.wait(
        lambda: next(i for i in measuring.all("[role=dialog] input") if i.get_attribute("value") == "11.8"), "the loaded voltage"
    )
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("11.4")
    measuring.see("1.00 Ω")
    press(measuring, "Put it into")
    measuring.keys(Keys.ESCAPE)
    set_limit_up(measuring, "X3-87-voltage")
    measuring.find("[data-testid=entry]").send_keys("11.8", Keys.ENTER)
    measuring.wait(lambda: measuring.count_readings() == 1, "the reading")
    measuring.see("source resistance 1.00 Ω")


def test_later_puts_a_proposal_off_and_brings_it_back(measuring: Page) -> None:
    first = measuring.proposal()
    press(measuring, "Later")
    measuring.wait(lambda: measuring.proposal() != first, "another proposal")
    measuring.see("1 for later, include again")
    press(measuring, "1 for later")
    measuring.wait(lambda: measuring.proposal() == first, "the first again")


def test_expected_values_of_a_suspect_are_shown_on_the_drawing(measuring: Page) -> None:
    set_limit_up(measuring, "X3-87-voltage")
    tab(measuring, "Suspects")
    measuring.find("[data-unit=W3] button").click()
    measuring.see("In italics: what a voltmeter shows with Wire W3")
    shown = measuring.wait(lambda: measuring.all("svg text[font-style=italic]"), "predicted values")
    assert len(shown) > 5
    before, after = (measuring.find(f"g[aria-label^='{ref}:'] text[font-style=italic]").text for ref in ("X3.87", "X20.1"))
    assert before != after, "the broken wire separates them"
    press(measuring, "Hide")
    measuring.wait(lambda: not measuring.all("svg text[font-style=italic]"), "a plain drawing")


def test_the_face_of_a_connector_places_the_probe(measuring: Page) -> None:
    set_limit_up(measuring, "X3-87-voltage")
    press(measuring, "face of X3")
    measuring.see("from the wire side")
    press(measuring, "See the open face")
    measuring.see("pins towards you")
    measuring.find("[role=dialog] button[aria-label^='Cavity 30']").click()
    measuring.wait(lambda: measuring.proposal()["red"] == "X3.30", "the red lead in cavity 30")


def test_an_own_test_is_told_why_it_is_not_first(measuring: Page) -> None:
    measuring.driver.find_element(By.CSS_SELECTOR, "g[aria-label^='BAT.pos:']").click()
    measuring.see("Why not first:")


def test_a_procedure_is_entered_followed_and_compared(measuring: Page) -> None:
    tab(measuring, "Procedure")
    press(measuring, "Enter a procedure")
    area = measuring.find("textarea")
    area.send_keys("sondar_procedure: 1")
    press(measuring, "Check and save")
    measuring.see("title: Field required")
    area.send_keys(Keys.CONTROL, "a")
    area.send_keys(Keys.DELETE)
    procedure = """sondar_procedure: 1
title: Fan silent
circuit: radiator-fan-relay
steps:
  1: {do: "Voltage at the relay", red: X3.87, when: {key: "on", fan: "on"}, min: 11, if_pass: {unit: M5}, if_fail: {unit: K3}}
"""
    measuring.driver.execute_cdp_cmd("Input.insertText", {"text": procedure})
    press(measuring, "Check and save")
    measuring.see("Voltage at the relay")
    press(measuring, "Set up step 1")
    measuring.see("Your test.")
    measuring.find("[data-testid=entry]").send_keys("11.8", Keys.ENTER)
    measuring.wait(lambda: measuring.all("[data-step='1'][data-decision=pass]"), "the step to be passed")
    measuring.see("Sondar holds Radiator fan (M5) to be at fault with")
    press(measuring, "Compare with")
    measuring.see("replaces a good unit")


def test_the_drawing_is_enlarged_and_fitted(measuring: Page) -> None:
    before = measuring.find("g[aria-label^='F14.2:'] circle").rect["width"]
    measuring.find("[aria-label='Larger drawing']").click()
    measuring.wait(lambda: measuring.find("g[aria-label^='F14.2:'] circle").rect["width"] > 1.2 * before, "a larger drawing")
    measuring.find("[aria-label='Whole drawing']").click()
    measuring.wait(lambda: measuring.find("g[aria-label^='F14.2:'] circle").rect["width"] <= 1.05 * before, "the whole drawing")


def test_circuits_are_found_by_other_names(page: Page) -> None:
    page.open("/circuits")
    page.find("main input").send_keys("lambda probe")
    page.wait(lambda: len(page.all("main ul a")) == 1, "one circuit")
    page.find("main ul a").click()
    page.see("Front oxygen sensor")
    page.see("Pins")
    page.see("Service")


def test_an_own_entry_is_not_fetched_a_second_time(measuring: Page) -> None:
    listen = """
    window.heard = 0;
    new EventSource(`/api/v1/jobs/${arguments[0]}/events`).addEventListener("entry", () => { window.heard += 1; });
    """
    fetched = "return performance.getEntriesByType('resource').filter(e => e.name.endsWith(arguments[0])).length"
    job = (measuring.find("h1 a").get_attribute("href") or "").rpartition("/")[2]
    diagnosis = measuring.driver.current_url.rpartition("/")[2]
    measuring.driver.execute_script(listen, job)
    set_limit_up(measuring, "X3-87-voltage")
    before = measuring.driver.execute_script(fetched, f"/diagnoses/{diagnosis}")
    measuring.find("[data-testid=entry]").send_keys("11.8", Keys.ENTER)
    measuring.wait(lambda: measuring.count_readings() == 1, "the reading")
    measuring.wait(lambda: measuring.driver.execute_script("return window.heard") == 1, "the event of the own entry")
    measuring.driver.execute_async_script("setTimeout(arguments[0], 1000)")  # longer than the page waits before it fetches
    assert before >= 1
    assert measuring.driver.execute_script(fetched, f"/diagnoses/{diagnosis}") == before


def test_the_drawing_is_worked_by_arrow_keys_and_space(measuring: Page) -> None:
    def focused() -> str:
        return measuring.driver.switch_to.active_element.get_attribute("aria-label") or ""

    stops = measuring.all("svg [role=button][tabindex='0']")
    assert len(stops) == 1, "one tab stop"
    measuring.driver.execute_script("arguments[0].focus()", stops[0])
    first = focused()
    measuring.keys(Keys.ARROW_DOWN)
    assert focused() not in ("", first)
    measuring.driver.execute_script("document.querySelector(\"g[aria-label^='F14.1:']\").focus()")
    measuring.keys(Keys.ARROW_DOWN)
    assert focused().startswith("F14.2:"), "the next point along the line"
    measuring.keys(" ")
    measuring.wait(lambda: measuring.proposal()["red"] == "F14.2", "the red probe on F14.2")
    assert measuring.find("[data-testid=entry]").get_attribute("value") == "", "the space was not typed"


def test_the_keys_are_listed(measuring: Page) -> None:
    measuring.keys("?")
    measuring.see("Keys")
    shown = measuring.find("[role=dialog]").text
    assert "The point cannot be reached" in shown
    assert "Calculators" in shown
    measuring.keys(Keys.ESCAPE)
    measuring.wait(lambda: not measuring.all("[role=dialog]"), "the dialog to close")


def test_a_term_is_explained_by_a_tap(measuring: Page) -> None:
    measuring.find("[aria-label='expected range: what it means']").click()
    measuring.see("What a healthy circuit shows at this test")


def test_what_is_seized_stays_in_the_plan_with_its_cost_until_it_is_apart(measuring: Page) -> None:
    set_limit_up(measuring, "M5-ohms")
    before = measuring.find("[data-testid=proposal]").text
    press(measuring, "Seized")
    dialog = measuring.find("[role=dialog]")
    assert "X20 Fan plug" in dialog.text, "what is to be taken apart comes first"
    minutes, price = dialog.find_elements(By.CSS_SELECTOR, "input[inputmode=decimal]")
    price.clear()
    price.send_keys("x")
    measuring.see("a price, 0 for nothing")
    price.clear()
    price.send_keys("12,50")
    minutes.clear()
    minutes.send_keys("25")
    press(measuring, "Count it from now on")
    measuring.wait(lambda: not measuring.all("[role=dialog]"), "the dialog to close")
    measuring.see("Seized: X20, 25 min and 12.50 more: it came apart")
    set_limit_up(measuring, "M5-ohms")
    shown = measuring.wait(
        lambda: (text := measuring.find("[data-testid=proposal]").text) != before and text, "the test with its cost"
    )
    assert "free X20, which is seized" in shown
    assert "agree the extra work" in shown
    press(measuring, "X20, 25 min")
    measuring.wait(lambda: "Seized: X20" not in measuring.text(), "it is no longer said to be seized")


def test_at_a_sealed_plug_the_lead_is_said_and_is_to_be_taken_out(measuring: Page) -> None:
    set_limit_up(measuring, "X20-1-voltage-2")
    measuring.see("reach X20, break-out lead between the halves of X20, key on, fan on")
    measuring.see("never pierce a seal or a wire")
    measuring.find("[data-testid=entry]").send_keys("11.7", Keys.ENTER)
    measuring.wait(lambda: measuring.count_readings() == 1, "the reading")
    measuring.find("a[title='What is to be put back stands on the job page']").click()
    measuring.see("Break-out lead at X20: take it out, connect the halves and check the seal")


def test_how_the_vehicle_is_switched_on_is_said_at_the_steps(measuring: Page) -> None:
    back = measuring.driver.current_url
    measuring.find("a[title='What is to be put back stands on the job page']").click()
    measuring.see("Switched on with")
    press(measuring, "a start button, hybrid or electric")
    measuring.wait(lambda: any("hybrid" in b.text for b in measuring.all("button[aria-pressed=true]")), "the answer is kept")
    measuring.driver.get(back)
    measuring.see("READY stays out")
    set_limit_up(measuring, "X3-87-voltage")
    measuring.see("A silent hybrid or electric vehicle is not off")
