"""A workshop of one's own from nothing: set up alone, first steps, examples hidden, a token made, a vehicle forgotten."""

from __future__ import annotations

from collections.abc import Iterator
from uuid import uuid4

import psycopg
import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webdriver import WebDriver

from sondar.demo import load_library
from sondar.store.database import migrate
from sondar.store.local_server import LocalServer
from tests.browser.conftest import Page, Site, browser
from tests.workers import workers

CODE = "quiet-anchor"


@pytest.fixture(scope="module")
def chromium() -> Iterator[WebDriver]:
    with browser() as driver:
        yield driver


@pytest.fixture(scope="module")
def page(postgres: LocalServer, chromium: WebDriver) -> Iterator[Page]:
    """The first page of an application that nobody has used."""
    address = postgres.start()
    with psycopg.connect(address, autocommit=True) as db:
        db.execute("CREATE DATABASE unused")
    dsn = address.replace("dbname=sondar", "dbname=unused")
    migrate(dsn)
    with psycopg.connect(dsn) as db:
        load_library(db)
    with workers() as asked:
        site = Site(postgres.application_dsn(dsn), "", "", {**asked, "SONDAR_SETUP_CODE": CODE})
        made = Page(chromium, site)
        made.open("/")
        yield made
        site.kill()


def fill(page: Page, **fields: str) -> None:
    for name, text in fields.items():
        page.find(f"input[name={name}]").send_keys(text)


def press(page: Page, words: str) -> None:
    page.wait(lambda: page.driver.find_element(By.XPATH, f"//button[normalize-space()='{words}']").click() or True, words)


def test_one_person_alone_begins(page: Page) -> None:
    fill(page, code=CODE, workshop="Slipway 4", name="A. Fender", sign_in="fender", password="slack-water-9")
    page.find("input[name=alone]").click()
    press(page, "Set up")
    steps = page.find("[data-testid=first-steps]").text
    assert "First vehicle" in steps
    assert "Tools" in steps
    assert "People" not in steps, "whoever works alone has nobody to add"


def test_settings_ask_one_person_for_no_roles_and_no_rate(page: Page) -> None:
    page.go("/settings")
    page.see("Tools at hand")
    text = page.text()
    assert "Rate per hour" not in text
    assert "Add someone" not in text
    press(page, "✓ one person alone works here")
    page.see("Rate per hour")
    press(page, "Save")
    page.see("Saved.")
    page.see("Add someone")


def test_examples_are_marked_until_they_are_hidden(page: Page) -> None:
    page.go("/circuits")
    page.wait(lambda: len(page.all("ul li")) > 20, "the circuits that come with it")
    assert all("example" in item.text for item in page.all("main ul li"))
    page.go("/settings")
    press(page, "✓ offer the example circuits")
    press(page, "Save")
    page.see("Saved.")
    page.open("/circuits")
    page.see("Circuits")
    page.wait(lambda: not page.all("main ul li"), "no example in sight")
    page.go("/settings")
    press(page, "offer the example circuits")
    press(page, "Save")
    page.see("Saved.")


def test_a_token_is_shown_once(page: Page) -> None:
    page.open("/settings")
    page.see("Outside programs")
    page.driver.find_element(By.XPATH, "//summary[contains(., 'Add a program')]").click()
    form = page.driver.find_element(By.XPATH, "//summary[contains(., 'Add a program')]/following-sibling::form")
    form.find_element(By.CSS_SELECTOR, "input[name=name]").send_keys("Invoice program", Keys.ENTER)
    page.see("shown only now")
    assert "sondar_" in page.text()
    page.driver.refresh()
    page.see("Invoice program")
    assert "sondar_" not in page.text()


def test_a_vehicle_is_forgotten_and_its_readings_are_not(page: Page) -> None:
    circuits = page.api("GET", "/circuits")["circuits"]
    version = next(item["version_id"] for item in circuits if item["slug"] == "ambient-temperature")
    vehicle = {"make": "Orvane", "plate": "PA 31 SLP"}
    body = {"client_key": str(uuid4()), "vehicle": vehicle, "circuit_version_id": version, "complaint": "Says M. Bollard: dashes"}
    job = page.api("POST", "/jobs", body)
    page.open(f"/jobs/{job['id']}")
    page.see("PA 31 SLP")
    press(page, "Erase personal data")
    page.see("This cannot be undone")
    page.driver.find_element(By.XPATH, "//div[@role='dialog']//button[normalize-space()='Erase']").click()
    page.see("Personal data was erased on")
    page.wait(lambda: "PA 31 SLP" not in page.text() and "Bollard" not in page.text(), "plate and name to be gone")
    assert len(page.api("GET", f"/jobs/{job['id']}")["diagnoses"]) == 1
