"""Describing a circuit from its wiring sheet: what follows from the sheet, what a healthy vehicle shows, and what is still open."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from uuid import UUID

from sondar.app.case import Case, load_case, with_evidence
from sondar.app.computed import Computed
from sondar.app.measuring import T, View, finish
from sondar.app.photos import prepare_sheet
from sondar.app.room import room_for_photographs
from sondar.app.workspace import Workspace, known_version
from sondar.circuit_edits.filling import known_of
from sondar.circuit_files import load_circuit_text
from sondar.code_library import circuit_templates
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.families.doubts import FIGURES
from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.describing.pin_table import PinTable, read_csv, read_wireviz
from sondar.core.describing.sheet import Sheet
from sondar.core.describing.sheet_circuit import sheet_document
from sondar.core.errors import CircuitDocumentError, ConflictError, FieldProblem, InvalidError, NotFoundError
from sondar.core.instruments import displays
from sondar.core.instruments.base import Population, Test
from sondar.core.instruments.voltmeter import Voltmeter
from sondar.core.solving.fuses import blown_fuses
from sondar.core.solving.operating_points import SAMPLES
from sondar.core.wording.labels import expected_range
from sondar.store import circuits as circuit_store
from sondar.store import evidence, sheets
from sondar.store.circuits import CircuitVersion
from sondar.yaml_text import YamlTextError, load_yaml, written_yaml

SHOWN_IN = (("key off, connected", "off", False), ("key on, connected", "on", False), ("key on, disconnected", "on", True))
"""Set-ups in which a person knows by heart what a healthy circuit shows."""


@dataclass(frozen=True)
class HealthyReading:
    """What a healthy vehicle shows at one cavity of the part's plug, in each of ``SHOWN_IN``."""

    cavity: str
    carries: str
    shows: tuple[str, ...]


@dataclass(frozen=True)
class StillOpen:
    """Something the sheet does not say, and what knowing it is good for."""

    what: str
    why: str


@dataclass(frozen=True)
class Described:
    """A sheet as it was understood.

    Attributes:
        problems: what must be put right before it is a circuit, each with its field. text: the circuit file; empty while there are problems.
    """

    problems: tuple[FieldProblem, ...]
    text: str = ""
    document: CircuitDocument | None = None
    healthy: tuple[HealthyReading, ...] = ()
    open: tuple[StillOpen, ...] = ()


def described(_computed: Computed, sheet: Sheet) -> Described:
    """What follows from a sheet, or what is not clear in it yet."""
    try:
        document, text = made_of(sheet)
    except InvalidError as error:
        return Described(tuple(error.problems) or (FieldProblem(("rows",), error.detail),))
    return Described((), text, document, healthy_readings(Circuit(document), sheet), still_open(text, sheet))


def made_of(sheet: Sheet) -> tuple[CircuitDocument, str]:
    """The checked circuit that follows from a sheet, and its file.

    Raises:
        InvalidError: the sheet is not clear yet. CircuitDocumentError: what follows is no circuit; names the places.
    """
    text = written_yaml(sheet_document(sheet, circuit_templates()))
    try:
        return load_circuit_text(text), text
    except CircuitDocumentError as error:
        raise InvalidError(
            "The sheet gives no circuit yet", error.detail, [_on_the_sheet(one, sheet) for one in error.problems]
        ) from error


def _on_the_sheet(problem: FieldProblem, sheet: Sheet) -> FieldProblem:
    """A problem of the circuit file, at the field of the sheet that it came from."""
    path = problem.path
    if len(path) >= 3 and path[0] == "parts" and f"{path[1]}.{path[2]}" in sheet.figures:
        return FieldProblem(("figures", f"{path[1]}.{path[2]}"), problem.message)
    return FieldProblem(("rows",), f"{problem.field}: {problem.message}")


def healthy_readings(circuit: Circuit, sheet: Sheet) -> tuple[HealthyReading, ...]:
    """Voltages against ground at every cavity of the part's plug, to be accepted before the circuit is kept."""
    connector = _plug_of(circuit, sheet)
    cavities = list(circuit.document.connectors[connector].cavities)
    template = circuit_templates()[sheet.template]
    carries = {row.cavity: template.carries[row.carries - 1] for row in sheet.rows if row.carries}
    columns: list[list[str]] = []
    for _, key, apart in SHOWN_IN:
        setup: Setup = circuit.setup({"key": key}, frozenset({connector}) if apart else frozenset(), 20.0)
        tests = [Test(Voltmeter.id, f"{connector}.{cavity}", circuit.black_reference, setup) for cavity in cavities]
        measured = [test for test in tests if circuit.node(test.red) != circuit.node(test.black)]
        population = Population(circuit, setup, [()], blown_fuses(circuit, [()], 20.0), [None], SAMPLES)
        shown = displays(population, tuple(measured)).get(Voltmeter.id)
        labels = {test.red: expected_range(shown.at(n))[0] for n, test in enumerate(measured)} if shown is not None else {}
        columns.append([labels.get(test.red, "0 V") for test in tests])
    return tuple(
        HealthyReading(cavity, carries.get(cavity, ""), tuple(column[n] for column in columns)) for n, cavity in enumerate(cavities)
    )


