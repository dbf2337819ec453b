"""What the bench does beside the straight way: slips of size, corrections, limits, sums, procedures, ghosts, faces, later."""

from __future__ import annotations

from uuid import uuid4

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page


@pytest.fixture
def bench(page: Page) -> Page:
    """A fresh bench on the fan circuit with a voltmeter at the relay, key on."""
    circuits = page.api("GET", "/circuits")["circuits"]
    version = next(c["version_id"] for c in circuits if c["slug"] == "radiator-fan-relay")
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Halden"}, "circuit_version_id": version, "complaint": "Fan silent"}
    job = page.api("POST", "/jobs", body)["id"]
    page.open(f"/bench/{page.api('GET', f'/jobs/{job}')['diagnoses'][0]['id']}")
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


def test_a_slip_of_the_decimal_sign_is_asked_about_and_either_answer_is_taken(bench: Page) -> None:
    set_limit_up(bench, "X3-87-voltage")
    bench.find("[data-testid=entry]").send_keys("0.0118", Keys.ENTER)
    bench.see("Did you mean")
    assert bench.count_readings() == 0
    press(bench, "Yes, 11.80 V")
    bench.wait(lambda: bench.count_readings() == 1, "the reading that was meant")
    bench.see("11.80 V")
    set_limit_up(bench, "X3-87-voltage")
    bench.find("[data-testid=entry]").send_keys("118", Keys.ENTER)
    bench.see("a voltage between")
    bench.keys(Keys.ESCAPE)


def test_a_correction_takes_the_place_of_its_reading_and_is_told(bench: Page) -> None:
    set_limit_up(bench, "X3-87-voltage")
    bench.find("[data-testid=entry]").send_keys("8.1", Keys.ENTER)
    bench.wait(lambda: bench.count_readings() == 1, "the reading")
    press(bench, "Correct")
    bench.see("Takes the place of 8.10 V")
    entry = bench.find("[data-testid=entry]")
    entry.send_keys(Keys.CONTROL, "a")
    entry.send_keys("11.8", Keys.ENTER)
    bench.wait(lambda: bench.count_readings() == 2, "both readings in the record")
    bench.see("Corrected to 11.8")
    assert len(bench.all("[data-voided=true]")) == 1


def test_undo_at_once_asks_nothing(bench: Page) -> None:
    set_limit_up(bench, "X3-87-voltage")
    bench.find("[data-testid=entry]").send_keys("8.1", Keys.ENTER)
    bench.wait(lambda: bench.count_readings() == 1, "the reading")
    ActionChains(bench.driver).key_down(Keys.CONTROL).send_keys("z").key_up(Keys.CONTROL).perform()
    bench.see("Undone at once")


def test_the_limits_card_fills_in_words_and_signs(bench: Page) -> None:
    set_limit_up(bench, "X3-87-voltage")
    bench.find("[data-testid=entry]").send_keys("11.8", Keys.ENTER)
    bench.wait(lambda: bench.all("[data-limit='X3-87-voltage'][data-decision=pass]"), "the limit to be kept")
    set_limit_up(bench, "X20-1-voltage-2")
    bench.find("[data-testid=entry]").send_keys("6.0", Keys.ENTER)
    bench.wait(lambda: bench.all("[data-limit='X20-1-voltage-2'][data-decision=fail]"), "the limit to be broken")
    bench.see("broken: 6.00 V")
    bench.see("Limits ✕1")


def test_a_sum_goes_into_the_note_of_the_next_reading(bench: Page) -> None:
    press(bench, "Sums")
    bench.see("Source resistance")
    field = bench.wait(
        lambda: next(i for i in bench.all("[role=dialog] input") if i.get_attribute("value") == "11.8"), "the loaded voltage"
    )
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("11.4")
    bench.see("1.00 Ω")
    press(bench, "Put it into")
    bench.keys(Keys.ESCAPE)
    set_limit_up(bench, "X3-87-voltage")
    bench.find("[data-testid=entry]").send_keys("11.8", Keys.ENTER)
    bench.wait(lambda: bench.count_readings() == 1, "the reading")
    bench.see("source resistance 1.00 Ω")


