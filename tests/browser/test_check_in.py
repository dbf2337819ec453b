"""From the light that is on to the circuit to diagnosis, as it is done at a vehicle."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from uuid import uuid4

import pytest
from PIL import Image
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from sondar import demo
from tests.browser.conftest import Page, Site, browser
from tests.browser.test_screens import press

FIVE_CODES = """From the workshop's scan tool, 5 stored:
BCM B1D10 Left tail lamp  confirmed
BCM B1D11 Right tail lamp  confirmed
BCM U0157 Trailer module  confirmed
ECM P0236 history
ECM P0118 history
"""


@pytest.fixture
def tern_job(page: Page) -> str:
    """A van just checked in, nothing known yet; its page is open."""
    vehicle = {"make": "Halden", "model": "Tern", "year": 2018, "plate": f"QA {uuid4().hex[:6].upper()}"}
    job: str = page.api("POST", "/jobs", {"client_key": str(uuid4()), "vehicle": vehicle})["id"]
    page.open(f"/jobs/{job}")
    page.find("[aria-label='What is known']")
    return job


@pytest.fixture(scope="module")
def second(site: Site) -> Iterator[Page]:
    """Another person's tablet: a browser of its own, signed in as the technician."""
    with browser() as driver:
        other = Page(driver, site)
        other.sign_in("bay-two")
        yield other


def code_lines(page: Page) -> dict[str, str]:
    return {e.get_attribute("data-code") or "": e.get_attribute("data-behaviour") or "" for e in page.all("[data-code]")}


def test_five_pasted_codes_with_one_common_ground_lead_to_it(page: Page) -> None:
    """Plate, vehicle, codes pasted as they come, Enter; Sondar names the ground and opens its measuring. Keyboard only."""
    page.see("Check in a vehicle")
    page.keys("/")
    page.wait(lambda: page.driver.switch_to.active_element.get_attribute("type") == "search", "the search")
    page.keys("PA 31 NEW")
    page.see("Check in PA 31 NEW")
    page.keys(Keys.ENTER)
    page.wait(lambda: page.driver.switch_to.active_element.get_attribute("value") == "PA 31 NEW", "the plate carried over")
    page.keys(Keys.TAB, "Halden", Keys.TAB, "Tern", Keys.TAB, "2018")
    page.tab_to(lambda e: e.get_attribute("name") == "complaint")
    page.keys("Tail lamps out, trailer socket dead")
    page.tab_to(lambda e: e.get_attribute("name") == "codes")
    page.keys(FIVE_CODES.replace("\n", Keys.SHIFT + Keys.ENTER + Keys.NULL))
    page.tab_to(lambda e: e.text == "Check in")
    page.keys(Keys.ENTER)
    page.wait(lambda: "Rear ground" in page.find("[data-testid=triage]").text, "the triage")
    assert set(code_lines(page)) == {"B1D10", "B1D11", "U0157", "P0236", "P0118"}
    assert page.find("[data-candidate]").get_attribute("data-candidate") == "shared:G7"
    drawn = page.find("[aria-label^='Codes and']").text if page.all("[aria-label^='Codes and']") else page.text()
    assert "Rear ground" in drawn
    page.tab_to(lambda e: e.text == "Test this circuit first")
    page.keys(Keys.ENTER)
    page.find("[data-testid=proposal]")
    page.find("aside summary, [aria-label=Suspects] summary").click()
    page.see("Prior probabilities from the triage")
    suspects = page.suspects()
    leading = max(suspects, key=suspects.__getitem__)
    assert leading in ("W66", "G7", "SG", "X15"), "a section of the rear ground"


