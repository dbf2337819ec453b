"""What entering costs a person, and what opening a diagnosis costs the browser.

Hands: keys and taps per reading, and seconds with human-like pauses (``KEY_S`` a key, ``TAP_S`` a tap; looking at the meter is not
counted), on one job triage_prior to its call; taps from signing in to the first reading. Load: kilobytes over the wire and time to the
first suspect, cold, as a multiple of a page with React and one Radix dialog built the same way and served from the same machine.
"""

from __future__ import annotations

import functools
import http.server
import json
import shutil
import subprocess
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webdriver import WebDriver

from benchmarks.site import demo_in_browser
from sondar.circuit_files import library_circuits
from sondar.simulators.vehicle import SimulatedVehicle
from tests.browser.conftest import Page
from tests.browser.test_six_jobs import JOBS, Job, Keyboard, Touch, typed
from tests.conftest import circuit_of

KEY_S, TAP_S = 0.18, 0.6
FRONTEND = Path(__file__).parent.parent / "frontend"
LOADS = 7


class CountingKeys(Keyboard):
    """A keyboard that counts."""

    count = 0

    def record(self, text: str) -> None:
        for key in (*text, Keys.ENTER):
            time.sleep(KEY_S)
            self.page.keys(key)
            self.count += 1


class CountingTaps(Touch):
    """A finger that counts."""

    count = 0

    def tap(self, element: Any) -> None:
        time.sleep(TAP_S)
        super().tap(element)
        self.count += 1


def carry_to_conclusion(page: Page, hands: CountingKeys | CountingTaps, job: Job) -> tuple[list[int], list[float], int]:
    """Strokes and seconds of each reading, and the strokes of check-in and the first reading together."""
    vehicle = SimulatedVehicle(circuit_of(library_circuits()[job.circuit]), [(job.fault, None)], job.seed)
    hands.check_in(job)
    page.find("[data-testid=proposal]")
    before, strokes, seconds, first = hands.count, [], [], 0
    while "Further measuring is not needed" not in page.text():
        text = typed(page, vehicle)
        began, made = time.perf_counter(), hands.count
        hands.record(text)
        strokes.append(hands.count - made)
        page.wait(lambda: page.count_readings() == len(strokes), "the reading")
        seconds.append(time.perf_counter() - began)
        first = first or hands.count
    assert before <= first
    return strokes, seconds, first


def opening(driver: WebDriver, address: str, landmark: str) -> tuple[float, float]:
    """Kilobytes and milliseconds of a cold load until the landmark is there."""
    driver.execute_cdp_cmd("Network.enable", {})
    driver.execute_cdp_cmd("Network.setCacheDisabled", {"cacheDisabled": True})
    driver.get("about:blank")
    began = time.perf_counter()
    driver.get(address)
    while not driver.find_elements(By.CSS_SELECTOR, landmark):
        time.sleep(0.005)
    spent = 1e3 * (time.perf_counter() - began)
    kilobytes = driver.execute_script(
        "return performance.getEntries().filter(e => e.transferSize).reduce((sum, e) => sum + e.transferSize, 0) / 1024"
    )
    return float(kilobytes), spent


def empty_page(folder: Path) -> http.server.ThreadingHTTPServer:
    """The empty React and Radix page, built with the front end's own tools, served from loopback."""
    source = FRONTEND / ".empty-page"
    shutil.rmtree(source, ignore_errors=True)
    shutil.copytree(Path(__file__).parent / "empty_page", source)
    try:
        subprocess.run(
            ["npx", "vite", "build", "--outDir", str(folder), "--emptyOutDir", str(source)], cwd=FRONTEND, check=True, capture_output=True
        )  # fmt: skip
    finally:
        shutil.rmtree(source, ignore_errors=True)

    class Quiet(http.server.SimpleHTTPRequestHandler):
        def log_message(self, *_: object) -> None:
            """Nothing: only the ratios are printed."""

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Quiet, directory=str(folder)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return server


def main() -> None:
    """Measure and print."""
    found: dict[str, object] = {}
    with tempfile.TemporaryDirectory() as built, demo_in_browser() as page:
        driver, empty = page.driver, empty_page(Path(built))
        page.sign_in()
        for name, hands in (("keys", CountingKeys(page)), ("taps", CountingTaps(page))):
            driver.execute_cdp_cmd("Emulation.setTouchEmulationEnabled", {"enabled": name == "taps", "maxTouchPoints": 1})
            strokes, seconds, first = carry_to_conclusion(page, hands, JOBS[0])
            found[name] = {"readings": len(strokes), "per reading": round(float(np.mean(strokes)), 1), "most": max(strokes),
                           "seconds per reading": round(float(np.mean(seconds)), 1)}  # fmt: skip
            if name == "taps":
                found["taps from the job list to the first reading"] = first
        address = driver.current_url
        theirs = [opening(driver, f"http://127.0.0.1:{empty.server_address[1]}/", "#there") for _ in range(LOADS)]
        ours = [opening(driver, address, "[data-unit]") for _ in range(LOADS)]
        empty.shutdown()
    found["load"] = {
        "empty kB": round(theirs[-1][0]), "page kB": round(ours[-1][0]), "kB ratio": round(ours[-1][0] / theirs[-1][0], 1),
        "time ratio": round(float(np.median([t for _, t in ours]) / np.median([t for _, t in theirs])), 1),
    }  # fmt: skip
    print(json.dumps(found, indent=2))


if __name__ == "__main__":
    main()
