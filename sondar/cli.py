"""``sondar``: check, predict and judge from the command line; create the database and serve.

Exit status: 0 done, 1 the file or the readings are wrong (every problem is printed), 2 wrong use.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from sondar.circuit_files import CircuitFileError, former_names_in, load_circuit_text
from sondar.code_library import circuit_templates, circuit_text, generic_codes
from sondar.core.circuit.document.fields import CircuitDocument
from sondar.core.circuit.model import Change, Fault, Setup, Severity
from sondar.core.circuit.network import Circuit
from sondar.core.codes import danger_of
from sondar.core.diagnosis.belief import Belief
from sondar.core.diagnosis.costs import Situation, reached_by
from sondar.core.diagnosis.judge import judge as judge_circuit
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.sequencing import Node, Policy, read_table, sequence
from sondar.core.errors import PlanTableError, QuantityError, SondarError, UnknownReferenceError
from sondar.core.generic_codes import GenericCode
from sondar.core.instruments import displays, instrument, sensible_tests
from sondar.core.instruments.base import Display, Population, Test
from sondar.core.instruments.reading import Reading
from sondar.core.instruments.voltmeter import FLOATING_OHM, FLOATING_WORD_SHARE, UNSTABLE
from sondar.core.present.assessment import Assessment, assessment
from sondar.core.quantities import format_si, parse_si
from sondar.core.solving.fuses import blown_fuses
from sondar.core.wording.labels import expected_range, reading_label


@click.group()
def main() -> None:
    """Diagnosis of sensor and actuator circuits."""


def _fail(message: str, as_json: bool, problems: Sequence[dict[str, Any]] = ()) -> None:
    if as_json:
        click.echo(json.dumps({"error": message, "problems": list(problems)}, ensure_ascii=False, indent=2))
    else:
        click.echo(message, err=True)
        for problem in problems:
            click.echo(f"  line {problem['line'] or '-'}: {problem['field']}: {problem['message']}", err=True)
    sys.exit(1)


def _load(path: Path, as_json: bool) -> Circuit:
    try:
        return Circuit(load_circuit_text(path.read_text(encoding="utf-8")))
    except CircuitFileError as error:
        _fail(f"{path}: {len(error.problems)} problem(s)", as_json, [p.as_dict() for p in error.problems])
    except (OSError, UnicodeDecodeError) as error:
        _fail(f"{path}: {error}", as_json)
    raise AssertionError("unreachable")


CIRCUIT = click.argument("circuit", type=click.Path(exists=True, dir_okay=False, path_type=Path))
JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of a table.")


@main.command()
@CIRCUIT
@JSON
def validate(circuit: Path, as_json: bool) -> None:
    """Check a circuit file; print every problem with line and field."""
    found = _load(circuit, as_json)
    facts = {
        "id": found.document.id, "title": found.document.title, "parts": len(found.document.parts), "wires": len(found.document.wires),
        "points": len(found.points), "faults": len(found.faults), "controls": {k: list(v) for k, v in found.controls.items()},
    }  # fmt: skip
    notes = [note.as_dict() for note in former_names_in(circuit.read_text(encoding="utf-8"))]
    if as_json:
        click.echo(json.dumps({"valid": True, **facts, "notes": notes}, ensure_ascii=False, indent=2))
    else:
        click.echo(
            f"{circuit}: valid. {facts['parts']} parts, {facts['wires']} wires, {facts['points']} points, {facts['faults']} faults"
        )
        for note in notes:
            click.echo(f"  note, line {note['line'] or '-'}: {note['field']}: {note['message']}")


def _setup(circuit: Circuit, name: str | None, sets: Sequence[str], unplug: Sequence[str], temperature_c: float) -> Setup:
    base = circuit.named_setup(name) if name else circuit.rest_setup(temperature_c)
    controls = dict(base.controls)
    for item in sets:
        control, _, value = item.partition("=")
        controls[control] = value
    return circuit.setup(controls, base.unplugged | frozenset(unplug), base.temperature_c if name else temperature_c)


@main.command()
@CIRCUIT
@click.option("--setup", "setup_name", help="Named set-up of the file, or 'rest'.")
@click.option("--set", "sets", multiple=True, metavar="CONTROL=POSITION", help="Move a control; may be repeated.")
@click.option("--unplug", multiple=True, metavar="CONNECTOR", help="Disconnect a connector; may be repeated.")
@click.option("--temperature", default=20.0, show_default=True, help="Temperature of the parts in °C.")
@click.option("--fault", metavar="ID[:SEVERITY]", help="Fault to predict; healthy if left out.")
@JSON
def predict(
    circuit: Path, setup_name: str | None, sets: tuple[str, ...], unplug: tuple[str, ...], temperature: float, fault: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Predict every point's voltage and every sensible test in a set-up, healthy or under a fault."""
    found = _load(circuit, as_json)
    try:
        setup = _setup(found, setup_name, sets, unplug, temperature)
        result = predictions_of(found, setup, fault)
    except SondarError as error:
        _fail(str(error), as_json)
        return
    if as_json:
        click.echo(json.dumps(result, ensure_ascii=False, indent=2))
        return
    click.echo(f"{found.document.title} · {result['setup']} · {result['fault'] or 'healthy'}")
    for point in result["points"]:
        click.echo(f"  {point['ref']:14} {point['volts']:8.3f} V  {'floating' if point['floating'] else '':9} {point['title']}")
    click.echo("Tests")
    for test in result["tests"]:
        click.echo(f"  {test['instrument']:10} {test['red']:12} {test['black']:12} {test['reading']}")


