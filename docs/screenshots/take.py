"""Take the pictures of the README from a running demo: ``./run demo`` in one shell, ``./run pictures`` in another."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from uuid import uuid4

from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webdriver import WebDriver
from selenium.webdriver.support.ui import WebDriverWait

from sondar import demo
from tests.browser.conftest import CALL, FLAGS

SITE = f"http://127.0.0.1:{os.environ.get('SONDAR_PORT', '8000')}"
FOLDER = Path(__file__).parent
SIZES = {"upright": (800, 1280)}


def size(driver: WebDriver, width: int, height: int) -> None:
    """Set the page's own size, without window borders."""
    metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)


CUT = (("4.98", "X2.11"), ("0.00", "X31.1"), ("0.00", "X31.2"), ("4.98", "X12.7"))


def repaired(driver: WebDriver, earlier: str) -> str:
    """Check a vehicle in once more, find its wire open, and repair it; the path of the verification."""

    def call(method: str, path: str, **body: Any) -> Any:
        return driver.execute_async_script(CALL, method, path, {"client_key": str(uuid4()), **body} if method != "GET" else None)

    vehicle = call("GET", f"/jobs/{earlier}")["job"]["vehicle_id"]
    job = call("POST", "/jobs", vehicle_id=vehicle, complaint="Outside temperature shows dashes again in the rain.")["id"]
    call("PUT", f"/jobs/{job}/answers/conditions", value=["wet", "bumps"], seen_seq=0)
    call("POST", f"/jobs/{job}/scans/vehicle", conditions=[])
    version = next(c["version_id"] for c in call("GET", f"/jobs/{job}")["circuits"] if c["slug"] == "ambient-temperature")
    diagnosis = call("POST", f"/jobs/{job}/diagnoses", circuit_version_id=version, reason="the code names it")["id"]
    test = {"instrument": "voltmeter", "black": "BAT.neg", "setup": {"controls": {"key": "on"}, "unplugged": []}}
    for entry, red in CUT:
        call("POST", f"/diagnoses/{diagnosis}/readings", entry=entry, red=red, **test)
    call("POST", f"/diagnoses/{diagnosis}/repairs", units=["W2"], action="Repaired")
    call("POST", f"/jobs/{job}/clearing", by="vehicle")
    call("POST", f"/diagnoses/{diagnosis}/readings", entry="4.41", red="X2.11", **test)
    call("POST", f"/jobs/{job}/scans/vehicle", conditions=["key cycled"])
    return f"/jobs/{job}?view=verify"


def take(
    driver: WebDriver, name: str, path: str | Callable[[], str], ready: str, theme: str = "light", clicks: tuple[str, ...] = ()
) -> None:
    """Open a page, wait for what must be there, click (a CSS selector, or the words of a button), and save the picture."""
    driver.execute_async_script(CALL, "PUT", "/me/theme", {"theme": theme})
    driver.get(SITE + (path() if callable(path) else path))
    wait = WebDriverWait(driver, 90, 0.2)
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ready))
    for click in clicks:
        by, what = (By.CSS_SELECTOR, click) if "[" in click else (By.XPATH, f'//button[contains(., "{click}")]')
        wait.until(lambda d, by=by, what=what: d.find_elements(by, what))[0].click()
        time.sleep(2.5)
    time.sleep(1.2)
    driver.save_screenshot(str(FOLDER / f"{name}.png"))


