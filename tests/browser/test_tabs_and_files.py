"""More tabs than a browser has connections, one of them overtaken by another, and a file of codes that is looked at first."""

from __future__ import annotations

from pathlib import Path
from uuid import uuid4

from tests.browser.conftest import Page

TABS = 9


def enter(page: Page, address: str, entry: str) -> None:
    setup = {"controls": {"key": "on"}, "unplugged": []}
    body = {
        "client_key": str(uuid4()),
        "instrument": "voltmeter",
        "red": "F14.2",
        "black": "BAT.neg",
        "setup": setup,
        "entry": entry,
    }
    page.api("POST", f"/diagnoses/{address.rsplit('/', 1)[-1]}/readings", body)


def close_others(page: Page, kept: str) -> None:
    for handle in page.driver.window_handles:
        if handle != kept:
            page.driver.switch_to.window(handle)
            page.driver.close()
    page.driver.switch_to.window(kept)


def test_nine_tabs_open_and_the_last_follows_the_first(page: Page) -> None:
    """Six connections are all that a browser has: with a stream in each tab the seventh would wait for ever."""
    page.open_diagnosis("PA 19 TRN")
    page.find("[data-testid=entry]")
    address, first = page.driver.current_url, page.driver.current_window_handle
    before = page.count_readings()
    try:
        for _ in range(TABS - 1):
            page.driver.switch_to.new_window("tab")
            page.driver.get(address)
            page.find("[data-testid=entry]")
        last = page.driver.current_window_handle
        page.driver.switch_to.window(first)
        enter(page, address, "11.7")
        page.wait(lambda: page.count_readings() == before + 1, "the reading in the first tab")
        page.driver.switch_to.window(last)
        page.wait(lambda: page.count_readings() == before + 1, "the same reading in the last tab")
        page.driver.switch_to.window(first)
        page.driver.close()  # the tab that had the stream: another takes it over
        page.driver.switch_to.window(page.driver.window_handles[0])
        enter(page, address, "11.6")
        page.wait(lambda: page.count_readings() == before + 2, "the second reading")
        page.driver.switch_to.window(last)
        page.wait(lambda: page.count_readings() == before + 2, "it reaches the last tab, too")
    finally:
        close_others(page, page.driver.window_handles[-1])


def test_a_file_of_codes_is_shown_before_anything_is_kept(page: Page, tmp_path: Path) -> None:
    file = tmp_path / "from the scan tool.csv"
    file.write_text(
        "Module;DTC;State;Text;Colour\nECM;P0480;active;fan relay, coil;red\nECM;P0117 P0118;stored;\n# BCM;U0157;;\nECM;P04Z9;;\n"
    )
    body = {"client_key": str(uuid4()), "vehicle": {"make": "Halden", "model": "Tern"}, "complaint": "lamp on"}
    page.open(f"/jobs/{page.api('POST', '/jobs', body)['id']}")
    page.find("input[aria-label='File of codes']").send_keys(str(file))
    page.see("Codes in “from the scan tool.csv”")
    page.see("2 codes in one cell")
    page.see("a comment: not read")
    page.see("'P04Z9' is not a code")
    page.see("Columns not used: Colour")
    page.see("fan relay, coil")
    page.see("Keep 1 code")
    next(button for button in page.all("[role=dialog] button") if button.text == "Keep 1 code").click()
    page.wait(
        lambda: [row.get_attribute("data-code") for row in page.all("[data-code]")] == ["P0480"], "the one that was beyond doubt"
    )
