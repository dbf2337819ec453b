"""A vehicle that no file knows becomes the workshop's own: circuits gathered, codes tied, a limit written down, a plug put into a wire."""

from __future__ import annotations

from pathlib import Path
from uuid import uuid4

from PIL import Image
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import Select

from tests.browser.conftest import Page
from tests.browser.test_screens import press

ROWS = [{"cavity": str(number), "carries": number} for number in (1, 2)]


def field(page: Page, label: str, inside: str = "") -> WebElement:
    return page.wait(
        lambda: page.driver.find_element(By.XPATH, f"{inside}//label[starts-with(., '{label}')]/following-sibling::input"), label
    )


def tap(page: Page, xpath: str) -> None:
    """Scrolled to the middle first: the bar below lies over what is at the edge."""
    button = page.wait(lambda: page.driver.find_element(By.XPATH, xpath), xpath)
    page.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", button)
    button.click()


def described(page: Page, model: str) -> list[str]:
    about = {"make": "Tessel", "model": model, "module": "ECM", "template": "valve-pulsed", "rows": ROWS}
    supply = {"source": "main relay", "fuse": "F14", "fuse_a": 15}
    sheets = ({"part": "oil-control valve", "plug": "X50"}, {"part": "purge valve", "plug": "X51"})
    return [page.api("POST", "/sheets", {"sheet": {**about, **sheet, "supply": supply}})["slug"] for sheet in sheets]


def test_two_circuits_become_a_vehicle_and_its_codes_lead_to_them(page: Page) -> None:
    model = f"Cove {uuid4().hex[:5]}"
    _, purge = described(page, model)
    page.open("/circuits")
    page.wait(lambda: next(a for a in page.all("a") if "Gather circuits" in a.text), "the link").click()
    field(page, "Make").send_keys("Tessel")
    field(page, "Model").send_keys(model)
    question = page.wait(lambda: page.driver.find_element(By.CSS_SELECTOR, "[data-question=F14]"), "the question about the fuse")
    assert "the same designation" in question.text
    tap(page, "//*[@data-question='K0']//button[contains(., 'two things')]")
    page.wait(lambda: page.all("[data-question=K0] button:last-child[aria-pressed=true]"), "two relays to be taken")
    tap(page, "//button[contains(., 'P0443')]")
    page.wait(lambda: page.driver.find_element(By.XPATH, "//button[contains(., '✓ P0443')]"), "the code to be tied")
    symptom = page.driver.find_element(By.CSS_SELECTOR, "input[aria-label='A symptom of Purge valve']")
    symptom.send_keys("Smells of petrol after refuelling", Keys.ENTER)
    page.see("✓ Smells of petrol after refuelling")
    press(page, "Keep the vehicle")
    page.wait(lambda: page.all("[aria-label='Circuits of this vehicle'] li"), "the vehicle")
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Tessel", "model": model, "plate": "PA 88 COV"}, "codes": "P0443"}
    job = page.api("POST", "/jobs", body)["id"]
    detail = page.api("GET", f"/jobs/{job}")
    assert len(detail["circuits"]) == 2
    assert [one["title"] for one in detail["symptoms"]] == ["Smells of petrol after refuelling"]
    page.open(f"/jobs/{job}")
    page.see("Purge valve")
    assert page.api("GET", f"/jobs/{job}/triage")["triage"]["candidates"][0]["id"] == f"circuit:{purge}"


def test_a_limit_a_plug_and_a_sheet_come_to_a_circuit_while_it_is_measured(page: Page, tmp_path: Path) -> None:
    model = f"Cove {uuid4().hex[:5]}"
    picture = tmp_path / "sheet.png"
    Image.new("RGB", (1200, 800), "white").save(picture)
    page.open("/describe")
    field(page, "Make").send_keys("Tessel")
    field(page, "Model").send_keys(model)
    field(page, "What the part is called").send_keys("purge valve")
    page.wait(lambda: page.driver.find_element(By.CSS_SELECTOR, "[data-template='valve-pulsed']"), "the kind").click()
    page.find("input[aria-label='Photograph or PDF of the sheet']").send_keys(str(picture))
    shown = page.wait(lambda: page.driver.find_element(By.CSS_SELECTOR, "section[aria-label='Page of the sheet']"), "the sheet")
    page.find("button[aria-label=Larger]").click()
    page.wait(lambda: shown.get_attribute("data-zoom") == "1.5", "the sheet to be enlarged")
    press(page, "Keep the circuit")
    page.wait(lambda: page.all("img[alt='Wiring sheet, page 1']"), "the sheet on the circuit's page")
    version = page.driver.current_url.rsplit("/", 1)[-1]
    job = page.api("POST", "/jobs", {"client_key": str(uuid4()), "vehicle": {"make": "Tessel", "model": model}})["id"]
    opened = {"client_key": str(uuid4()), "circuit_version_id": version}
    diagnosis = page.api("POST", f"/jobs/{job}/diagnoses", opened)["id"]
    page.open(f"/measure/{diagnosis}")
    page.proposal()
    press(page, "Limits")
    press(page, "Write down a limit")
    dialog = "//div[@role='dialog']"
    field(page, "What is it a limit of?", dialog).send_keys("what the sheet says")
    press(page, "Keep the limit")
    page.see("is missing")
    least = page.driver.find_elements(By.XPATH, f"{dialog}//label[starts-with(., 'Least')]/following-sibling::input")
    if least:
        least[0].send_keys("5")
    else:  # what is proposed is a finding, of which a word is the limit
        page.find("[aria-label='Word that it must show'] button").click()
    press(page, "Keep the limit")
    page.wait(lambda: page.all("[data-limit]"), "the limit")
    press(page, "What is known")
    wires = page.find("section[aria-label='In a wire'] select")
    Select(wires).select_by_index(1)
    field(page, "Designation", dialog).send_keys("X90")
    press(page, "Put it into the drawing")
    page.wait(lambda: not page.all("[role=dialog]"), "the dialog to close")
    page.see("X90")
    now = page.api("GET", f"/diagnoses/{diagnosis}")["diagnosis"]["circuit_version_id"]
    page.open(f"/circuits/{now}")
    versions = page.wait(lambda: page.find("[aria-label=Versions]").text, "the versions")
    assert "connector X90 added" in versions
    assert "limit what-the-sheet-says added" in versions