def predictions_of(circuit: Circuit, setup: Setup, fault: str | None) -> dict[str, Any]:
    """Points and tests of one set-up for one fault, on the nominal vehicle.

    Raises:
        UnknownReferenceError: no such fault or severity.
    """
    changes: tuple[Change, ...] = ()
    name = ""
    if fault:
        name, _, label = fault.partition(":")
        if name not in circuit.faults:
            raise UnknownReferenceError("fault", name, list(circuit.faults))
        changes = _severity(circuit.faults[name], label).changes
    blown = blown_fuses(circuit, [changes])
    points = [p for p in circuit.points.values() if p.reachable(setup)]
    tests = sensible_tests(circuit, setup)
    ground = circuit.node(circuit.black_reference)
    population = Population(circuit, setup, [changes], blown, [circuit.faults.get(name)], samples=1)
    solved = population.solve([(p.node, ground) for p in points])
    volts, ohms = solved.mean([p.volts for p in solved.states])[0, 0], solved.states[0].ohms[0, 0]
    shown = displays(population, tests)
    column: dict[str, int] = {}
    read = []
    for t in tests:
        position = column[t.instrument] = column.get(t.instrument, -1) + 1
        read.append({"instrument": t.instrument, "red": t.red, "black": t.black, **_reading(shown[t.instrument].at(position))})
    return {
        "circuit": circuit.document.id,
        "setup": setup.describe(),
        "temperature_c": setup.temperature_c,
        "fault": fault,
        "blown_fuses": [name for name, out in zip(_fuses(circuit, setup), blown[0], strict=True) if out],
        "points": [
            {"ref": p.ref, "title": p.title, "volts": float(volts[i]), "source_ohm": float(ohms[i]), "floating": bool(ohms[i] > FLOATING_OHM)}
            for i, p in enumerate(points)
        ],
        "tests": read,
    }  # fmt: skip


def _severity(fault: Fault, label: str) -> Severity:
    """A severity by its label, or, for a fault that is a resistance, of any value: ``W3.resistance:45``; the first if none is named.

    Raises:
        UnknownReferenceError: no such severity.
    """
    known = {s.label.replace(" ", ""): s for s in fault.severities}
    wanted = label.replace(" ", "")
    if not wanted:
        return fault.severities[0]
    if wanted in known:
        return known[wanted]
    pattern = fault.severities[-1].changes
    try:
        ohms = parse_si(wanted)
    except (QuantityError, ValueError):
        ohms = -1.0
    ranged = len(fault.severities) > 1 and len(pattern) == 1
    if ohms > 0.0 and ranged and pattern[0].add_ohm is not None:
        return Severity(label, 1.0, (replace(pattern[0], add_ohm=ohms),))
    if ohms > 0.0 and ranged and pattern[0].set_ohm is not None:
        return Severity(label, 1.0, (replace(pattern[0], set_ohm=ohms),))
    raise UnknownReferenceError(f"severity of {fault.id}", label, [s.label for s in fault.severities])


def _fuses(circuit: Circuit, setup: Setup) -> list[str]:
    return [branch.id for branch in circuit.branches(setup) if branch.fuse_rating_a is not None]


def _reading(one: Display) -> dict[str, Any]:
    device, words = one.instrument, one.words[0, 0]
    word = device.words[int(words.argmax())] if words.size else ""
    if not device.figures or (words.sum() > 0.5 and word != UNSTABLE):
        return {"reading": word, "value": None}
    value = float(one.nominal[0, 0])
    label = format_si(value, device.unit) + (f" or {word}" if words.sum() > 0.5 * FLOATING_WORD_SHARE else "")
    return {"reading": label, "value": value, "unit": device.unit, "range": expected_range(one)[0]}


