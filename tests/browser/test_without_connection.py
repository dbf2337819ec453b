"""A dead spot, and a reload in it: the application opens, what was seen last is there, and measuring goes on in order."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from uuid import uuid4

import pytest
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webdriver import WebDriver

from tests.browser.conftest import Page, Site, browser

KEPT = """
const done = arguments[arguments.length - 1];
const open = indexedDB.open("sondar-seen");
open.onsuccess = () => {
  const all = open.result.transaction("seen").objectStore("seen").getAllKeys();
  all.onsuccess = () => { open.result.close(); done(all.result.map(String)); };
};
"""
READY = "const done = arguments[0]; navigator.serviceWorker.ready.then(() => done(true));"


@pytest.fixture
def chromium() -> Iterator[WebDriver]:
    """A browser of its own: what it keeps is what is tested."""
    with browser() as driver:
        yield driver


@pytest.fixture
def measuring(page: Page) -> Iterator[Page]:
    """A new job on the ambient-temperature circuit, its first proposal on the screen and the steps after it worked out."""
    circuits = page.api("GET", "/circuits")
    version = next(item["version_id"] for item in circuits["circuits"] if item["slug"] == "ambient-temperature")
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Orvane"}, "circuit_version_id": version, "complaint": "shows dashes"}
    job = page.api("POST", "/jobs", body)
    diagnosis = page.api("GET", f"/jobs/{job['id']}")["diagnoses"][0]["id"]
    page.open(f"/measure/{diagnosis}")
    page.find("[data-testid=proposal]")
    page.driver.execute_async_script(READY)
    page.wait(lambda: any("foreseen" in key for key in page.driver.execute_async_script(KEPT)), "the next steps to be kept")
    yield page
    if page.site.process.poll() is not None:
        page.site.start()


def typed(result: dict[str, Any]) -> str:
    """A figure in the middle of a likely result, as it is typed, or its word."""
    return result["word"] or f"{0.5 * (result['low'] + result['high']):.4g}"


def figure_first(results: list[dict[str, Any]]) -> dict[str, Any]:
    """The likeliest result that is a figure and after which measuring goes on, else the likeliest that goes on."""
    going = [item for item in results if not item["settled"] and item["proposal"]]
    return next((item for item in going if item["word"] is None), going[0])


def same(shown: dict[str, Any], test: dict[str, Any]) -> bool:
    return (shown["instrument"], shown["red"], shown["black"]) == (test["instrument"], test["red"], test["black"])


def test_measuring_goes_on_through_a_reload_without_a_connection(measuring: Page, site: Site) -> None:
    page = measuring
    diagnosis = page.driver.current_url.rsplit("/", 1)[1]
    foreseen = page.api("GET", f"/diagnoses/{diagnosis}/foreseen")
    first = figure_first(foreseen["results"])
    second = figure_first(first["then"])
    site.kill()

    page.keys(typed(first), Keys.ENTER)
    page.see("worked out before the connection was lost")
    page.wait(lambda: same(page.proposal(), first["proposal"]["test"]), "the next test as it was worked out")
    page.driver.refresh()
    page.see("No connection to Sondar since")
    page.see("One reading waits here")
    page.wait(lambda: same(page.proposal(), first["proposal"]["test"]), "the same next test after the reload")
    page.find("[data-testid=entry]").click()
    page.keys(typed(second), Keys.ENTER)
    page.see("2 readings wait here")
    assert same(page.proposal(), second["proposal"]["test"])

    site.start()
    page.wait(lambda: page.count_readings() == 2, "both readings to be stored")
    page.wait(lambda: "No connection" not in page.text(), "the line about the connection to go")
    stored = page.api("GET", f"/diagnoses/{diagnosis}")
    assert [item["entry"] for item in stored["readings"]] == [typed(first), typed(second)], "in order, each once"
    assert same(stored["assessment"]["proposals"][0]["test"], second["proposal"]["test"]), "what was foreseen is what stands"


def test_a_result_nobody_expected_is_said_to_be_judged_later(measuring: Page, site: Site) -> None:
    page = measuring
    site.kill()
    page.keys("77.7", Keys.ENTER)
    page.see("what follows was not worked out beforehand")
    assert not page.all("[data-testid=proposal]")
    site.start()
    page.find("[data-testid=proposal], [role=alert]:not(:empty)")


def test_the_list_of_jobs_opens_without_a_connection(measuring: Page, site: Site) -> None:
    page = measuring
    page.open("/")
    page.wait(lambda: page.all("ul a"), "the jobs")
    site.kill()
    page.driver.refresh()
    page.see("No connection to Sondar since")
    assert page.all("ul a")


def test_signing_out_leaves_nothing_of_the_jobs_behind(measuring: Page) -> None:
    page = measuring
    page.wait(lambda: any("measuring" in key for key in page.driver.execute_async_script(KEPT)), "the screen to be kept")
    page.driver.find_element("xpath", "//button[normalize-space()='Sign out']").click()
    page.see("Sign in")
    page.wait(
        lambda: not any("measuring" in key or "job" in key for key in page.driver.execute_async_script(KEPT)), "it to be gone"
    )


LEAVE_ENTRY = """
const [diagnosis, by, done] = arguments;
const open = indexedDB.open("keyval-store");
open.onupgradeneeded = () => open.result.createObjectStore("keyval");
open.onsuccess = () => {
  const reading = {client_key: crypto.randomUUID(), instrument: "voltmeter", red: "X31.1", black: "BAT.neg", entry: "4.87",
    setup: {controls: {key: "on"}, unplugged: []}, source: "typed", note: "", sure: false};
  const put = open.result.transaction("keyval", "readwrite").objectStore("keyval")
    .put({reading, at: Date.now(), by}, `sondar-pending-${diagnosis}-${reading.client_key}`);
  put.onsuccess = () => { open.result.close(); done(true); };
};
"""


def test_an_entry_is_sent_by_whoever_made_it(measuring: Page) -> None:
    """A tablet passes from hand to hand: what one person left unsent is not stored under the next one's name."""
    page = measuring
    diagnosis = page.driver.current_url.rsplit("/", 1)[1]
    me = page.api("GET", "/session")["account_id"]
    page.driver.execute_async_script(LEAVE_ENTRY, diagnosis, str(uuid4()))
    page.driver.refresh()
    page.find("[data-testid=proposal]")
    page.driver.execute_async_script(LEAVE_ENTRY, diagnosis, me)
    page.driver.refresh()
    page.wait(lambda: page.count_readings() == 1, "the own entry to be sent")
    assert len(page.api("GET", f"/diagnoses/{diagnosis}")["readings"]) == 1, "and no other"
