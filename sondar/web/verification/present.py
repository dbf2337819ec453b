"""Verification for the API, and the card for the road test; made in a worker."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from markupsafe import Markup

from sondar.app.verifying import RoadTest, Verified
from sondar.core.monitor_results import NEAR, MonitorResult
from sondar.web.common import SetupIn, TestIn
from sondar.web.report.present import as_pdf, font_faces, pages
from sondar.web.verification.models import (
    CodeProofView,
    CommandAgainView,
    FrameLine,
    MonitorResultView,
    MonitorsView,
    ReadingProofView,
    StandingView,
    VerificationView,
)


def road_test_pdf(found: RoadTest) -> bytes:
    """One page for the second person."""
    faces, fonts = font_faces()
    html = (
        pages(Path(__file__).parent)
        .get_template("road_test.html")
        .render(r=found, v=found.verified, faces=Markup(faces), fonts=Markup(fonts))
    )
    return as_pdf(html)


def verification_json(found: Verified) -> bytes:
    """As it is sent; made in a worker."""
    return verification_view(found).model_dump_json().encode()


def _result(one: MonitorResult) -> MonitorResultView:
    verdict: Literal["passed", "near its limit", "failed", "not run"] = (
        "not run" if not one.has_run else "failed" if not one.passed else "near its limit" if one.margin < NEAR else "passed"
    )
    figures = [f"{figure:.4g}" for figure in (one.value, one.least, one.most)]
    return MonitorResultView(
        title=one.title, value=f"{figures[0]} {one.unit}".strip(), limits=f"{figures[1]} to {figures[2]}", verdict=verdict
    )


def verification_view(found: Verified) -> VerificationView:
    """The verification for the API."""
    return VerificationView(
        standing=StandingView(outcome=found.standing.outcome, sentence=found.standing.sentence, left=list(found.standing.left)),
        repaired_at=found.repaired_at,
        readings=[
            ReadingProofView(
                diagnosis_id=item.diagnosis_id, circuit=item.circuit, label=item.label, expected=item.expected, before=item.before,
                now=item.now, passed=item.passed, said=item.said,
                test=TestIn(
                    instrument=item.test.instrument, red=item.test.red, black=item.test.black,
                    setup=SetupIn(controls=dict(item.test.setup.controls), unplugged=sorted(item.test.setup.unplugged)),
                ),
            )
            for item in found.readings
        ],
        codes=[
            CodeProofView(code=item.code, module=item.module, before=list(item.before), state=item.state, said=item.said)
            for item in found.codes
        ],
        cleared=found.cleared, conditions=found.conditions, run=found.run,
        commands=[CommandAgainView(**vars(item)) for item in found.commands],
        monitors=None if found.monitors is None else MonitorsView(**vars(found.monitors)),
        frame=[FrameLine(code=code, title=title, value=value) for code, title, value in found.frame],
        results=[_result(one) for one in found.results],
        clearing_warning=found.clearing_warning, watch=found.watch, cautions=found.cautions, interface=found.interface,
    )  # fmt: skip
