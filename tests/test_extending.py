"""What it costs to add an instrument, a part family, a form of limit: a patch of a few files, and everything else follows.

Each patch is applied to a copy of the package; a process of its own then predicts, judges and asks the API with it.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.conftest import AMBIENT_TEXT, ROOT


@dataclass(frozen=True)
class Patch:
    """Files to add, and text to put in place of other text in files that exist."""

    added: dict[str, str]
    edits: dict[str, list[tuple[str, str]]]

    @property
    def files(self) -> int:
        return len(self.added) + len(self.edits)

    def apply(self, root: Path) -> None:
        for name, text in self.added.items():
            assert not (root / name).exists(), name
            (root / name).write_text(text, encoding="utf-8")
        for name, changes in self.edits.items():
            text = (root / name).read_text(encoding="utf-8")
            for old, new in changes:
                assert text.count(old) == 1, (name, old)
                text = text.replace(old, new)
            (root / name).write_text(text, encoding="utf-8")


INSTRUMENT = Patch(
    {
        "sondar/core/instruments/divider_probe.py": '''"""Voltmeter behind a 10:1 divider probe."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.instruments.access import Access
from sondar.core.instruments.base import Instrument, Observation, Population, Solved, Test, probes_sentence
from sondar.core.instruments.voltmeter import shown_volts


class DividerProbe(Instrument):
    """A tenth of the voltage."""

    id = "divider-probe"
    title = "Divider probe"
    unit = "V"
    error_share = 0.02
    error_floor = 0.01

    def offers(self, access: Access, setup: Setup) -> Iterable[tuple[str, str]]:
        return ((point.ref, access.black) for point in access.test_points(setup))

    def observe(self, population: Population, solved: Solved, tests: Sequence[Test]) -> Observation:
        at = population.circuit.point
        waves = solved.at([(at(test.red).node, at(test.black).node) for test in tests])
        return Observation(waves.mean(shown_volts(waves)) / 10.0)

    def where(self, circuit: Circuit, test: Test) -> str:
        return probes_sentence(circuit, test)
'''
    },
    {
        "sondar/core/instruments/__init__.py": [
            (
                "from sondar.core.instruments.functional_check",
                "from sondar.core.instruments.divider_probe import DividerProbe\nfrom sondar.core.instruments.functional_check",
            ),
            ("Voltmeter(), Ohmmeter(),", "Voltmeter(), Ohmmeter(), DividerProbe(),"),
        ]
    },
)

FAMILY = Patch(
    {
        "sondar/core/circuit/families/fusible_link.py": '''"""A fusible link."""

from __future__ import annotations

from typing import ClassVar, Literal

from sondar.core.circuit.families.base import Part, open_severity
from sondar.core.circuit.model import Branch, Fault, Group, Setup


class FusibleLink(Part):
    """A piece of wire that melts."""

    family: Literal["fusible_link"]

    GROUP: ClassVar[Group] = "wiring"
    NOUN: ClassVar[str] = "Fusible link"
    TERMINALS: ClassVar[tuple[str, ...]] = ("1", "2")

    def branches(self, part_id: str, setup: Setup) -> list[Branch]:
        return [Branch(part_id, part_id, f"{part_id}.1", f"{part_id}.2", 0.004, spread=0.2)]

    def faults(self, part_id: str) -> list[Fault]:
        return [self.fault(part_id, "open", "melted", 1.0, part_id, open_severity(part_id))]
'''
    },
    {
        "sondar/core/circuit/families/__init__.py": [
            (
                "from sondar.core.circuit.families.harness",
                "from sondar.core.circuit.families.fusible_link import FusibleLink\nfrom sondar.core.circuit.families.harness",
            ),
            ("    | Fuse\n", "    | Fuse\n    | FusibleLink\n"),
        ],
        "docs/circuit-format.md": [("| `fuse` |", "| `fusible_link` | `1`, `2` | | open |\n| `fuse` |")],
    },
)

FORM = Patch(
    {
        "sondar/core/limits/forms/about.py": '''"""About a value."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sondar.core.circuit.families.base import Fields, Quantity
from sondar.core.limits.conformity import Conformity, Measured, conformity
from sondar.core.limits.forms.base import Context, Judging, sure


class AboutFields(Fields):
    """Fields of a limit about a value."""

    about: Quantity | None = None


class About(Judging):
    """Within a tenth of the value."""

    def applies(self, limit: Any) -> bool:
        return limit.about is not None

    def expected(self, limit: Any, context: Context, figure: Callable[[float], str]) -> str:
        return f"about {figure(limit.about)}"

    def judge(self, limit: Any, measured: Measured | None, word: str | None, context: Context) -> Conformity:
        return conformity(measured, 0.9 * limit.about, 1.1 * limit.about) if measured else sure(False)
'''
    },
    {
        "sondar/core/limits/document.py": [
            (
                "from sondar.core.limits.forms.base",
                "from sondar.core.limits.forms.about import About, AboutFields\nfrom sondar.core.limits.forms.base",
            ),
            ("FORMS: tuple[Form, ...] = (", "FORMS: tuple[Form, ...] = (About(), "),
            ("class LimitForms(", "class LimitForms(AboutFields, "),
        ]
    },
)

CIRCUIT = AMBIENT_TEXT.replace("id: ambient-temperature", "id: extended").replace(
    "limits:\n", "limits:\n  new-form: {title: Sensor signal, red: X31.1, when: {key: \"on\"}, about: 2.75}\n", 1
)  # fmt: skip

SCRIPT = """
import json, os, sys
from uuid import uuid4
os.environ["SONDAR_SECURE_COOKIES"] = "0"
import psycopg
import sondar
assert sondar.__file__.startswith(os.getcwd()), sondar.__file__
from sondar.circuit_files import load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.judge import judge
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments import INSTRUMENTS
from sondar.core.quantities import parse_entry
from sondar.store import people
from sondar.web.application import create_app
from sondar.web.auth import hash_password