def test_clear_and_re_read_against_the_vehicle(page: Page) -> None:
    page.open_job("PA 27 TRN")
    press(page, "Read the vehicle")
    page.wait(lambda: {"B1D10", "B1D11", "U0157"} <= set(code_lines(page)), "the codes")
    modules = page.find("[data-testid=modules]").text
    assert "TSM did not answer" in modules
    assert "ECM answered" in modules
    page.wait(lambda: "Rear ground" in page.find("[data-testid=triage]").text, "the triage of the codes")
    press(page, "Clear and re-read")
    page.find("[data-testid=re-read]")
    page.see("the list from before is kept")
    time.sleep(3)
    press(page, "key cycled")
    press(page, "Read the vehicle again")
    page.wait(lambda: code_lines(page)["B1D10"] == "hard", "the code to be called hard")
    behaviour = code_lines(page)
    assert behaviour["B1D11"] == "hard"
    old = [code for code in behaviour if code.startswith("P0")]
    assert old
    assert all(behaviour[code] in ("history", "not run yet", "intermittent") for code in old), behaviour
    page.open(page.driver.current_url.removeprefix(page.site.url) + "?view=timeline")
    page.see("codes cleared")
    page.see("through the vehicle interface")


def test_symptoms_alone_are_enough_to_begin(page: Page, tern_job: str) -> None:
    page.see("Read the codes, or say what is noticed")
    press(page, "Washer")
    page.wait(lambda: "Washer" in page.find("[data-testid=triage]").text, "the triage")
    assert page.find("[data-candidate]").get_attribute("data-candidate") == "circuit:tern-washer-pump"
    press(page, "Test this circuit first")
    page.find("[data-testid=proposal]")


def test_a_vehicle_whose_circuits_nobody_knows_can_still_be_measured(page: Page) -> None:
    job = page.api("POST", "/jobs", {"client_key": str(uuid4()), "vehicle": {"make": "Brigg", "model": "Cob"}, "codes": "P1480"})[
        "id"
    ]
    page.open(f"/jobs/{job}")
    page.see("The circuits of Brigg Cob are not known here")
    page.see("A manufacturer's own code")
    press(page, "describe it")
    page.keys("Fan relay driver, behind the left lamp", Keys.ENTER)
    page.see("Fan relay driver, behind the left lamp")
    chosen = next(Select(e) for e in page.all("select") if "choose a circuit" in e.text)
    chosen.select_by_index(3)
    page.find("[data-testid=proposal]")


def test_the_other_tablet_sees_an_entry_within_a_second(page: Page, second: Page, tern_job: str) -> None:
    second.open(f"/jobs/{tern_job}?view=timeline")
    second.find("[data-testid=timeline]")
    page.open(f"/jobs/{tern_job}?view=timeline")
    page.find("[data-testid=timeline]")
    time.sleep(1)  # both look on
    page.find("input[placeholder='Write a note']").send_keys("Plug X15 is green inside", Keys.ENTER)
    page.see("Plug X15 is green inside")
    sent = time.monotonic()
    second.see("Plug X15 is green inside")
    assert time.monotonic() - sent < 1.0
    assert "M. V., workshop lead" in second.text(), "and from whom"


def test_readings_of_two_tablets_stand_side_by_side(page: Page, second: Page, tern_job: str) -> None:
    circuits = page.api("GET", f"/jobs/{tern_job}")["circuits"]
    version = next(c["version_id"] for c in circuits if c["slug"] == "radiator-fan-relay")
    diagnosis = page.api("POST", f"/jobs/{tern_job}/diagnoses", {"client_key": str(uuid4()), "circuit_version_id": version})["id"]
    for tablet in (page, second):
        tablet.open(f"/measure/{diagnosis}")
        tablet.find("[data-testid=proposal]")
        tablet.wait(lambda t=tablet: t.proposal()["instrument"] == "voltmeter" or t.keys(Keys.ARROW_DOWN), "a voltmeter test")
    time.sleep(1)
    page.keys("12.1", Keys.ENTER)
    second.keys("12.0", Keys.ENTER)
    for tablet in (page, second):
        tablet.wait(lambda t=tablet: t.count_readings() == 2, "both readings")