def test_later_puts_a_proposal_off_and_brings_it_back(bench: Page) -> None:
    first = bench.proposal()
    press(bench, "Later")
    bench.wait(lambda: bench.proposal() != first, "another proposal")
    bench.see("1 for later, bring back")
    press(bench, "1 for later")
    bench.wait(lambda: bench.proposal() == first, "the first again")


def test_predicted_values_of_a_suspect_lie_over_the_drawing(bench: Page) -> None:
    set_limit_up(bench, "X3-87-voltage")
    tab(bench, "Suspects")
    bench.find("[data-unit=W3] button").click()
    bench.see("Slanted: what a voltmeter shows with Wire W3")
    slanted = bench.wait(lambda: bench.all("svg text[font-style=italic]"), "predicted values")
    assert len(slanted) > 5
    before, after = (bench.find(f"g[aria-label^='{ref}:'] text[font-style=italic]").text for ref in ("X3.87", "X20.1"))
    assert before != after, "the broken wire parts them"
    press(bench, "Take them off")
    bench.wait(lambda: not bench.all("svg text[font-style=italic]"), "a plain drawing")


def test_the_face_of_a_connector_places_the_lead(bench: Page) -> None:
    set_limit_up(bench, "X3-87-voltage")
    press(bench, "face of X3")
    bench.see("from the wire side")
    press(bench, "See the open face")
    bench.see("pins towards you")
    bench.find("[role=dialog] button[aria-label^='Cavity 30']").click()
    bench.wait(lambda: bench.proposal()["red"] == "X3.30", "the red lead in cavity 30")


def test_an_own_test_is_told_why_it_is_not_first(bench: Page) -> None:
    bench.driver.find_element(By.CSS_SELECTOR, "g[aria-label^='BAT.pos:']").click()
    bench.see("Why not first:")


def test_a_chart_is_entered_followed_and_compared(bench: Page) -> None:
    tab(bench, "Chart")
    press(bench, "Enter a procedure")
    area = bench.find("textarea")
    area.send_keys("sondar_procedure: 1")
    press(bench, "Check and keep it")
    bench.see("title: Field required")
    area.send_keys(Keys.CONTROL, "a")
    area.send_keys(Keys.DELETE)
    procedure = """sondar_procedure: 1
title: Fan silent
circuit: radiator-fan-relay
steps:
  1: {do: "Voltage at the relay", red: X3.87, when: {key: "on", fan: "on"}, min: 11, if_pass: {unit: M5}, if_fail: {unit: K3}}
"""
    bench.driver.execute_cdp_cmd("Input.insertText", {"text": procedure})
    press(bench, "Check and keep it")
    bench.see("Voltage at the relay")
    press(bench, "Set step 1 up")
    bench.see("Your test.")
    bench.find("[data-testid=entry]").send_keys("11.8", Keys.ENTER)
    bench.wait(lambda: bench.all("[data-step='1'][data-decision=pass]"), "the step to be passed")
    bench.see("Sondar holds Radiator fan (M5) to be at fault with")
    press(bench, "Compare with")
    bench.see("condemns a good one")


def test_the_drawing_is_enlarged_and_fitted(bench: Page) -> None:
    before = bench.find("g[aria-label^='F14.2:'] circle").rect["width"]
    bench.find("[aria-label='Larger drawing']").click()
    bench.wait(lambda: bench.find("g[aria-label^='F14.2:'] circle").rect["width"] > 1.2 * before, "a larger drawing")
    bench.find("[aria-label='Whole drawing']").click()
    bench.wait(lambda: bench.find("g[aria-label^='F14.2:'] circle").rect["width"] <= 1.05 * before, "the whole drawing")


def test_circuits_are_found_by_other_names(page: Page) -> None:
    page.open("/circuits")
    page.find("main input").send_keys("lambda probe")
    page.wait(lambda: len(page.all("main ul a")) == 1, "one circuit")
    page.find("main ul a").click()
    page.see("Front oxygen sensor")
    page.see("Pins")
    page.see("Service")
