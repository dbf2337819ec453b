"""How often what fails, before anything is known."""

from __future__ import annotations

import numpy as np
import pytest

from sondar.circuit_files import library_circuits, load_circuit_text
from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.base_rates import GROUP_SHARES, base_rates
from sondar.core.diagnosis.belief import starting_prior
from sondar.core.diagnosis.hypotheses import build_hypotheses
from sondar.core.triage.prior_factors import Answers, fault_factors, reasons


def shares(circuit: Circuit) -> dict[str, float]:
    faults = list(circuit.faults.values())
    rates = base_rates(circuit, faults, [1.0] * len(faults))
    return {group: float(rates[[f.group == group for f in faults]].sum()) for group in GROUP_SHARES}


@pytest.mark.parametrize("name", ["radiator-fan-relay", "tern-tail-lamps", "lisk-modules-and-bus"])
def test_a_group_has_its_share_however_many_wires_are_drawn(name: str) -> None:
    found = shares(Circuit(load_circuit_text(library_circuits()[name])))
    assert sum(found.values()) == pytest.approx(1.0)
    there = {group for group, share in found.items() if share > 0}
    total = sum(GROUP_SHARES[group] for group in there)
    for group in there:
        assert found[group] == pytest.approx(GROUP_SHARES[group] / total), group


def test_bulbs_lead_where_lamps_are_dark() -> None:
    lamps = Circuit(load_circuit_text(library_circuits()["tern-tail-lamps"]))
    hypotheses = build_hypotheses(lamps)
    units = dict(zip(hypotheses.units, hypotheses.prior @ hypotheses.member, strict=True))
    assert sorted(units, key=lambda u: -units[u])[:2] == ["H1", "H2"]
    assert 0.2 < units["H1"] + units["H2"] < 0.5


def test_longer_and_exposed_wires_fail_more_often(fan: Circuit) -> None:
    wire = fan.document.wires["W8"]
    longer = wire.model_copy(update={"length_m": 3.6}).faults("W8")[0].rate
    wet = wire.model_copy(update={"exposed": True}).faults("W8")[0].rate
    rate = wire.faults("W8")[0].rate
    assert rate < longer < 2 * rate, "its ends do not multiply with its length"
    assert wet == pytest.approx(3 * rate)


def test_a_workshop_may_know_better(fan: Circuit) -> None:
    own = Answers(group_shares={"wiring": 20, "component": 60, "module": 5, "system": 10, "setting": 5})
    hypotheses = build_hypotheses(fan)
    prior = starting_prior(hypotheses, {}, fault_factors(fan, own))
    wiring = np.array([s.group == "wiring" for s in hypotheses.suspects])
    component = np.array([s.group == "component" for s in hypotheses.suspects])
    assert prior[component].sum() / prior[wiring].sum() == pytest.approx(3.0)
    assert "the workshop's own figures for what fails" in reasons(fan, own)


def test_recent_work_on_a_part_raises_it(fan: Circuit) -> None:
    hypotheses = build_hypotheses(fan)
    before = hypotheses.prior @ hypotheses.member
    after = starting_prior(hypotheses, {}, fault_factors(fan, Answers(recent_work=frozenset({"M5"})))) @ hypotheses.member
    row = hypotheses.units.index("M5")
    assert after[row] > 1.2 * before[row]
