"""Live data and commands: what is offered, a run and how it goes, holding and stopping."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import commands
from sondar.app.command_runs import Step, WantedRun
from sondar.app.commands import Offered
from sondar.app.judging import WantedTest
from sondar.core.obd import FIGURES
from sondar.devices.commander import OBD
from sondar.store.commands import Run
from sondar.web.commands.models import (
    ChangeOut,
    CheckIn,
    CommandView,
    Counted,
    CoveredView,
    DataItemView,
    FoundIn,
    GoingQuery,
    GoingView,
    HeadOut,
    HoldIn,
    OfferedView,
    RoutineView,
    RunIn,
    RunPath,
    RunView,
    WatchedList,
    WatchedView,
)
from sondar.web.common import JobPath
from sondar.web.context import workspace
from sondar.web.problems import ProblemDetails

api = APIBlueprint(
    "commands", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="live data and commands")],
    abp_responses={
        "401": ProblemDetails, "403": ProblemDetails, "404": ProblemDetails, "409": ProblemDetails, "422": ProblemDetails, "502": ProblemDetails,
    },
)  # fmt: skip


def _run_view(found: Run) -> RunView:
    return RunView.model_validate(found.__dict__)


def _offered_view(found: Offered) -> OfferedView:
    document = found.document
    return OfferedView(
        reason=found.reason, running=None if found.running is None else _run_view(found.running),
        coverage=[CoveredView(**vars(one)) for one in found.coverage],
        described=document is not None and bool(document.data or document.commands),
        data=[
            *(
                DataItemView(id=name, title=item.title, module=item.module, unit=item.unit)
                for name, item in (document.data.items() if document is not None else ())
            ),
            *(
                DataItemView(id=f"{OBD}{number:02X}", title=FIGURES[number].title, module="OBD", unit=FIGURES[number].unit)
                for number in found.numbers if number in FIGURES
            ),
        ],
        routines=[] if document is None else [
            RoutineView(
                id=name, title=item.title, module=item.module, kind=item.kind, moves=item.moves, caution=item.caution,
                requires=", ".join(f"{control} {position}" for control, position in item.requires.items()),
                seconds=item.seconds, success=next(iter(item.results)),
            )
            for name, item in document.routines.items()
        ],
        commands=[] if document is None else [
            CommandView(
                id=name, title=item.title, module=item.module, control=item.control, positions=list(item.positions),
                moves=item.moves, caution=item.caution, hold=item.hold,
                requires=", ".join(f"{control} {position}" for control, position in item.requires.items()),
                locked_by=found.locked[name],
            )
            for name, item in document.commands.items()
        ],
    )  # fmt: skip


@api.get("/jobs/<uuid:job_id>/commands", responses={"200": OfferedView})
def show_offered(path: JobPath) -> Any:
    """What the job's vehicle offers to be recorded and commanded, and what its modules have done so far."""
    return _offered_view(commands.offered(workspace(), path.job_id)).model_dump(mode="json")


@api.post("/jobs/<uuid:job_id>/commands", responses={"201": RunView})
def start(path: JobPath, body: RunIn) -> Any:
    """Command something and record, or only record; one run at a time per vehicle."""
    steps = tuple(Step(step.position, step.seconds) for step in body.steps)
    wanted = WantedRun(body.client_key, body.command, steps, tuple(dict.fromkeys(body.channels)), body.seconds, body.routine)
    meter = None
    if body.meter is not None:
        test = WantedTest(body.meter.instrument, body.meter.red, body.meter.black, body.meter.controls, body.meter.unplugged)
        meter = commands.WantedMeter(body.meter.diagnosis_id, test)
    return _run_view(commands.start(workspace(), path.job_id, wanted, meter)).model_dump(mode="json"), 201


@api.get("/command-runs/<uuid:run_id>", responses={"200": GoingView})
def show_run(path: RunPath, query: GoingQuery) -> Any:
    """How a run goes, with what was recorded since the last look."""
    found = commands.going(workspace(), path.run_id, query.first)
    return GoingView(
        run=_run_view(found.run), channels=[HeadOut(name=name, unit=unit) for name, unit in found.heads], t=found.t, rows=found.rows,
        lane=[ChangeOut(at_s=at, position=word) for at, word in found.lane], next_piece=found.next_piece,
    ).model_dump(mode="json")  # fmt: skip


@api.post("/command-runs/<uuid:run_id>/hold", responses={"200": RunView})
def hold(path: RunPath, body: HoldIn) -> Any:
    """The page that gave the command is still there, and whether a finger holds it."""
    return _run_view(commands.hold(workspace(), path.run_id, body.number, body.held)).model_dump(mode="json")


@api.post("/command-runs/<uuid:run_id>/stop", responses={"200": RunView})
def stop(path: RunPath) -> Any:
    """Give control back and end the run."""
    return _run_view(commands.stop(workspace(), path.run_id)).model_dump(mode="json")


@api.post("/command-runs/<uuid:run_id>/found", responses={"200": RunView})
def noticed(path: RunPath, body: FoundIn) -> Any:
    """Keep what a person noticed that a command did."""
    return _run_view(commands.noticed(workspace(), path.run_id, body.found)).model_dump(mode="json")


@api.get("/command-runs/<uuid:run_id>/parts", responses={"200": WatchedList})
def show_watched(path: RunPath) -> Any:
    """Parts that answer the command, in the circuits of its job that are being tested."""
    found = commands.watched(workspace(), path.run_id)
    return WatchedList(parts=[WatchedView(**vars(one)) for one in found]).model_dump(mode="json")


@api.post("/command-runs/<uuid:run_id>/reading", responses={"201": Counted, "200": Counted})
def count_as_check(path: RunPath, body: CheckIn) -> Any:
    """Record what was noticed as a functional check of a part."""
    added = commands.count_as_check(workspace(), path.run_id, body.client_key, body.diagnosis_id, body.part)
    return Counted(diagnosis_id=body.diagnosis_id, added=added).model_dump(mode="json"), 201 if added else 200
