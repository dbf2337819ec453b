"""One cause or several, and which circuit to test first."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.circuit_files import library_circuits
from sondar.core.diagnosis.belief import starting_prior, update
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.triage.answer import triage
from sondar.core.triage.evidence import Evidence, SeenCode
from sondar.core.triage.model import TriageModel, symptom_menu, triage_prior
from sondar.core.triage.prior_factors import Answers
from tests.conftest import circuit_of


def codes(module: str, *names: str, weight: float = 1.0) -> tuple[SeenCode, ...]:
    return tuple(SeenCode(module, name, weight) for name in names)


def test_five_codes_with_one_common_ground(tern: TriageModel) -> None:
    seen = (*codes("BCM", "B1D10", "B1D11", "U0157"), *codes("ECM", "P0299", "P0116", weight=0.5))
    view = triage(tern, Evidence(seen))
    first = view.candidates[0]
    assert first.id == "shared:G7"
    assert first.probability > 0.8
    assert {link.code for link in first.explains} == {"B1D10", "B1D11", "U0157"}
    assert view.one_share > view.several_share
    assert "Rear ground" in view.sentence


def test_the_code_that_did_not_set_speaks_too(tern: TriageModel) -> None:
    """One lamp's code alone is not the shared ground: the other lamp and the trailer module would have told."""
    view = triage(tern, Evidence(codes("BCM", "B1D10"), read=frozenset({"BCM", "ECM", "TSM"})))
    assert view.candidates[0].id == "circuit:tern-tail-lamps"
    ground = next((c for c in view.candidates if c.id == "shared:G7"), None)
    assert ground is None or ground.probability < 0.05
    unread = tern.posterior(Evidence(codes("BCM", "B1D10")))
    read = tern.posterior(Evidence(codes("BCM", "B1D10"), read=frozenset({"BCM", "ECM", "TSM"})))
    rows = [i for i, s in enumerate(tern.sections) if s.id == "shared:G7"]
    assert unread.fault[rows].sum() >= read.fault[rows].sum()


def test_two_unrelated_codes_are_two_causes(tern: TriageModel) -> None:
    view = triage(tern, Evidence((*codes("ECM", "P2122"), *codes("BCM", "B1D10")), read=frozenset({"BCM", "ECM", "TSM"})))
    assert view.several_share > view.one_share
    assert {c.id for c in view.candidates[:2]} == {"circuit:tern-accelerator", "circuit:tern-tail-lamps"}
    assert view.sentence.startswith("More than one cause")


def test_a_silent_module_is_evidence(tern: TriageModel) -> None:
    view = triage(tern, Evidence(codes("BCM", "U0100"), read=frozenset({"BCM", "TSM"}), silent=frozenset({"ECM"})))
    assert view.candidates[0].silences == ["ECM"]
    assert {c.id for c in view.candidates[:2]} == {"circuit:tern-modules-and-bus", "shared:G2"}


def test_followers_are_not_chased(tern: TriageModel) -> None:
    """Rail pressure too low in the wake of the sensor's own code: one cause, and both count as explained."""
    view = triage(tern, Evidence(codes("ECM", "P0192", "P0087"), read=frozenset({"ECM", "BCM", "TSM"})))
    assert view.candidates[0].id == "circuit:tern-rail-pressure"
    assert {(link.code, link.follows) for link in view.candidates[0].explains} == {("P0192", False), ("P0087", True)}
    assert view.one_share > 0.7


def test_symptoms_alone_are_enough_to_begin(tern: TriageModel) -> None:
    view = triage(tern, Evidence(symptoms=frozenset({"washer-dead"})))
    assert view.candidates[0].id == "circuit:tern-washer-pump"
    both = triage(tern, Evidence(symptoms=frozenset({"fan-silent", "screen-cold"})))
    assert both.candidates[0].id == "shared:F7", "two dead consumers with one fuse between them"
    menu = symptom_menu(tern.vehicle)
    assert menu["fan-silent"] == ("Radiator fan never runs", ["radiator-fan-relay"])


def test_nothing_known_is_said(tern: TriageModel) -> None:
    assert Evidence().is_empty
    assert triage(tern, Evidence()).sentence.startswith("Nothing to go by yet")


def test_codes_of_other_vehicles_are_listed_as_unexplained(tern: TriageModel) -> None:
    assert triage(tern, Evidence(codes("ECM", "P0480", "P1FFF"))).unexplained == ["P1FFF"]


def test_history_weighs_less_than_a_code_that_fails_now(tern: TriageModel) -> None:
    def share(weight: float) -> float:
        found = tern.posterior(Evidence((*codes("ECM", "P0480"), SeenCode("ECM", "P2122", weight))))
        rows = [i for i, s in enumerate(tern.sections) if s.id == "circuit:tern-accelerator"]
        return float(found.fault[rows].sum())

    assert share(1.0) > 2 * share(0.3)


def test_probabilities_are_probabilities(lisk: TriageModel) -> None:
    found = lisk.posterior(Evidence(codes("ECM", "P0122", "P0532"), read=frozenset({"ECM", "BCM"})))
    assert found.count.sum() == pytest.approx(1.0)
    assert (found.fault >= 0).all()
    assert (found.fault <= 1 + 1e-9).all()
    expected = float(found.count @ np.arange(4))
    assert found.fault.sum() == pytest.approx(expected, rel=0.12), "marginals count the causes, two alike as one"


def test_the_splitting_check_tells_the_candidates_apart(tern: TriageModel) -> None:
    split = triage(tern, Evidence(codes("BCM", "U0100"), read=frozenset({"BCM"}), silent=frozenset({"ECM"}))).split
    assert split is not None
    doubt = 1.0 - split.certainty_now
    assert 1.0 - split.certainty_after < 0.85 * doubt, "it takes away at least a seventh of the doubt"
    assert sum(o.probability for o in split.outcomes) == pytest.approx(1.0, abs=0.05)
    assert len({o.points_to for o in split.outcomes}) > 1
    assert tern.circuit.point(split.point).when == "any", "nothing has to be disconnected for it"


def test_recent_work_moves_suspicion_to_its_neighbours(tern: TriageModel) -> None:
    rows = [i for i, (fault, _) in enumerate(tern.listed) if fault.part in ("W41", "X44.2", "X44.1")]
    seen = codes("ECM", "P2122")
    before = tern.posterior(Evidence(seen)).fault[rows].sum()
    after = tern.posterior(Evidence(seen, answers=Answers(recent_work=frozenset({"B44"})))).fault[rows].sum()
    assert after > before


def test_the_bench_begins_where_the_triage_ended(tern: TriageModel) -> None:
    found = tern.posterior(Evidence(codes("BCM", "B1D10", "B1D11", "U0157")))
    weights = triage_prior(tern, found, "tern-tail-lamps")
    predictor = Predictor(circuit_of(library_circuits()["tern-tail-lamps"]))
    prior = starting_prior(predictor.hypotheses, weights, {})
    assert prior.sum() == pytest.approx(1.0)
    units = dict(zip(predictor.hypotheses.units, update(predictor, [], prior).units(), strict=True))
    assert units["W66"] + units["G7"] > 0.7
    plain = dict(zip(predictor.hypotheses.units, update(predictor, []).units(), strict=True))
    assert units["W66"] > 3 * plain["W66"]
    assert units["unknown"] == pytest.approx(plain["unknown"], rel=0.2)
