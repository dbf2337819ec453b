"""Whole jobs in the real interface, with the mess of real use."""

from __future__ import annotations

from pathlib import Path
from uuid import uuid4

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from sondar.simulators.vehicle import SimulatedVehicle
from tests.browser.conftest import Page
from tests.conftest import FAN_TEXT, LATCH_TEXT, ROOT
from tests.core.describing.sheets import OIL_CONTROL_VALVE

AXE = (ROOT / "frontend" / "node_modules" / "axe-core" / "axe.min.js").read_text(encoding="utf-8")


def check_in(page: Page, circuit_file: Path) -> None:
    """From the job list to the measuring screen of a new job; keyboard only, the file given to the browser's file field."""
    page.open("/")
    page.see("Check in a vehicle")
    page.keys("n")
    page.wait(lambda: page.driver.switch_to.active_element.get_attribute("name") == "plate", "the first field to have the focus")
    page.keys("PA 77 TSL", Keys.TAB, "Tessel", Keys.TAB, "Quay")
    page.tab_to(lambda e: e.get_attribute("name") == "complaint")
    page.keys("Washer does nothing, tailgate is fine")
    page.tab_to(lambda e: e.tag_name == "summary")
    page.keys(Keys.ENTER)
    page.find("input[type=file]").send_keys(str(circuit_file))
    page.see("Loaded:")
    page.tab_to(lambda e: e.text == "Check in and measure")
    page.keys(Keys.ENTER)
    page.find("[data-testid=proposal]")


def test_a_circuit_the_team_did_not_write_comes_to_a_conclusion_by_keyboard(
    page: Page, latch_vehicle: SimulatedVehicle, tmp_path: Path
) -> None:
    file = tmp_path / "tailgate.yaml"
    file.write_text(LATCH_TEXT)
    check_in(page, file)
    made = 0
    while "Further measuring is not needed" not in page.text():
        assert made < 25, "no conclusion in sight"
        page.keys(page.measure_proposal(latch_vehicle), Keys.ENTER)
        made += 1
        page.wait(lambda n=made: page.count_readings() == n, f"reading {made}")
        if made == 2:
            page.driver.refresh()
            page.wait(lambda: page.count_readings() == 2, "the readings after a reload")
            page.find("[data-testid=proposal]")
    suspects = page.suspects()
    assert max(suspects, key=suspects.__getitem__) == "W7"
    page.keys("v")
    page.wait(lambda: "Wiring" in page.find("[data-testid=conclusion]").text, "the conclusion")
    assert "W7" in page.find("[data-testid=conclusion]").text
    assert "local codes and licensed practice come first" in page.text()


def test_a_broken_file_shows_every_error_with_its_line(page: Page, tmp_path: Path) -> None:
    file = tmp_path / "broken.yaml"
    file.write_text(FAN_TEXT.replace("rating_a: 40", "rating_a: forty").replace("to: X3.86", "to: X3.68"))
    page.open("/jobs/new")
    page.find("summary").click()
    page.find("input[type=file]").send_keys(str(file))
    page.see("Nothing was stored")
    page.see("parts.F14.rating_a")
    line = next(i for i, text in enumerate(FAN_TEXT.splitlines(), 1) if "rating_a: 40" in text)
    page.see(f"line {line}")
    file.write_text(FAN_TEXT.replace("to: X3.86", "to: X3.68"))
    page.find("input[type=file]").send_keys(str(file))
    page.see("'X3.68' names no terminal")
    page.see("no wire ends at X3.86")


def test_read_the_meter_void_and_refuse(page: Page) -> None:
    page.open_diagnosis("PA 19 TRN")
    page.find("[data-testid=proposal]")
    before = page.suspects()
    page.keys("r")
    entry = page.find("[data-testid=entry]")
    page.wait(lambda: entry.get_attribute("value"), "the meter's figure in the field")
    page.keys(Keys.ENTER)
    page.wait(lambda: page.count_readings() == 1, "the reading")
    assert page.suspects() != before
    page.keys("z")
    page.see("Void")
    page.tab_to(lambda e: e.text == "Wrong point")
    page.keys(Keys.ENTER)
    page.wait(lambda: page.all("[data-voided=true]"), "the crossed-out reading")
    page.wait(lambda: page.suspects() == before, "the suspects as before")
    assert "Wrong point" in page.text()
    # An unreachable point: it drops out, another test comes, and it can be brought back.
    first = page.proposal()
    page.keys("x")
    page.see("include again")
    assert page.proposal() != first
    page.find("[data-testid=entry]").click()
    page.driver.find_element(By.XPATH, "//button[contains(., 'include again')]").click()
    page.wait(lambda: "include again" not in page.text(), "the place to be back")


