"""The order of tests on tables: against brute force, against bounds, and where it must give up."""

from __future__ import annotations

import itertools
import json
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from sondar.cli import main
from sondar.core.diagnosis.sequencing import Node, Table, huffman_cost, read_table, sequence
from sondar.core.errors import PlanTableError


def table(p: list[float], rows: list[str], costs: list[float] | None = None) -> Table:
    """States with one row of test results each, ``1`` for a fail."""
    tests = [
        {
            "id": f"t{j}",
            "cost": 1.0 if costs is None else costs[j],
            "p_fail": {f"s{i}": 1.0 for i, row in enumerate(rows) if row[j] == "1"},
        }
        for j in range(len(rows[0]))
    ]
    return read_table({"states": [{"id": f"s{i}", "p": x} for i, x in enumerate(p)], "tests": tests})


def brute_force(p: list[float], rows: list[str], costs: list[float], left: frozenset[int]) -> float:
    """Expected cost (times the mass that is left) by trying every test at every step; no bounds, no memory."""
    best = np.inf
    for j, cost in enumerate(costs):
        failed = frozenset(i for i in left if rows[i][j] == "1")
        if failed and failed != left:
            total = (
                cost * sum(p[i] for i in left) + brute_force(p, rows, costs, failed) + brute_force(p, rows, costs, left - failed)
            )
            best = min(best, total)
    return 0.0 if best == np.inf else best


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_the_optimum_is_what_brute_force_finds(data: st.DataObject) -> None:
    states, tests = data.draw(st.integers(1, 6)), data.draw(st.integers(0, 5))
    rows = [data.draw(st.text("01", min_size=tests, max_size=tests)) for _ in range(states)]
    raw = data.draw(st.lists(st.floats(0.01, 1.0), min_size=states, max_size=states))
    p = [x / sum(raw) for x in raw]
    costs = data.draw(st.lists(st.floats(0.1, 9.0), min_size=tests, max_size=tests))
    problem = (
        table(p, rows, costs) if tests else read_table({"states": [{"id": f"s{i}", "p": x} for i, x in enumerate(p)], "tests": []})
    )
    least = brute_force(p, rows, costs, frozenset(range(states)))
    found = sequence(problem)
    assert found.exact
    assert found.expected_cost == pytest.approx(least, abs=1e-9)
    for policy in ("sondar", "order"):
        other = sequence(problem, policy)  # type: ignore[arg-type]
        assert other.expected_cost >= least - 1e-9
        assert other.exact == (other.expected_cost <= least + 1e-9)


def test_a_tree_of_every_two_way_test_reaches_the_huffman_bound() -> None:
    p = [0.4, 0.3, 0.2, 0.1]
    subsets = [s for size in range(1, 4) for s in itertools.combinations(range(4), size)]
    rows = ["".join("1" if i in s else "0" for s in subsets) for i in range(4)]
    assert sequence(table(p, rows)).expected_cost == pytest.approx(huffman_cost(np.array(p))) == pytest.approx(1.9)


def test_what_no_test_can_tell_apart_stays_together() -> None:
    found = sequence(table([0.5, 0.3, 0.2], ["0", "1", "1"]))
    assert found.expected_cost == 1.0
    assert found.tree.failed is not None
    assert [name for name, _ in found.tree.failed.remaining] == ["s1", "s2"]
    assert found.tree.failed.remaining[0][1] == pytest.approx(0.6)


def leaves(node: Node) -> list[Node]:
    if node.passed is None or node.failed is None:
        return [node]
    return leaves(node.passed) + leaves(node.failed)


def test_uncertain_tests_go_on_until_one_state_is_likely_enough() -> None:
    sure = {"states": [{"id": "a", "p": 0.5}, {"id": "b", "p": 0.5}], "tests": [
        {"id": f"t{j}", "cost": 1.0, "p_fail": {"a": 0.1, "b": 0.9}} for j in range(4)]}  # fmt: skip
    found = sequence(read_table(sure))
    # One result gives 0.9; a second that agrees 0.988, one that disagrees 0.5 again.
    assert found.exact
    assert found.expected_cost == pytest.approx(1 + 1 + 0.18 * (1 + 1))
    assert all(leaf.remaining[0][1] >= 0.95 or abs(leaf.remaining[0][1] - 0.5) < 1e-9 for leaf in leaves(found.tree))
    eager = sequence(read_table({**sure, "certainty": 0.9}))
    assert eager.expected_cost == pytest.approx(1.0)


def test_sondars_order_is_near_the_optimum() -> None:
    rng = np.random.default_rng(5)
    ratios = []
    for _ in range(25):
        p = rng.dirichlet(np.full(9, 0.6)).tolist()
        rows = ["".join(rng.choice(["0", "1"], 11)) for _ in range(9)]
        problem = table(p, rows, rng.uniform(0.5, 5.0, 11).tolist())
        ratios.append(sequence(problem, "sondar").expected_cost / sequence(problem).expected_cost)
    assert np.mean(ratios) < 1.05, "the aim; measured about 1.01"
    assert max(ratios) < 1.3


def test_where_the_optimum_is_out_of_reach_it_says_so() -> None:
    rng = np.random.default_rng(1)
    rows = ["".join(rng.choice(["0", "1"], 40)) for _ in range(60)]
    problem = table(rng.dirichlet(np.ones(60)).tolist(), rows)
    found = sequence(problem, budget=500)
    assert (found.policy, found.exact) == ("optimal", False)
    assert found.expected_cost == sequence(problem, "sondar", budget=500).expected_cost
    bound = huffman_cost(np.array([s.p for s in problem.states]))
    assert bound <= found.expected_cost < 1.1 * bound


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        ({"states": [], "tests": []}, "states"),
        ({"states": [{"id": "a", "p": 0.0}], "tests": []}, "all 0"),
        ({"states": [{"id": "a", "p": 0.5}, {"id": "a", "p": 0.5}], "tests": []}, "'a' is there twice"),
        ({"states": [{"id": "a", "p": 1}], "tests": [{"id": "t", "cost": 1, "p_fail": {"a": 1.2}}]}, "tests.0.p_fail.a"),
        ({"states": [{"id": "a", "p": float("nan")}], "tests": []}, "states.0.p"),
        ([], "table"),
    ],
)
def test_a_wrong_table_is_explained(wrong: object, said: str) -> None:
    with pytest.raises(PlanTableError, match=said):
        read_table(json.loads(json.dumps(wrong)))


def test_five_hundred_states_one_after_the_other(tmp_path: Path) -> None:
    chain = {
        "states": [{"id": f"s{i}", "p": 1} for i in range(500)],
        "tests": [{"id": f"t{i}", "cost": 1, "p_fail": {f"s{i}": 1}} for i in range(499)],
    }
    file = tmp_path / "chain.json"
    file.write_text(json.dumps(chain))
    result = CliRunner().invoke(main, ["plan", str(file), "--policy", "order", "--json"])
    assert result.exit_code == 0, result.output[-300:]
    assert json.loads(result.output)["expected_cost"] == pytest.approx(sum(range(1, 500)) / 500 + 499 / 500)


def test_a_tree_beyond_use_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("sondar.core.diagnosis.sequencing.TREE_LIMIT", 2_000)
    vague = {"states": [{"id": "a", "p": 1}, {"id": "b", "p": 1}], "tests": [
        {"id": f"t{i}", "cost": 1, "p_fail": {"a": 0.49 - i / 1000, "b": 0.51}} for i in range(40)]}  # fmt: skip
    with pytest.raises(PlanTableError, match="more than 2000 nodes"):
        sequence(read_table(vague), "order", budget=10)