def test_two_answers_at_once_are_shown_and_neither_is_lost(page: Page, second: Page, tern_job: str) -> None:
    for tablet in (page, second):
        tablet.open(f"/jobs/{tern_job}")
        tablet.find("textarea")
    field = page.find("textarea")
    field.click()
    field.send_keys("Lamps weak since winter")
    other = second.find("textarea")
    other.click()
    other.send_keys("Lamps dead on the left", Keys.TAB)
    second.wait(
        lambda: second.api("GET", f"/jobs/{tern_job}")["job"]["complaint"] == "Lamps dead on the left", "the first to be kept"
    )
    time.sleep(1)
    assert field.get_attribute("value") == "Lamps weak since winter", "what someone is typing is not taken from them"
    page.keys(Keys.TAB)
    shown = page.find("[data-testid=conflict]").text
    assert "Lamps dead on the left" in shown
    assert "Lamps weak since winter" in shown
    assert "T. R., technician" in shown
    press(page, "Use mine")
    second.wait(
        lambda: second.find("textarea").get_attribute("value") == "Lamps weak since winter", "the answer on the other tablet"
    )


def test_every_answer_counts_and_a_wrong_one_is_explained(page: Page, tern_job: str, tmp_path: Path) -> None:
    press(page, "Washer")
    page.find("[data-testid=triage]")
    press(page, "salt or spray")
    page.see("Also considered")
    volts = page.driver.find_element(By.XPATH, "//label[contains(., 'Battery')]/following-sibling::input")
    volts.send_keys("twelve", Keys.TAB)
    page.see("A number is expected, e.g. 12.4")
    volts.send_keys(Keys.CONTROL, "a", Keys.NULL, "11,2", Keys.TAB)
    page.see("charge it first")
    picture = tmp_path / "plug.png"
    Image.new("RGB", (640, 480), "olive").save(picture)
    page.find("input[type=file][accept^=image]").send_keys(str(picture))
    page.wait(lambda: page.all("a[href*='/photos/'] img"), "the thumbnail")
    page.driver.refresh()
    page.see("charge it first")
    page.wait(
        lambda: page.driver.execute_script("return document.querySelector(\"a[href*='/photos/'] img\").naturalWidth > 0"),
        "the picture",
    )
    answers = page.api("GET", f"/jobs/{tern_job}")["answers"]
    assert answers["battery_v"]["value"] == 11.2
    assert answers["environment"]["value"] == ["salt"]


def test_jobs_are_found_by_plate_code_and_other_names_of_a_part(page: Page) -> None:
    search = page.find("input[type=search]")
    for question, plate in (
        ("PA40", "PA 40 LSK"),
        ("p0480", "PA 12 TRN"),
        ("cooling fan quay", "PA 12 TRN"),
        ("slipway", "PA 27 TRN"),
    ):
        search.send_keys(Keys.CONTROL, "a", Keys.NULL, question)
        page.wait(lambda q=question: f"q={q.replace(' ', '+')}" in page.driver.current_url, "the question asked")
        page.wait(lambda p=plate: any(p in a.text for a in page.all("ul a")), f"{plate} by '{question}'")
    search.send_keys(Keys.CONTROL, "a", Keys.NULL, "PA40")
    page.wait(lambda: len(page.all("ul a")) == 1, "one job")
    page.keys(Keys.ENTER)
    page.see("Vehicle, complaint and conditions")


def test_signing_in_and_out(site: Site) -> None:
    with browser() as driver:
        door = Page(driver, site)
        door.open("/settings")
        door.find("input[name=sign_in]").send_keys("bay-two")
        door.find("input[type=password]").send_keys("high-water-mark", Keys.ENTER)
        door.see("Name or password is not right")
        door.find("input[type=password]").send_keys(Keys.CONTROL, "a", Keys.NULL, demo.PASSWORD, Keys.ENTER)
        door.see("T. R.")
        assert "People" not in door.text(), "a technician manages nobody"
        cookie = next(c for c in driver.get_cookies() if "sondar" in c["name"])
        assert cookie["httpOnly"] is True
        assert cookie["sameSite"] in ("Lax", "Strict")
        press(door, "Sign out")
        door.find("input[name=sign_in]")
        door.open("/")
        door.find("input[name=sign_in]")