@pytest.mark.parametrize("wrong", ["potato", "12.4.1", "OL"])
def test_a_typing_error_is_explained_and_not_lost(page: Page, wrong: str) -> None:
    page.open_diagnosis("PA 19 TRN")
    page.find("[data-testid=proposal]")
    page.wait(lambda: page.proposal()["instrument"] == "voltmeter" or page.keys(Keys.ARROW_DOWN), "a voltmeter test")
    standing = page.count_readings()
    entry = page.find("[data-testid=entry]")
    page.keys(wrong, Keys.ENTER)
    page.wait(lambda: page.find("#entry-problem").text, "the reason")
    page.wait(lambda: entry.get_attribute("value") == wrong, "what was typed, back in the field")
    page.keys(Keys.ESCAPE)
    page.wait(lambda: entry.get_attribute("value") == "", "an empty field")
    assert page.count_readings() == standing


def test_a_reading_typed_while_the_server_is_dead_arrives_once(page: Page) -> None:
    page.open_diagnosis("PA 12 TRN")
    page.find("[data-testid=proposal]")
    standing = page.count_readings()
    page.wait(lambda: page.proposal()["instrument"] == "voltmeter" or page.keys(Keys.ARROW_DOWN), "a voltmeter test")
    page.site.kill()
    page.keys("11,9", Keys.ENTER)
    page.see("kept here")
    page.site.start()
    page.wait(lambda: page.count_readings() == standing + 1, "the reading to arrive")
    page.wait(lambda: "kept here" not in page.text(), "the queue to be empty")
    page.driver.refresh()
    page.wait(lambda: page.count_readings() == standing + 1, "one reading after a reload")


def test_the_drawing_is_the_control(page: Page) -> None:
    page.open_diagnosis("PA 12 TRN")
    page.find("[data-testid=proposal]")
    page.driver.find_element(By.CSS_SELECTOR, "g[aria-label^='F14.2:']").click()
    page.see("Your test.")
    page.wait(lambda: page.proposal()["red"] == "F14.2", "the red lead on F14.2")
    page.driver.find_element(By.CSS_SELECTOR, "g[aria-label^='X20·1: connected']").click()
    page.wait(lambda: "X20" in page.proposal()["setup"]["unplugged"], "X20 apart")
    assert page.all("g[aria-label^='X20.1/c:']"), "its other half can be probed now"
    page.keys(Keys.ESCAPE)
    page.wait(lambda: "Your test." not in page.text(), "the proposal again")


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_axe_finds_nothing_serious(page: Page, theme: str) -> None:
    jobs = {job["plate"]: job["id"] for job in page.api("GET", "/jobs")["jobs"]}

    def diagnosis(plate: str) -> str:
        found: str = page.api("GET", f"/jobs/{jobs[plate]}")["diagnoses"][0]["id"]
        return found

    shared = page.api("POST", f"/jobs/{jobs['PA 40 LSK']}/shares", {"days": 1})["token"]
    recorded = page.api("GET", f"/jobs/{jobs['PA 62 TSL']}/recordings")["recordings"][0]["id"]
    described = page.api("POST", "/sheets", {"sheet": OIL_CONTROL_VALVE})["version_id"]
    places = [
        ("/", "ul a"),
        ("/?q=nothing+of+the+kind", "h1"),
        ("/jobs/new", "[role=radio]"),
        ("/parts?said=throttle", "dl"),
        ("/vehicles/new?make=Tessel&model=Quay", "[data-question]"),
        (f"/jobs/{jobs['PA 27 TRN']}", "[data-testid=triage]"),
        (f"/jobs/{jobs['PA 07 LSK']}", "[data-code]"),
        (f"/jobs/{jobs['PA 40 LSK']}?view=timeline", "[data-testid=timeline] li"),
        (f"/jobs/{jobs['PA 40 LSK']}?view=hand-over", "section[aria-label=Reports]"),
        (f"/jobs/{jobs['PA 62 TSL']}?view=recordings", "[data-recording]"),
        (f"/jobs/{jobs['PA 07 LSK']}?view=recordings", "[aria-label='Command and record'] select"),
        (f"/recordings/{recorded}", "[data-feature]"),
        ("/describe", "[data-template]"),
        (f"/describe/{described}", "[data-testid=drawing] svg"),
        (f"/measure/{diagnosis('PA 12 TRN')}", "[data-unit]"),
        (f"/measure/{diagnosis('PA 40 LSK')}/diagnosis", "[data-testid=conclusion]"),
        ("/circuits", "main ul a"),
        (f"/circuits/{page.api('GET', '/circuits')['circuits'][0]['version_id']}", "[data-testid=drawing] svg"),
        ("/settings", "main h2"),
        (f"/s/{shared}", "main h1"),
    ]
    page.sign_in(theme=theme)
    for path, landmark in [*places, ("/sign-in", "input[name=sign_in]")]:
        if path == "/sign-in":
            page.api("DELETE", "/session")
        page.open(path)
        page.find(landmark)
        assert serious(page) == [], path


