"""The drawing of every library circuit, checked by a program as the browser lays it out: labels, wires, parts, points."""

from __future__ import annotations

from typing import Any

from tests.browser.conftest import Page

MEASURE = """
const svg = document.querySelector("[data-testid=drawing] svg");
const k = svg.viewBox.baseVal.width / svg.getBoundingClientRect().width;
const box = (e) => { const b = e.getBoundingClientRect(); return [b.left * k, b.top * k, b.right * k, b.bottom * k]; };
const labels = [], texts = [...svg.querySelectorAll("text")];
for (const text of texts) {
  const spans = [...text.querySelectorAll("tspan")].filter((s) => s.textContent.trim());
  // A label of several lines is measured line by line.
  for (const part of spans.length ? spans : [text]) {
    if (part.textContent.trim()) labels.push({words: part.textContent, at: box(part), text: texts.indexOf(text)});
  }
}
const bodies = [...svg.querySelectorAll("[data-body]")].map((e) => ({part: e.dataset.body, column: e.dataset.column, at: box(e)}));
const lines = [...svg.querySelectorAll("line[data-link]")].map((e) => box(e));
const dots = [...svg.querySelectorAll("g[aria-label] > circle[r='4.6']")];
const points = dots.map((e) => ({name: e.parentNode.getAttribute("aria-label"), at: box(e)}));
return {labels, bodies, lines, points, width: svg.viewBox.baseVal.width};
"""
TOUCH = 1.5
"""Drawing units by which two boxes may touch: the browser's boxes are a little larger than the ink."""


def overlap(one: list[float], two: list[float], allowed: float = TOUCH) -> bool:
    return min(one[2], two[2]) - max(one[0], two[0]) > allowed and min(one[3], two[3]) - max(one[1], two[1]) > allowed


def faults_of(drawn: dict[str, Any]) -> list[str]:
    """Everything wrong with one drawing, in words."""
    found = []
    labels = drawn["labels"]
    for index, one in enumerate(labels):
        for two in labels[index + 1 :]:
            if one["text"] != two["text"] and overlap(one["at"], two["at"]):
                found.append(f"labels '{one['words']}' and '{two['words']}' overlap")
        if one["at"][2] - labels[0]["at"][0] > drawn["width"] + 200:
            found.append(f"label '{one['words']}' leaves the drawing")
    for line in drawn["lines"]:
        for body in drawn["bodies"]:
            inside = line[1] > body["at"][1] + TOUCH and line[3] < body["at"][3] - TOUCH
            if inside and line[0] < body["at"][0] - TOUCH and line[2] > body["at"][2] + TOUCH:
                found.append(f"a wire runs through {body['part']}")
        for label in labels:
            if overlap([line[0], line[1] - 1, line[2], line[3] + 1], label["at"], 0.5):
                found.append(f"a wire runs through the label '{label['words']}'")
    for index, one in enumerate(drawn["points"]):
        for two in drawn["points"][index + 1 :]:
            if overlap(one["at"], two["at"], 2.0):
                found.append(f"points '{one['name']}' and '{two['name']}' lie on each other")
    return found


def test_no_drawing_of_the_library_has_labels_or_wires_in_the_way(page: Page) -> None:
    circuits = page.api("GET", "/circuits")["circuits"]
    assert len(circuits) >= 30
    crossings, wrong = 0, {}
    for circuit in circuits:
        page.go(f"/circuits/{circuit['version_id']}")
        page.find(f"[data-testid=drawing] svg[aria-label*='{circuit['title']},']")
        drawn = page.driver.execute_script(MEASURE)
        assert drawn["labels"]
        assert drawn["bodies"]
        joints = page.api("GET", f"/circuits/{circuit['version_id']}")["drawing"]
        assert len(drawn["lines"]) == len(joints["links"])
        faults = faults_of(drawn)
        if faults:
            wrong[circuit["slug"]] = faults
        crossings += joints["crossings"]
    assert not wrong, "\n".join(f"{slug}: {fault}" for slug, faults in wrong.items() for fault in faults)
    assert crossings == 0


def test_the_check_itself_finds_what_is_wrong() -> None:
    label = {"words": "W1", "at": [0.0, 0.0, 30.0, 12.0], "text": 0}
    near = {"words": "W2", "at": [20.0, 4.0, 50.0, 16.0], "text": 1}
    body = {"part": "M1", "at": [40.0, 100.0, 72.0, 132.0]}
    lines = [[10.0, 116.0, 90.0, 116.0], [5.0, 6.0, 15.0, 6.0]]
    drawn = {"labels": [label, near], "bodies": [body], "lines": lines, "points": [], "width": 400.0}
    assert faults_of(drawn) == ["labels 'W1' and 'W2' overlap", "a wire runs through M1", "a wire runs through the label 'W1'"]