@main.command()
@CIRCUIT
@click.argument("readings", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@JSON
def judge(circuit: Path, readings: Path, as_json: bool) -> None:
    """Judge a circuit from a JSON list of readings; print belief, conclusion and the next test.

    Each reading: {"instrument", "red", "black", "setup": {"controls", "unplugged", "temperature_c"} or a name, "reading": "12.4"}.
    """
    found = _load(circuit, as_json)
    try:
        listed = [read_reading(found, index, item) for index, item in enumerate(json.loads(readings.read_text(encoding="utf-8")))]
        predictor = Predictor(found, listed[-1].test.setup.temperature_c if listed else 20.0)
        opened = frozenset[str]().union(*(reached_by(found, r.test) for r in listed))
        setup = listed[-1].test.setup if listed else found.rest_setup()
        judged = judge_circuit(predictor, listed, Situation(setup, opened))
        result, belief = assessment(judged), judged.belief
    except (SondarError, ValueError, KeyError, TypeError, AttributeError) as error:
        _fail(f"{readings}: {error if isinstance(error, SondarError | ValueError) else f'missing or misplaced {error}'}", as_json)
        return
    if as_json:
        click.echo(json.dumps(judgement_json(result, belief), ensure_ascii=False, indent=2))
        return
    for reading, effect in zip(listed, result.effects, strict=True):
        mark = "within expected range" if effect.within_expected else f"OUTSIDE expected range ({effect.expected})"
        click.echo(f"  {reading.test.red:12} {reading_label(reading):14} {mark}")
    for suspect in result.suspects:
        click.echo(f"  {suspect.probability:6.1%}  {suspect.group:10} {suspect.title}")
    conclusion = result.conclusion
    click.echo(conclusion.sentence if conclusion.settled else f"Not yet: {conclusion.reason}. {conclusion.sentence}")
    if not conclusion.settled and result.proposals:
        proposal = result.proposals[0]
        click.echo(f"Next: {proposal.test.instrument_title} {proposal.test.red} against {proposal.test.black}, "
                   f"{proposal.test.setup.text}; expected: {proposal.expected}. {proposal.why}")  # fmt: skip


def judgement_json(result: Assessment, belief: Belief) -> dict[str, Any]:
    """Belief by fault, unit and group, conclusion or "not yet", next test: what an outside program needs.

    ``none`` is *no fault now*, ``unknown`` *something not on the drawing*; faults are summed over their severities.
    """
    faults: dict[str, float] = {}
    for suspect, probability in zip(belief.hypotheses.suspects, belief.now, strict=True):
        faults[suspect.fault] = faults.get(suspect.fault, 0.0) + float(probability)
    conclusion = result.conclusion.model_dump() if result.conclusion.settled else "not yet"
    units = {unit: float(p) for unit, p in zip(belief.hypotheses.units, belief.units(), strict=True)}
    return {
        "conclusion": conclusion,
        "verdict": conclusion,  # its former name, kept for this format version
        "leading": result.conclusion.model_dump(),
        "groups": result.track[-1].model_dump(),
        "units": dict(sorted(units.items(), key=lambda item: -item[1])),
        "faults": dict(sorted(faults.items(), key=lambda item: -item[1])),
        "effects": [e.model_dump() for e in result.effects],
        "next": None if result.conclusion.settled or not result.proposals else result.proposals[0].model_dump(),
    }


def read_reading(circuit: Circuit, index: int, item: dict[str, Any]) -> Reading:
    """One reading of a readings file.

    Raises:
        UnknownReferenceError: instrument, point, control or connector not known.
        QuantityError: the reading does not fit the instrument.
        KeyError: a field is missing.
    """
    setup = item.get("setup", {})
    if isinstance(setup, str):
        made = circuit.named_setup(setup)
    else:
        made = circuit.setup(
            setup.get("controls", {}), frozenset(setup.get("unplugged", [])), float(setup.get("temperature_c", 20.0))
        )
    for ref in (item["red"], item.get("black", circuit.black_reference)):
        circuit.point(ref)
    device = instrument(str(item["instrument"]))
    entry = device.understand(str(item["reading"]))
    test = Test(device.id, item["red"], item.get("black", circuit.black_reference), made)
    return Reading(str(item.get("id", index + 1)), test, entry.value, entry.state, entry.resolution)


@main.command()
@click.argument("table", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--policy", type=click.Choice(["optimal", "sondar", "order"]), default="optimal", show_default=True)
@JSON
def plan(table: Path, policy: Policy, as_json: bool) -> None:
    """Order the tests of a fault–test table: {"states": [{"id", "p"}], "tests": [{"id", "cost", "p_fail": {state: p}}]}."""
    sys.setrecursionlimit(20_000)  # a policy that asks five hundred states one after the other is a tree five hundred deep
    try:
        found = sequence(read_table(json.loads(table.read_text(encoding="utf-8"))), policy)
    except PlanTableError as error:
        _fail(f"{table}: {error}", as_json, [p.as_dict() for p in error.problems])
        return
    except (OSError, ValueError) as error:
        _fail(f"{table}: {error}", as_json)
        return
    if as_json:
        click.echo(json.dumps(found.as_json(), ensure_ascii=False, indent=2))
        return
    click.echo(f"{policy}: expected cost {found.expected_cost:g}{', proven the least' if found.exact else ''}")
    _print_tree(found.tree, "")


def _print_tree(node: Node, indent: str) -> None:
    if node.test is None or node.passed is None or node.failed is None:
        click.echo(indent + (", ".join(f"{name} {p:.1%}" for name, p in node.remaining) or "cannot happen"))
        return
    click.echo(f"{indent}{node.test}")
    for word, after in (("pass", node.passed), ("fail", node.failed)):
        click.echo(f"{indent}  {word}:")
        _print_tree(after, indent + "    ")


@main.command()
def schema() -> None:
    """Print the JSON Schema of circuit files."""
    click.echo(json.dumps(CircuitDocument.model_json_schema(), ensure_ascii=False, indent=2))


@main.command()
@click.argument("code")
@JSON
def code(code: str, as_json: bool) -> None:
    """Say what a generic trouble code means, by number as people say it (443, P0443-14). Ends with 1 if it is not held."""
    held = generic_codes()
    understood = held.understand(code)
    if not understood:
        _fail(f"'{code}' is not a code: one of P, C, B, U, then 0–3 and three hex digits, e.g. P0443", as_json)
        return
    one = understood[0]
    item = held.get(one.code)
    if as_json:
        told: dict[str, Any] = {
            "code": one.code,
            "failure_type": one.failure_type,
            "failure_type_words": held.failure_type(one.failure_type),
        }
        if item is None:
            told |= {"held": False, "why_not": held.why_not(one.code)}
        else:
            told |= {
                "held": True, "meaning": item.meaning, "kind": item.kind, "template": item.template, "companions": list(item.companions),
                "mistaken_for": list(item.mistaken_for), "sets": item.sets, "not_said": item.not_said, "looks": list(item.looks),
                "electrically": item.electrically, "danger": danger_of(one.code),
            }  # fmt: skip
        click.echo(json.dumps(told, ensure_ascii=False, indent=2))
    elif item is None:
        click.echo(f"{one.code}: {held.why_not(one.code)}")
    else:
        _print_code(item, held.failure_type(one.failure_type), "" if one.as_said else f"'{code}' understood as {one.code}.")
    if item is None:
        sys.exit(1)


def _print_code(item: GenericCode, failure: str, understood: str) -> None:
    lines = [
        understood, f"{item.code}  {item.meaning}{f'; {failure}' if failure else ''}", danger_of(item.code), f"Kind: {item.kind}. {item.sets}",
        item.not_said, item.electrically, f"First looks: {'; '.join(item.looks)}." if item.looks else "",
        f"Often stored with it: {', '.join(item.companions)}." if item.companions else "",
        f"Mistaken for: {', '.join(item.mistaken_for)}." if item.mistaken_for else "",
        f"Typical circuit: {item.template} (sondar template {item.template})" if item.template else "",
    ]  # fmt: skip
    click.echo("\n".join(line for line in lines if line))


@main.command()
@JSON
def templates(as_json: bool) -> None:
    """List the typical circuits by what a plug carries."""
    known = sorted(circuit_templates().values(), key=lambda item: item.id)
    if as_json:
        listed = [
            {"id": item.id, "title": item.title, "wires": item.wires, "carries": list(item.carries), "words": list(item.words)}
            for item in known
        ]
        click.echo(json.dumps({"templates": listed}, ensure_ascii=False, indent=2))
        return
    for item in known:
        click.echo(f"{item.id:32}{item.title}")


@main.command()
@click.argument("template_id", metavar="ID")
@click.option("--make", default="Unknown", show_default=True, help="Make that the file is for.")
@click.option("--model", default="", help="Model, if known.")
def template(template_id: str, make: str, model: str) -> None:
    """Write the circuit file of a typical circuit."""
    found = circuit_templates().get(template_id)
    if found is None:
        _fail(f"there is no typical circuit '{template_id}': 'sondar templates' lists them", False)
        return
    click.echo(circuit_text(found, {"make": make, **({"model": model} if model else {})}), nl=False)


if __name__ == "__main__":
    main()