owner, application, text = sys.argv[1:4]
found = {}
circuit = Circuit(load_circuit_text(text))
predictor = Predictor(circuit)
judgement = judge(predictor, [], Situation(circuit.setup({}, frozenset()), instruments=frozenset(INSTRUMENTS)))
found["proposed"] = sorted({item.test.instrument for item in judgement.ranking.proposals})
found["faults"] = sorted(circuit.faults)
with psycopg.connect(owner) as db:
    workshop = people.create_workshop(db, "Extending")
    name = "extending-" + uuid4().hex[:8]
    people.create_account(db, name, "Extender", "lead", hash_password("slack-water-9"))
    db.commit()
app = create_app(application, "", prepare=False, vehicles={})
client = app.test_client()
me = client.post("/api/v1/session", json={"sign_in": name, "password": "slack-water-9"}).get_json()
client.environ_base["HTTP_X_CSRF_TOKEN"] = me["csrf"]
made = client.post("/api/v1/circuits", json={"text": text}).get_json()
detail = client.get(f"/api/v1/circuits/{made['version_id']}").get_json()
found["instruments"] = [item["id"] for item in client.get("/api/v1/lists").get_json()["instruments"]]
found["families"] = [item["symbol"] for item in detail["drawing"]["elements"]]
body = {"client_key": str(uuid4()), "vehicle": {"make": "Brigg"}, "circuit_version_id": made["version_id"]}
job = client.post("/api/v1/jobs", json=body).get_json()["id"]
diagnosis = client.get(f"/api/v1/jobs/{job}").get_json()["diagnoses"][0]["id"]
setup = {"controls": {"key": "on"}, "unplugged": []}
for instrument, entry in json.loads(sys.argv[4]):
    reading = {"client_key": str(uuid4()), "instrument": instrument, "red": "X31.1", "black": "BAT.neg", "setup": setup, "entry": entry}
    answer = client.post(f"/api/v1/diagnoses/{diagnosis}/readings", json=reading)
    assert answer.status_code == 201, answer.get_json()
    view = answer.get_json()
found["labels"] = [item["label"] for item in view["readings"]]
found["within"] = [item["within_expected"] for item in view["assessment"]["effects"]]
found["limits"] = {item["id"]: [item["range"], item["decision"]] for item in view["limits"]}
app.extensions["sondar"].close()
print(json.dumps(found))
"""


def run(patch: Patch, tmp_path: Path, dsns: tuple[str, str], text: str, entries: list[tuple[str, str]]) -> dict[str, object]:
    """The patched package at work."""
    shutil.copytree(ROOT / "sondar", tmp_path / "sondar", ignore=shutil.ignore_patterns("__pycache__"))
    shutil.copytree(ROOT / "docs", tmp_path / "docs", ignore=shutil.ignore_patterns("screenshots"))
    patch.apply(tmp_path)
    done = subprocess.run(
        [sys.executable, "-c", SCRIPT, *dsns, text, json.dumps(entries)], cwd=tmp_path, capture_output=True, text=True, timeout=300,
        env={**os.environ, "PYTHONPATH": str(tmp_path)},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-3000:]
    found: dict[str, object] = json.loads(done.stdout.splitlines()[-1])
    return found


@pytest.fixture
def dsns(dsn: str, app_dsn: str) -> tuple[str, str]:
    return dsn, app_dsn


def test_an_instrument_is_one_class_and_its_place_in_the_list(tmp_path: Path, dsns: tuple[str, str]) -> None:
    assert INSTRUMENT.files <= 2
    found = run(INSTRUMENT, tmp_path, dsns, AMBIENT_TEXT, [("divider-probe", "0.275")])
    assert "divider-probe" in found["instruments"]  # type: ignore[operator]
    assert found["labels"] == ["275 mV"]
    assert found["within"] == [True], "a healthy sensor's 2.75 V behind a 10:1 divider"


def test_a_family_is_one_class_its_place_in_the_union_and_its_documentation(tmp_path: Path, dsns: tuple[str, str]) -> None:
    assert FAMILY.files <= 3
    family = "\n  FL: {family: fusible_link, title: Sensor link}"
    wire = next(line for line in AMBIENT_TEXT.splitlines() if line.strip().startswith("W2:"))
    cut = wire.replace("to: X31.1", "to: FL.1") + "\n  W2b: {from: FL.2, to: X31.1, gauge_mm2: 0.35, length_m: 0.2}"
    text = AMBIENT_TEXT.replace("parts:", "parts:" + family, 1).replace(wire, cut)
    found = run(FAMILY, tmp_path, dsns, text, [("voltmeter", "0.0")])
    assert "FL.open" in found["faults"]  # type: ignore[operator]
    assert "fusible_link" in found["families"]  # type: ignore[operator]
    assert found["within"] == [False]


def test_a_form_of_limit_is_one_class_and_its_place_in_the_list(tmp_path: Path, dsns: tuple[str, str]) -> None:
    assert FORM.files <= 2
    found = run(FORM, tmp_path, dsns, CIRCUIT, [("voltmeter", "2.7")])
    assert found["limits"]["new-form"] == ["about 2.75 V", "pass"]  # type: ignore[index]
