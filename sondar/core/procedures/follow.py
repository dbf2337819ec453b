"""Where a procedure stands after the readings: nothing is stored beside them."""

from __future__ import annotations

from collections.abc import Sequence

from pydantic import BaseModel, Field

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.belief import Belief
from sondar.core.instruments import instrument
from sondar.core.instruments.reading import Reading
from sondar.core.limits.card import context_of, judge_limit, newest
from sondar.core.limits.condition import limit_test
from sondar.core.limits.forms.base import plain_figure
from sondar.core.present.tests import SetupView, setup_view
from sondar.core.procedures.document import ProcedureDocument, ProcedureEnd
from sondar.core.wording.labels import describe_test, reading_label, unit_title


class ProcedureStepView(BaseModel):
    """One step on the way."""

    id: str
    do: str
    test: str = Field(description="The test in one phrase.")
    range: str
    instrument: str
    red: str
    black: str
    setup: SetupView
    shown: str
    decision: str = Field(description="pass, fail, in doubt, or open.")


class ProcedureView(BaseModel):
    """A procedure followed as far as the readings go."""

    title: str
    source: str
    path: list[ProcedureStepView] = Field(description="Steps taken, the open one last if the procedure has not come to its end.")
    end: str = Field(description="What the procedure says at its end; empty before.")
    end_unit: str
    agrees: str = Field(description="What Sondar's belief says of that end; empty before.")


def follow_procedure(
    procedure: ProcedureDocument, circuit: Circuit, belief: Belief, readings: Sequence[Reading], temperature_c: float
) -> ProcedureView:
    """Where the procedure stands after the readings that were taken."""
    name: str | ProcedureEnd = next(iter(procedure.steps))
    path = []
    while isinstance(name, str):
        step = procedure.steps[name]
        test = limit_test(circuit, step, temperature_c)
        device = instrument(test.instrument)
        reading = newest(readings, test)
        context = context_of(circuit, readings, temperature_c, device, reading)
        judged = None if reading is None else judge_limit(step, reading, context).conformity
        decision = "open" if judged is None else judged.decision
        path.append(
            ProcedureStepView(
                id=name, do=step.do or step.title, test=describe_test(circuit, test),
                range=step.judging.expected(step, context, plain_figure(device.unit, False)),
                instrument=test.instrument, red=test.red, black=test.black, setup=setup_view(test.setup),
                shown="" if reading is None else reading_label(reading), decision=decision,
            )
        )  # fmt: skip
        if decision not in ("pass", "fail"):
            return ProcedureView(title=procedure.title, source=procedure.source, path=path, end="", end_unit="", agrees="")
        name = step.if_pass if decision == "pass" else step.if_fail
    words = name.text or (f"Replace or repair {unit_title(circuit, name.unit)}" if name.unit else "End of the procedure")
    share = float(belief.units()[belief.hypotheses.units.index(name.unit)]) if name.unit in belief.hypotheses.units else 0.0
    agrees = f"Sondar holds {unit_title(circuit, name.unit)} to be at fault with {share * 100:.0f} %." if name.unit else ""
    return ProcedureView(title=procedure.title, source=procedure.source, path=path, end=words, end_unit=name.unit, agrees=agrees)
