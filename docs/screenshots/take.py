"""Take the pictures of the README from a running demo: ``./run demo`` in one shell, ``./run pictures`` in another."""

from __future__ import annotations

import json
import os
import sys
import time
import urllib.request
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webdriver import WebDriver
from selenium.webdriver.support.ui import WebDriverWait

from tests.browser.conftest import FLAGS

SITE = f"http://127.0.0.1:{os.environ.get('SONDAR_PORT', '8000')}"
FOLDER = Path(__file__).parent


def size(driver: WebDriver, width: int, height: int) -> None:
    """Set the page's own size, without window borders."""
    metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)


def take(driver: WebDriver, name: str, path: str, ready: str, theme: str = "light", clicks: tuple[str, ...] = ()) -> None:
    """Open a page, wait for what must be there, click, and save the picture."""
    driver.execute_script(f"localStorage.setItem('sondar-theme', '{theme}')")
    driver.get(SITE + path)
    wait = WebDriverWait(driver, 90, 0.2)
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ready))
    for css in clicks:
        wait.until(lambda d, c=css: d.find_elements(By.CSS_SELECTOR, c))[0].click()
        time.sleep(1.5)
    time.sleep(0.8)
    driver.save_screenshot(str(FOLDER / f"{name}.png"))


def main(names: list[str]) -> None:
    """Take the named pictures, or all."""
    with urllib.request.urlopen(f"{SITE}/api/v1/jobs") as answer:
        jobs = {job["plate"]: job["id"] for job in json.load(answer)["jobs"]}
    fan, ambient = f"/jobs/{jobs['PA 12 TRN']}", f"/jobs/{jobs['PA 40 LSK']}"
    bench = "[data-testid=proposal]"
    shots = {
        "jobs": ("/", "ul a"),
        "new-job": ("/jobs/new", "[role=radio]"),
        "bench": (fan, bench),
        "bench-night": (fan, bench, "dark"),
        "bench-due": (ambient, bench),
        "verdict": (f"{ambient}/verdict", "[data-testid=verdict]"),
        "bench-own-test": (
            fan,
            bench,
            "light",
            ("g[aria-label^='X20: plugged in']", "g[aria-label^='X20.1:']", "button[aria-expanded=false]:nth-of-type(2)"),
        ),
        "bench-upright": (fan, bench),
    }
    options = Options()
    for flag in FLAGS:
        options.add_argument(flag)
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    driver.get(SITE)
    for name, arguments in shots.items():
        if not names or name in names:
            size(driver, *((800, 1280) if name == "bench-upright" else (1280, 800)))
            take(driver, name, *arguments)  # type: ignore[arg-type]
    driver.quit()


if __name__ == "__main__":
    main(sys.argv[1:])
