"""The real application, built front end included, driven in headless Chromium."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
import threading
import time
import urllib.request
from collections.abc import Callable, Generator, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from http import HTTPStatus
from http.cookiejar import CookieJar
from pathlib import Path
from types import MappingProxyType
from typing import Any
from urllib.parse import urlencode

import psycopg
import pytest
from selenium import webdriver
from selenium.common.exceptions import WebDriverException
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webdriver import WebDriver
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import WebDriverWait

from sondar import demo
from sondar.core.circuit.network import Circuit
from sondar.core.quantities import format_si
from sondar.simulators.bench_meter import DescribedVehicles, MeterServer
from sondar.simulators.vehicle import SimulatedVehicle
from sondar.store.database import migrate, open_pool
from sondar.store.local_server import LocalServer
from tests.web.test_durability import free_port, kill_hard, start_application
from tests.workers import workers

PATIENCE_S = float(os.environ.get("SONDAR_TEST_PATIENCE_S", "90"))  # a loaded machine is not a failure
FLAGS = (
    "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage", "--window-size=1280,800",
)  # fmt: skip

CALL = """
(async (method, path, body, done) => {
const csrf = method === "GET" ? "" : (await (await fetch("/api/v1/session")).json()).csrf;
const ask = () => fetch("/api/v1" + path, {method, body: body && JSON.stringify(body),
  headers: {"Content-Type": "application/json", "X-CSRF-Token": csrf}});
let answer = await ask();
for (; answer.status === 202; answer = await ask()) await new Promise((again) => setTimeout(again, 500));  // still working
done(await answer.json());
})(...arguments);
"""

REFUSED = """
return performance.getEntriesByType("resource").filter((one) => one.responseStatus === 0 || one.responseStatus >= 400)
  .map((one) => `${one.responseStatus} ${one.name} after ${Math.round(one.duration)} ms`).slice(-20).join("\\n")
"""


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """A test that fails tells what was on the screen then, and what the server had refused."""
    report = yield
    page = getattr(item, "funcargs", {}).get("page")
    if report.when == "call" and report.failed and isinstance(page, Page):
        with suppress(WebDriverException):
            report.sections.append(("the page", f"{page.driver.current_url}\n{page.text()}"))
            report.sections.append(("refused or unanswered", str(page.driver.execute_script(REFUSED))))
            report.sections.append(
                ("the browser's log", "\n".join(str(line["message"]) for line in page.driver.get_log("browser")))
            )
    return report


class Caller:
    """One person at the API, without a browser: their cookie is what a browser of theirs needs."""

    def __init__(self, url: str) -> None:
        self.url = url
        self.jar = CookieJar()
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar))

    def __call__(self, method: str, path: str, body: dict[str, Any] | None = None, csrf: str = "") -> Any:
        headers = {"Content-Type": "application/json", "X-CSRF-Token": csrf}
        data = None if body is None else json.dumps(body).encode()
        while True:
            request = urllib.request.Request(f"{self.url}/api/v1{path}", data, headers, method=method)
            with self._opener.open(request, timeout=60) as answer:
                if answer.status != HTTPStatus.ACCEPTED:  # 202: still working
                    return json.load(answer)
            time.sleep(0.5)

    def be(self, name: str, theme: str) -> tuple[str, str]:
        """Sign in if the session has ended meanwhile, and choose the theme; name and value of the cookie."""
        me = self("GET", "/session")
        if not me["signed_in"]:
            me = self("POST", "/session", {"sign_in": name, "password": demo.PASSWORD})
        if me["theme"] != theme:
            self("PUT", "/me/theme", {"theme": theme}, me["csrf"])
        cookie = next(iter(self.jar))
        return cookie.name, cookie.value or ""


class Site:
    """The running application: address, and a way to stop and start it."""

    def __init__(self, dsn: str, meter: str, vehicles: str = "", environment: Mapping[str, str] = MappingProxyType({})) -> None:
        self.dsn, self.meter, self.vehicles, self.environment = dsn, meter, vehicles, environment
        self.port = free_port()
        self.people: dict[str, Caller] = {}
        self.start()

    def start(self) -> None:
        self.process = start_application(self.dsn, self.port, self.meter, self.vehicles, self.environment)

    def kill(self) -> None:
        kill_hard(self.process)

    def warm_up(self) -> None:
        """Have the demo vehicles' triage worked out: on a machine that does other things besides it takes longer than a test may wait."""
        ask = self.people.setdefault("harbour", Caller(self.url))
        ask.be("harbour", "light")
        for job in ask("GET", "/jobs")["jobs"]:
            ask("GET", f"/jobs/{job['id']}/triage")

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"


@pytest.fixture(scope="session")
def site(postgres: LocalServer) -> Iterator[Site]:
    address = postgres.start()
    with psycopg.connect(address, autocommit=True) as db:
        db.execute("CREATE DATABASE browser")
    dsn = address.replace("dbname=sondar", "dbname=browser")
    migrate(dsn)
    with open_pool(dsn, 2) as pool:
        demo.seed(pool)
    folder = Path(tempfile.mkdtemp(prefix="sondar-browser-"))
    demo.write_vehicles(folder / "vehicles.json")
    described = DescribedVehicles(folder / "vehicles.json")
    described.prepare()
    with workers() as asked, MeterServer(described) as meter:
        threading.Thread(target=meter.serve_forever, daemon=True).start()
        running = Site(postgres.application_dsn(dsn), meter.address, json.dumps(demo.serve_vehicles(measured=described)), asked)
        running.warm_up()
        yield running
        running.kill()
        meter.shutdown()
    shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def browser() -> Iterator[WebDriver]:
    """A Chromium with a profile of its own."""
    options = Options()
    for flag in FLAGS:
        options.add_argument(flag)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    profile = tempfile.mkdtemp(prefix="sondar-chromium-")
    options.add_argument(f"--user-data-dir={profile}")
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    driver.set_page_load_timeout(PATIENCE_S)
    driver.set_script_timeout(PATIENCE_S)
    try:
        yield driver
    finally:
        driver.quit()
        shutil.rmtree(profile, ignore_errors=True)


