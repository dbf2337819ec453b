"""A manufacturer's diagnostic procedure as a file: steps with a limit and two ways on, checked against its circuit."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, ValidationError

from sondar.core.circuit.families.base import Fields
from sondar.core.circuit.network import Circuit
from sondar.core.errors import CircuitDocumentError, FieldProblem
from sondar.core.former_names import with_current_names
from sondar.core.instruments import INSTRUMENTS
from sondar.core.limits.document import Limit
from sondar.core.limits.forms.bounds import Bounds
from sondar.core.limits.forms.word import Word

MOST_STEPS = 60


class ProcedureEnd(Fields):
    """Where a procedure comes to: the unit it condemns, or only words."""

    unit: str = Field("", description="Id of the unit to replace or repair; empty if the procedure only says words.")
    text: str = ""


class ProcedureStep(Limit):
    """One step: the test and its limit as in a limit, and the ways on: the id of another step, or an end."""

    do: str = Field("", description="What the manufacturer's procedure says, in its own words.")
    if_pass: str | ProcedureEnd = Field(description="Next step, or the end.")
    if_fail: str | ProcedureEnd = Field(description="Next step, or the end.")


def _first_key(value: object) -> object:
    """Step ids may be written bare, as numbers; titles are the step's words if left out."""
    if not isinstance(value, Mapping):
        return value
    steps = {}
    for name, step in value.items():
        if isinstance(step, Mapping):
            step = {**step, "title": step.get("title") or step.get("do") or f"Step {name}"}
            for way in ("if_pass", "if_fail"):
                if isinstance(step.get(way), int):
                    step[way] = str(step[way])
        steps[str(name)] = step
    return steps


class ProcedureDocument(Fields):
    """A procedure of one circuit. Format version 1; the first step listed is where it starts."""

    sondar_procedure: Literal[1]
    title: str = Field(min_length=1, max_length=200)
    circuit: str = Field(description="Id of the circuit it belongs to.")
    source: str = Field("", description="Where it was taken from.", max_length=200)
    steps: Annotated[dict[str, ProcedureStep], BeforeValidator(_first_key)] = Field(min_length=1, max_length=MOST_STEPS)


def read_procedure(data: object, circuit: Circuit | None = None) -> ProcedureDocument:
    """Check plain data and return the procedure; with its circuit given, every point, control and unit is checked too.

    Raises:
        CircuitDocumentError: lists every problem with the path to its field.
    """
    if not isinstance(data, Mapping):
        raise CircuitDocumentError([FieldProblem((), "expected a procedure with fields sondar_procedure, title, circuit, steps")])
    data, _ = with_current_names(data)
    try:
        procedure = ProcedureDocument.model_validate(data)
    except ValidationError as error:
        raise CircuitDocumentError([_problem(item) for item in error.errors()]) from error
    problems = [*_loose_ends(procedure), *(() if circuit is None else _unknown_names(procedure, circuit))]
    if problems:
        raise CircuitDocumentError(problems)
    return procedure


def _problem(error: Any) -> FieldProblem:
    path = tuple(
        step
        for step in error["loc"]
        if step not in ("str", "ProcedureEnd", "function-before[_first_key(), dict[str,ProcedureStep]]")
    )
    return FieldProblem(path, error["msg"].removeprefix("Value error, "))


def _loose_ends(procedure: ProcedureDocument) -> list[FieldProblem]:
    found = []
    for name, step in procedure.steps.items():
        for way in ("if_pass", "if_fail"):
            target = getattr(step, way)
            if isinstance(target, str) and target not in procedure.steps:
                found.append(
                    FieldProblem(("steps", name, way), f"no step '{target}': name a step, or give an end {{unit: …, text: …}}")
                )
    if not found and _has_loop(procedure):
        found.append(FieldProblem(("steps",), "the steps run in a circle: every way must come to an end"))
    return found


def _has_loop(procedure: ProcedureDocument) -> bool:
    done: set[str] = set()

    def visit(name: str, above: frozenset[str]) -> bool:
        if name in above:
            return True
        if name in done:
            return False
        ways = (procedure.steps[name].if_pass, procedure.steps[name].if_fail)
        loops = any(visit(way, above | {name}) for way in ways if isinstance(way, str))
        done.add(name)
        return loops

    return visit(next(iter(procedure.steps)), frozenset())


def _unknown_names(procedure: ProcedureDocument, circuit: Circuit) -> list[FieldProblem]:
    found = []
    if procedure.circuit != circuit.document.id:
        found.append(
            FieldProblem(("circuit",), f"this is a procedure of '{procedure.circuit}', the circuit here is '{circuit.document.id}'")
        )
    for name, step in procedure.steps.items():
        if step.instrument not in INSTRUMENTS:
            found.append(FieldProblem(("steps", name, "with"), f"no instrument '{step.instrument}'"))
        for field in ("red", "black"):
            ref = getattr(step, field)
            if ref and ref not in circuit.points and ref not in circuit.targets:
                found.append(FieldProblem(("steps", name, field), f"'{ref}' is no point of this circuit"))
        if step.converting or not isinstance(step.judging, Bounds | Word):
            found.append(FieldProblem(("steps", name), "a step is judged by min, max or word only"))
        for control, value in step.when.items():
            if value not in circuit.controls.get(control, ()):
                found.append(
                    FieldProblem(("steps", name, "when", control), f"'{control}: {value}' is no position of a control here")
                )
        for connector in step.unplugged:
            if connector not in circuit.document.connectors:
                found.append(FieldProblem(("steps", name, "unplugged"), f"no connector '{connector}'"))
        for way in ("if_pass", "if_fail"):
            end = getattr(step, way)
            if isinstance(end, ProcedureEnd) and end.unit and end.unit not in circuit.units:
                found.append(FieldProblem(("steps", name, way, "unit"), f"no unit '{end.unit}' in this circuit"))
    return found