def test_who_only_reads_is_offered_nothing_to_write(site: Site) -> None:
    with browser() as driver:
        door = Page(driver, site)
        door.sign_in("office")
        door.open("/?q=PA40")
        door.see("PA 40 LSK")
        assert "Check in a vehicle" not in door.text()
        door.open_job("PA 27 TRN")
        door.find("[data-testid=triage]")
        for words in ("Test this circuit first", "Clear and re-read", "Read the vehicle", "Keep"):
            assert words not in door.text()
        door.open_diagnosis("PA 12 TRN")
        door.find("[data-testid=proposal]")
        assert not [e for e in door.all("[data-testid=entry]") if e.is_enabled()]


def test_a_link_shows_the_job_to_a_stranger_until_it_is_ended(page: Page, site: Site) -> None:
    page.open_job("PA 40 LSK")
    press(page, "Share")
    page.wait(lambda: page.driver.find_element(By.XPATH, "//label[contains(., 'with the plate')]"), "the choice").click()
    press(page, "Make a link")
    link = page.wait(lambda: page.find("[data-testid=share-link]").get_attribute("value"), "the link")
    with browser() as driver:
        stranger = Page(driver, site)
        driver.get(link)
        stranger.see("PA 40 LSK")
        stranger.see("P0073")
        assert not stranger.all("input, textarea")
        press(page, "End it")
        page.see("Ended.")
        driver.refresh()
        stranger.see("expired or was ended")
        stranger.open("/")
        stranger.find("input[name=sign_in]")


def test_the_lead_adds_a_person_and_a_meter(page: Page, site: Site) -> None:
    page.open("/settings")
    page.see("People")
    name = f"mate-{uuid4().hex[:5]}"
    for person in ("harbour", "bay-two", "office"):
        page.see(person)
    page.api("POST", "/accounts", {"sign_in": name, "name": "D. K.", "role": "technician", "password": "quiet-bilge-pump"})
    page.driver.refresh()
    page.see(name)
    with browser() as driver:
        mate = Page(driver, site)
        mate.open("/")
        mate.find("input[name=sign_in]").send_keys(name)
        mate.find("input[type=password]").send_keys("quiet-bilge-pump", Keys.ENTER)
        mate.see("Check in a vehicle")


def test_the_workshop_reads_in_its_own_units(page: Page, tern_job: str) -> None:
    workshop = page.api("GET", "/session")["workshop"]
    changed = {k: v for k, v in workshop.items() if k != "id"}
    try:
        page.api("PUT", "/workshop", {**changed, "distance_unit": "mi", "temperature_unit": "F"})
        page.driver.refresh()
        page.see("Mileage, miles")
        page.see("Part temperature, °F")
        field = page.driver.find_element(By.XPATH, "//label[contains(., 'Mileage')]/following-sibling::input")
        field.send_keys("62000", Keys.TAB)
        page.wait(lambda: "mileage_km" in page.api("GET", f"/jobs/{tern_job}")["answers"], "the answer")
        assert page.api("GET", f"/jobs/{tern_job}")["answers"]["mileage_km"]["value"] == 99779
        degrees = page.driver.find_element(By.XPATH, "//label[contains(., 'Part temperature')]/following-sibling::input")
        assert degrees.get_attribute("value") == "", "nobody has measured it"
        assert degrees.get_attribute("placeholder") == "not measured, 68 assumed"
        degrees.send_keys("50", Keys.TAB)
        page.wait(lambda: "temperature_c" in page.api("GET", f"/jobs/{tern_job}")["answers"], "the answer")
        assert page.api("GET", f"/jobs/{tern_job}")["answers"]["temperature_c"]["value"] == 10
    finally:
        now = page.api("GET", "/session")["workshop"]
        page.api("PUT", "/workshop", {**changed, "version": now["version"]})