@pytest.fixture(scope="session")
def chromium() -> Iterator[WebDriver]:
    with browser() as driver:
        yield driver


@dataclass
class Page:
    """What a person does: look, press keys, wait."""

    driver: WebDriver
    site: Site

    def open(self, path: str) -> None:
        self.driver.get(self.site.url + path)

    def go(self, path: str) -> None:
        """To another screen as a link would, without loading the application again."""
        self.driver.execute_script("history.pushState({}, '', arguments[0]); dispatchEvent(new PopStateEvent('popstate'))", path)

    def wait(self, condition: Callable[[], Any], what: str) -> Any:
        return WebDriverWait(self.driver, PATIENCE_S, 0.1, ignored_exceptions=[Exception]).until(
            lambda _: condition(), f"waiting for {what}"
        )

    def find(self, css: str) -> WebElement:
        return self.wait(lambda: self.driver.find_element(By.CSS_SELECTOR, css), css)  # type: ignore[no-any-return]

    def all(self, css: str) -> list[WebElement]:
        return self.driver.find_elements(By.CSS_SELECTOR, css)

    def text(self) -> str:
        return self.driver.find_element(By.TAG_NAME, "body").text

    def see(self, words: str) -> None:
        self.wait(lambda: words in self.text(), f"'{words}' on the page")

    def keys(self, *keys: str) -> None:
        ActionChains(self.driver).send_keys(*keys).perform()

    def command(self, key: str) -> None:
        """A command key that works even where the letter begins one of the instrument's words."""
        ActionChains(self.driver).key_down(Keys.ALT).send_keys(key).key_up(Keys.ALT).perform()

    def tab_to(self, matches: Callable[[WebElement], bool], limit: int = 80) -> None:
        """Press Tab until the focused element matches."""
        for _ in range(limit):
            if matches(self.driver.switch_to.active_element):
                return
            self.keys(Keys.TAB)
        raise AssertionError("Tab never reached it")

    # -- people and jobs ----------------------------------------------------------------------------

    def api(self, method: str, path: str, body: dict[str, Any] | None = None) -> Any:
        """Ask the API as the page itself would, in its session."""
        answer = self.driver.execute_async_script(CALL, method, path, body)
        if isinstance(answer, dict) and answer.get("type") == "about:blank":
            print(f"{method} {path} was refused: {answer}")  # shown with the test that fails by it
        return answer

    def sign_in(self, name: str = "harbour", theme: str = "light") -> None:
        """Be this person of the demo workshop, in this theme, and see the jobs."""
        cookie, value = self.site.people.setdefault(name, Caller(self.site.url)).be(name, theme)
        command = self.driver.execute_cdp_cmd
        command("Storage.clearDataForOrigin", {"origin": self.site.url, "storageTypes": "local_storage"})
        command("Network.setCookie", {"name": cookie, "value": value, "url": self.site.url, "httpOnly": True, "sameSite": "Strict"})
        self.open("/")

    def job_of(self, plate: str) -> str:
        """Id of the demo job with this plate; the list of all jobs shows the newest only."""
        found = self.api("GET", f"/jobs?{urlencode({'q': plate})}")["jobs"]
        return next(str(job["id"]) for job in found if job["plate"] == plate)

    def open_job(self, plate: str) -> None:
        """From the list to the page of the demo job with this plate."""
        self.open(f"/?{urlencode({'q': plate})}")
        link = self.wait(lambda: next(a for a in self.all("ul a") if plate in a.text), plate)
        self.driver.get(link.get_attribute("href"))
        self.find("[aria-label='What is known']")

    def open_diagnosis(self, plate: str) -> None:
        """The measuring screen of its first circuit diagnosis, or its conclusion if it has one."""
        self.open_job(plate)
        self.driver.get(self.find("[data-diagnosis-link]").get_attribute("href"))

    # -- measuring ----------------------------------------------------------------------------------

    def proposal(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.find("[data-testid=proposal]").get_attribute("data-test") or "{}")
        return found

    def count_readings(self) -> int:
        return len(self.all("[data-reading]"))

    def suspects(self) -> dict[str, float]:
        return {
            e.get_attribute("data-unit") or "": float(e.get_attribute("data-probability") or 0)
            for e in self.wait(lambda: self.all("[data-unit]"), "suspects")
        }

    def measure_proposal(self, vehicle: SimulatedVehicle) -> str:
        """Put the simulated vehicle's answer to the proposed test into words a person would type."""
        test = self.proposal()
        setup = vehicle.circuit.setup(test["setup"]["controls"], frozenset(test["setup"]["unplugged"]))
        value, word = vehicle.measure(test["instrument"], test["red"], test["black"], setup)
        if word is not None:
            return word
        if test["unit"] == "V":  # as a meter shows it: more digits than it has would be asked about
            return f"{value or 0.0:.2f}"
        return format_si(value or 0.0, test["unit"], 4).replace("−", "-").replace(" ", "").rstrip("Ω")


@pytest.fixture
def page(chromium: WebDriver, site: Site) -> Page:
    made = Page(chromium, site)
    made.sign_in()
    chromium.get_log("browser")
    return made


@pytest.fixture
def latch_vehicle(latch: Circuit) -> SimulatedVehicle:
    """A vehicle whose circuit the application has never seen, with a cut in the solenoid's control wire."""
    return SimulatedVehicle(latch, [("W7.open", None)], seed=21)
