"""What a published figure is worth before anybody has looked it up, and what it does once somebody has."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from sondar.code_library import circuit_templates
from sondar.core.circuit.document.checks import read_document
from sondar.core.circuit.network import Circuit
from sondar.core.describing.templates import circuit_document
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation, loss_matrix
from sondar.core.diagnosis.judge import Judgement, judge
from sondar.core.diagnosis.look_ups import PUBLISHED_TO, LookUp, figure_name, look_ups, put_off
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.instruments import ORDINARY
from sondar.core.instruments.base import Test
from sondar.core.instruments.reading import Reading


def valve(coil: str = "") -> Predictor:
    """A valve that nobody has described, or with its coil's published figure."""
    data = circuit_document(circuit_templates()["solenoid-low-side"], {"make": "Brigg"})
    if coil:
        data["parts"]["Y"]["coil_ohm"] = coil
    return Predictor(Circuit(read_document(data)), instruments=tuple(ORDINARY))


@pytest.fixture(scope="module")
def unknown() -> Predictor:
    return valve()


def coil_reads(predictor: Predictor, ohms: float, **more: object) -> Judgement:
    setup = predictor.circuit.setup({}, frozenset({"X2"}))
    reading = Reading("1", Test("ohmmeter", "X2.1/c", "X2.2/c", setup), ohms, None, 0.05)
    return judge(predictor, [reading], replace(Situation(setup), **more))


def test_a_coil_at_the_end_of_what_is_typical_is_looked_up(unknown: Predictor) -> None:
    low, middle = coil_reads(unknown, 3.0), coil_reads(unknown, 25.0)
    [figure] = low.look_ups
    assert (figure.part, figure.field) == ("Y", "coil_ohm")
    assert figure.saving_min > 5.0 * figure.minutes
    assert 2.5 < figure.low < 4.0, "a good coil would have what was read"
    assert figure.high > 20.0, "one with shorted turns much more"
    assert not middle.look_ups, "in the middle of the range the figure would say nothing that matters"


def test_what_is_found_decides(unknown: Predictor) -> None:
    before = coil_reads(unknown, 3.0).belief
    share = before.units()[before.hypotheses.units.index("Y")]
    for published, accused in (("28 to 32", True), ("2.9 to 3.2", False)):
        found = coil_reads(valve(published), 3.0).belief
        now = found.units()[found.hypotheses.units.index("Y")]
        assert now > 0.85 if accused else now < 0.3 * share, (published, now)


def test_a_figure_that_is_published_nowhere_is_not_proposed_again(unknown: Predictor) -> None:
    assert not coil_reads(unknown, 3.0, not_found=frozenset({figure_name("Y", "coil_ohm")})).look_ups


def test_nothing_is_looked_up_where_every_figure_is_known(fan_predictor: Predictor) -> None:
    belief = update(fan_predictor, [])
    assert look_ups(fan_predictor, belief, Situation(fan_predictor.circuit.rest_setup())) == ()


def test_its_worth_is_that_of_many_figures_drawn_one_by_one(unknown: Predictor) -> None:
    """The same without steps: a figure is drawn, belief follows it by its density, the loss left is averaged."""
    judged = coil_reads(unknown, 3.0)
    belief, doubt = judged.belief, unknown.circuit.doubts["Y: coil_ohm"][2]
    row = np.zeros((1, len(unknown.parameters.names)))
    row[0, unknown.parameters.index("Y: coil_ohm")] = 1.0
    mean, variance = belief.filters[0].along(row)
    assert len(belief.filters) == 1, "this circuit knows no temperatures"
    means, sds = np.append(mean[:, 0], 0.0), np.sqrt(np.append(variance[:, 0], 1.0) + (PUBLISHED_TO / doubt) ** 2)
    loss, member = loss_matrix(unknown.circuit, belief.hypotheses), belief.hypotheses.member
    rng, left = np.random.default_rng(3), []
    for which in rng.choice(len(means), 4000, p=belief.now / belief.now.sum()):
        at = rng.normal(means[which], sds[which])
        weights = belief.now * np.exp(-0.5 * ((at - means) / sds) ** 2) / sds
        units = weights @ member / weights.sum()
        left.append(units @ loss @ units)
    units = belief.units()
    drawn, spread = float(units @ loss @ units) - np.mean(left), np.std(left) / np.sqrt(len(left))
    assert judged.look_ups[0].saving_min == pytest.approx(drawn, abs=4.0 * spread + 0.05 * drawn)


def test_a_call_waits_for_a_figure_that_is_worth_it(unknown: Predictor) -> None:
    certain = replace(coil_reads(unknown, 3.0).ranking, settled=True, reason="certain")
    worth, not_worth = (LookUp("Y", "coil_ohm", minutes, 3.0, 50.0) for minutes in (9.0, 2.0))
    assert put_off(certain, (worth,)).reason == "look up"
    assert not put_off(certain, (worth,)).settled
    assert put_off(certain, (not_worth,)) == certain
    assert put_off(certain, ()) == certain