def _plug_of(circuit: Circuit, sheet: Sheet) -> str:
    """The part's plug: the connector that has the sheet's cavities."""
    wanted = {row.cavity for row in sheet.rows if row.carries}
    found = [name for name, one in circuit.document.connectors.items() if wanted == set(one.cavities) and not one.inline]
    return sheet.plug if sheet.plug in found else found[0]


def still_open(text: str, sheet: Sheet) -> tuple[StillOpen, ...]:
    """What the sheet leaves open: figures that are only ranges first, those of the same name and range in one line."""
    data = circuit_templates()[sheet.template].data
    own = {*data.get("parts", {}), *data.get("module", {})}
    ranges: dict[tuple[str, str], list[str]] = {}
    for item in known_of(text):
        if item.open and item.field in FIGURES and item.id in own and f"{item.id}.{item.field}" not in sheet.figures:
            label = f"{item.label[:1].lower()}{item.label[1:]}"
            ranges.setdefault((label, f"{item.value} {item.unit}".rstrip()), []).append(item.of)
    found = [
        StillOpen(f"{', '.join(names)}: {label}", f"taken as {value}; a narrower range shows smaller faults")
        for (label, value), names in ranges.items()
    ]
    unknown = [row.cavity for row in sheet.rows if row.carries is None]
    if unknown:
        found.append(StillOpen(f"Cavity {', '.join(unknown)}", "nobody knows what it carries: it is not on the drawing"))
    bare = [row.cavity for row in sheet.rows if row.carries and not row.colour]
    if bare:
        found.append(StillOpen(f"Colour at cavity {', '.join(bare)}", "saves looking for the wire at other plugs"))
    if not any(row.pin for row in sheet.rows):
        found.append(StillOpen("Pins at the module", "without them the far end of a wire cannot be measured"))
    return tuple(found)


def understood_table(_computed: Computed, text: str, form: str, fields: Sequence[str]) -> PinTable:
    """A pin table as a spreadsheet or a WireViz file.

    Raises:
        InvalidError: it is none; names the line.
    """
    if form == "csv":
        return read_csv(text, fields)
    try:
        return read_wireviz(load_yaml(text))
    except YamlTextError as error:
        problem = FieldProblem(("text",), f"line {error.line}: {error.reason}", error.line)
        raise InvalidError("No WireViz file", problem.message, [problem]) from error


def keep(work: Workspace, sheet: Sheet) -> CircuitVersion:
    """Keep the circuit that follows from a sheet; the same part of the same vehicle again is its next version.

    Raises:
        InvalidError: the sheet is not clear yet; names every field.
    """
    document, text = work.compute("describing", _made_of, sheet)
    with work.transaction() as db:
        return circuit_store.save_circuit(db, document, text)


def _made_of(_computed: Computed, sheet: Sheet) -> tuple[CircuitDocument, str]:
    return made_of(sheet)


def add_pictures(work: Workspace, client_key: UUID, name: str, raw: bytes) -> list[UUID]:
    """Keep a photograph of a sheet, or the pages of its PDF.

    Raises:
        TooLargeError, InvalidError: too large, too many pages, no picture, or no room left.
    """
    pages = work.compute("photographs", prepare_sheet, raw)
    with work.transaction() as db:
        room_for_photographs(db, sum(len(page["body"]) + len(page["thumbnail"]) for page in pages))
        return sheets.add_pictures(db, client_key, name[:200], pages)


def picture(work: Workspace, picture_id: UUID, thumbnail: bool) -> tuple[bytes, str]:
    """A page of a sheet and its media type.

    Raises:
        NotFoundError: there is none.
    """
    with work.transaction() as db:
        found = sheets.picture(db, picture_id, thumbnail)
    if found is None:
        raise NotFoundError("No such picture", f"no picture {picture_id} of a wiring sheet is kept here")
    return found


def move(work: Workspace, diagnosis_id: UUID, client_key: UUID, version_id: UUID, view: View[T]) -> T:
    """Let a diagnosis go on with another circuit, or version of its circuit; every reading stays.

    Raises:
        NotFoundError: no such circuit. ConflictError: readings were made where the other circuit has no point; names them.
    """
    with work.transaction() as db:
        case = load_case(db, diagnosis_id)
        version = known_version(db, version_id)
    said = work.compute(version.id, _moved, case, version)
    with work.transaction() as db:
        evidence.append_revision(db, case.diagnosis, client_key, version.id, said)
        case = with_evidence(db, case)
    return finish(work, case, view)


def _moved(computed: Computed, case: Case, version: CircuitVersion) -> str:
    circuit = computed.circuit(version)
    lost = []
    for reading in case.stored:
        try:
            circuit.point(reading.red), circuit.point(reading.black)
            circuit.setup(reading.controls, frozenset(reading.unplugged), reading.temperature_c)
        except InvalidError as error:
            lost.append(f"{reading.red} to {reading.black}: {error.detail}")
    if lost:
        why = "; ".join(lost[:5])
        raise ConflictError(
            "Readings would be lost", f"{len(lost)} of the readings have no place in '{version.title}': {why}",
            [FieldProblem(("version_id",), "choose a circuit that has the points that were measured at")],
        )  # fmt: skip
    return f"goes on with '{version.title}', version {version.version}"


def previewed_version(found: Described, sheet: Sheet, none: CircuitVersion) -> CircuitVersion:
    """A version that is not stored, to be drawn."""
    assert found.document is not None
    return replace(none, slug=found.document.id, title=found.document.title, make=sheet.make, source_text=found.text)