def main(names: list[str]) -> None:
    """Take the named pictures, or all."""
    options = Options()
    for flag in FLAGS:
        options.add_argument(flag)
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    size(driver, 1280, 800)
    driver.get(SITE)
    wait = WebDriverWait(driver, 90, 0.2)
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, "input[name=sign_in]"))
    time.sleep(0.8)
    driver.execute_async_script(CALL, "POST", "/session", {"sign_in": demo.PEOPLE[0][0], "password": demo.PASSWORD})
    jobs = {job["plate"]: job["id"] for job in driver.execute_async_script(CALL, "GET", "/jobs", None)["jobs"]}

    def diagnosis(plate: str) -> str:
        found = driver.execute_async_script(CALL, "GET", f"/jobs/{jobs[plate]}", None)["diagnoses"][0]["id"]
        return f"/measure/{found}"

    shared = driver.execute_async_script(CALL, "POST", f"/jobs/{jobs['PA 40 LSK']}/shares", {"days": 14})["token"]
    circuits = driver.execute_async_script(CALL, "GET", "/circuits", None)["circuits"]
    circuit = next(c["version_id"] for c in circuits if c["slug"] == "tern-heated-screen")
    sheet = {
        "template": "valve-pulsed", "part": "oil-control valve", "make": "Tessel", "model": "Quay 2.2",
        "rows": [
            {"cavity": "1", "carries": 1, "colour": "wh/rd", "shared": ["exhaust valve", "wastegate valve"]},
            {"cavity": "2", "carries": 2, "colour": "gy/bu", "pin": "31"},
        ],
        "supply": {"source": "main relay", "fuse": "F14", "fuse_a": 15}, "figures": {"Y.coil_ohm": "7 to 8"},
    }  # fmt: skip
    recording = driver.execute_async_script(CALL, "GET", f"/jobs/{jobs['PA 62 TSL']}/recordings", None)["recordings"][0]["id"]
    described = driver.execute_async_script(CALL, "POST", "/sheets", {"sheet": sheet})
    purge = {**sheet, "template": "valve-pulsed", "part": "purge valve", "plug": "X51", "figures": {}}
    purge["rows"] = [
        {"cavity": "1", "carries": 1, "colour": "wh/rd"},
        {"cavity": "2", "carries": 2, "colour": "bk/ye", "pin": "36"},
    ]
    driver.execute_async_script(CALL, "POST", "/sheets", {"sheet": purge})
    said = {
        "may_drive": "with limits", "may_drive_why": "Not in heavy rain before the joint is sealed.",
        "made_it_fail": "Salt water in the harness joint behind the bumper.", "cause_removed": False,
        "defects": ["front brake pads at 2 mm | at once | accepted", "wiper blades split | to be watched | declined"],
    }  # fmt: skip
    for field, value in said.items():
        entry = {"client_key": str(uuid4()), "value": value, "seen_seq": 2_000_000_000}
        driver.execute_async_script(CALL, "PUT", f"/jobs/{jobs['PA 40 LSK']}/answers/{field}", entry)
    measure, triage, fan = "[data-testid=proposal]", "[data-testid=triage]", diagnosis("PA 12 TRN")
    shots: dict[str, tuple[Any, ...]] = {
        "jobs": ("/", "ul a"),
        "check-in": ("/jobs/new?plate=PA+12+TRN", "input[name=make]"),
        "job": (f"/jobs/{jobs['PA 07 LSK']}", triage),
        "job-reread": (
            f"/jobs/{jobs['PA 27 TRN']}", triage, "light", ("Read the vehicle", "Clear and re-read", "key cycled", "Read the vehicle again"),
        ),
        "any-vehicle": (f"/jobs/{jobs['PA 62 TSL']}", "[data-part]", "light", ("[data-part] button",)),
        "code": ("/codes/P0118", "dl"),
        "settings": ("/settings", "main h2"),
        "recording": (f"/recordings/{recording}", "[data-feature]", "light", ("[data-feature=slope] button",)),
        "commands": (
            f"/jobs/{jobs['PA 24 QUY']}?view=recordings&control=egr", "[aria-label='Command and record'] select", "light",
            ("Command recirculation valve", "It moves"),
        ),
        "shared": (f"/s/{shared}", "main h1"),
        "measure": (fan, measure),
        "measure-upright": (fan, measure),
        "diagnosis": (f"{diagnosis('PA 40 LSK')}/diagnosis", "[data-testid=conclusion]"),
        "circuit": (f"/circuits/{circuit}", "[data-testid=drawing] svg"),
        "hand-over": (f"/jobs/{jobs['PA 40 LSK']}?view=hand-over", "section[aria-label=Reports]"),
        "verification": (lambda: repaired(driver, jobs["PA 40 LSK"]), "[data-outcome]", "light", ("Read the monitors",)),
        "parts": ("/parts?said=rough idle", "dl"),
        "vehicle": ("/vehicles/new?make=Tessel&model=Quay+2.2", "[data-question]", "dark", ("P0443",)),
        "describe": (f"/describe/{described['version_id']}", "[data-testid=drawing] svg"),
    }  # fmt: skip
    for name, arguments in shots.items():
        if not names or name in names:
            size(driver, *SIZES.get(name.rpartition("-")[2], (1280, 800)))
            take(driver, name, *arguments)
    driver.execute_async_script(CALL, "PUT", "/me/theme", {"theme": "system"})
    driver.quit()


if __name__ == "__main__":
    main(sys.argv[1:])