def serious(page: Page) -> list[tuple[str, str]]:
    """What axe finds that matters on the page as it stands."""
    page.driver.execute_script(AXE)
    found = page.driver.execute_async_script(
        "axe.run({runOnly:['wcag2a','wcag2aa','wcag21aa','wcag22aa']}).then(r=>arguments[arguments.length-1](r.violations))"
    )
    return [(v["id"], v["nodes"][0]["html"][:160]) for v in found if v["impact"] in ("serious", "critical")]


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_axe_finds_nothing_serious_in_what_opens_while_measuring(page: Page, theme: str) -> None:
    page.sign_in(theme=theme)
    page.open_diagnosis("PA 12 TRN")
    page.find("[data-testid=proposal]")
    for key, landmark in (
        ("l", "[data-limit]"),
        ("s", "[aria-label='Change the test']"),
        ("f", "[role=dialog]"),
        ("a", "[role=dialog] nav button"),
    ):
        page.wait(lambda: page.proposal()["red"].startswith("X") or page.keys(Keys.ARROW_DOWN), "a test at a connector")
        ActionChains(page.driver).key_down(Keys.ALT).send_keys(key).key_up(Keys.ALT).perform()
        page.find(landmark)
        assert serious(page) == [], key
        if landmark.startswith("[role=dialog]"):
            page.keys(Keys.ESCAPE)
            page.wait(lambda: not page.all("[role=dialog]"), "the dialog to close")
    page.find("button[role=tab]:nth-of-type(3)").click()
    page.see("Enter a procedure")
    assert serious(page) == []


def test_the_console_stays_silent(page: Page) -> None:
    page.open_diagnosis("PA 40 LSK")
    page.find("[data-testid=conclusion]")
    page.keys("b")
    page.find("[data-testid=proposal], [aria-label='Ready to conclude']")
    severe = [entry for entry in page.driver.get_log("browser") if entry["level"] == "SEVERE"]
    assert not severe


def test_somebody_elses_diagnosis_is_answered(page: Page) -> None:
    circuit = next(c for c in page.api("GET", "/circuits")["circuits"] if c["slug"] == "radiator-fan-relay")
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Halden", "model": "Tern", "year": 2017, "plate": "PA 55 OPN"},
            "circuit_version_id": circuit["version_id"], "complaint": "fan never runs"}  # fmt: skip
    page.open(f"/jobs/{page.api('POST', '/jobs', body)['id']}")
    entry = page.find("[data-testid=codes-entry]")
    entry.send_keys("B0012")
    page.wait(lambda: next(b for b in page.all("button") if b.text == "Keep"), "the button to keep them").click()
    page.see("no meter, lamp or probe on any of its connectors")
    page.wait(lambda: next(e for e in page.all("summary") if e.text == "Second opinion"), "the second opinion").click()
    by = page.wait(
        lambda: next(i for i in page.all("input") if "another workshop" in (i.get_attribute("placeholder") or "")), "whose"
    )
    by.send_keys("workshop by the mill", Keys.TAB)
    pick = page.find("select[aria-label='Add a part they name']")
    pick.find_element(By.CSS_SELECTOR, "option[value='M5']").click()
    page.wait(lambda: page.all("[aria-label*='Radiator fan'][aria-label*='take off']"), "the part on the list")
    page.driver.get(page.find("[data-diagnosis-link]").get_attribute("href").removesuffix("/diagnosis") + "/diagnosis")
    answer = page.find("[data-testid=opinion]")
    assert "workshop by the mill" in answer.text
    assert page.find("[data-testid=opinion] [data-verdict]").text.startswith("Radiator fan")
