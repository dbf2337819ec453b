"""The lists that screens choose from, served once: stages, conditions, surroundings, instruments, roles, and the glossary."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from flask_openapi3 import APIBlueprint, Tag

from sondar.app import answer_fields
from sondar.app.job_record import RUN_CONDITIONS
from sondar.circuit_files import glossary
from sondar.core.diagnosis.base_rates import GROUP_REASONS, GROUP_SHARES
from sondar.core.instruments import INSTRUMENTS, OTHER_TOOLS
from sondar.core.limits.document import SOURCES
from sondar.core.present.tests import instrument_view
from sondar.core.triage.prior_factors import CONDITIONS, ENVIRONMENTS
from sondar.core.wording.switching_on import STARTINGS
from sondar.store.jobs import STAGES
from sondar.web.lists.models import Choice, GroupChoice, Lists, RepairWords, Term
from sondar.web.people.models import ROLES
from sondar.web.problems import ProblemDetails

api = APIBlueprint("lists", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="lists")], abp_responses={"401": ProblemDetails})


@lru_cache(maxsize=1)
def _lists() -> Lists:
    return Lists(
        stages=list(STAGES),
        conditions=[Choice(key=key, title=title) for key, title in CONDITIONS.items()],
        environments=[Choice(key=key, title=title) for key, title in ENVIRONMENTS.items()],
        startings=[Choice(key=key, title=title) for key, title in STARTINGS.items()],
        run_conditions=list(RUN_CONDITIONS),
        instruments=[instrument_view(device) for device in INSTRUMENTS.values()],
        other_tools=[Choice(key=key, title=title) for key, title in OTHER_TOOLS.items()],
        groups=[
            GroupChoice(key=key, percent=round(100.0 * share, 1), reason=GROUP_REASONS[key]) for key, share in GROUP_SHARES.items()
        ],
        roles=[Choice(key=key, title=title) for key, title in ROLES.items()],
        repair=RepairWords(
            part_conditions=list(answer_fields.PART_CONDITIONS),
            part_checked=list(answer_fields.PART_CHECKED),
            harness_methods=list(answer_fields.HARNESS_METHODS),
            wear=list(answer_fields.WEAR),
            compared=list(answer_fields.COMPARED),
            bypass_states=list(answer_fields.BYPASS_STATES),
        ),
        sources=[Choice(key=key, title=title) for key, title in SOURCES.items()],
        glossary=[Term.model_validate(item) for item in glossary()],
    )


@api.get("/lists", responses={"200": Lists})
def show_lists() -> Any:
    """Every list that is chosen from."""
    return _lists().model_dump(mode="json")
