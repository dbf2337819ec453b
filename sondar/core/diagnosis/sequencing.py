"""The order of tests from a fault–test table: the optimum where it can be computed, Sondar's own order, the given order.

A table says for every state (one of them is what is wrong) how likely it is, and for every test its cost and how likely it
fails in each state. A policy is a tree of tests that tells the states apart as far as the tests can; its expected cost is
the sum over the states of probability times the costs on the way. A test used once tells nothing more if it is repeated.
Where tests are uncertain (p_fail neither 0 nor 1) it goes on until one state is likely enough or no test is left.

Optimum: dynamic programming over what is left (the AND/OR formulation of Pattipati and Alexandridis, *Application of
heuristic search and information theory to sequential fault diagnosis*, IEEE Trans. SMC 20, 1990), with each branch cut off by a
lower bound. Bound: n tests of cost c tell at most 2ⁿ states apart, so no policy is cheaper than a Huffman tree (Huffman,
1952) whose every step costs the cheapest useful test. Sondar's order: fall of Σ pᵢ(1 − pᵢ) per cost, and on tables small
enough the best few such tests are each followed to the end with that rule and compared (rollout: Tu and Pattipati,
*Rollout strategies for sequential fault diagnosis*, IEEE Trans. SMC-A 33, 2003).
"""

from __future__ import annotations

import contextlib
import heapq
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal, Self

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from sondar.core.errors import FieldProblem, PlanTableError

Array = npt.NDArray[np.float64]
Policy = Literal["optimal", "sondar", "order"]

GONE = 1e-12
"""Share of what is left below which a state is out."""
BUDGET = 200_000
"""Subproblems after which the optimum is given up; some ten seconds."""
BUDGET_BESIDE = 20_000
"""The same when another policy is asked for and the optimum only tells whether that one is as cheap."""
LARGEST_BESIDE = 10_000
"""States × tests above which that is not even tried: one bound of such a table takes seconds."""
UNCERTAIN_SHARE = 0.1
"""Share of the budget for uncertain tests: their subproblems have no bound but a test's own cost, and are dearer each."""
TREE_LIMIT = 50_000
"""Nodes of a tree that a person or a program could still use."""
ROLLOUT_STATES, ROLLOUT_CHOICES = 40, 6


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


Share = Annotated[float, Field(ge=0.0, le=1.0)]


class State(_Strict):
    """Something that may be wrong, or nothing."""

    id: str = Field(min_length=1)
    p: float = Field(ge=0.0, allow_inf_nan=False, description="Probability; the states' sum is taken as 1.")


class TableTest(_Strict):
    """A test: what it costs, and how likely it fails in each state (0 where none is given)."""

    id: str = Field(min_length=1)
    cost: float = Field(gt=0.0, allow_inf_nan=False)
    p_fail: dict[str, Share] = Field(default_factory=dict)


class Table(_Strict):
    """A fault–test table."""

    states: list[State] = Field(min_length=1, max_length=500)
    tests: list[TableTest] = Field(max_length=500)
    certainty: float | None = Field(
        None, gt=0.5, le=1.0, description="Stop when one state is this likely; 1 if left out, 0.95 if a test is uncertain."
    )

    @model_validator(mode="after")
    def _names_agree(self) -> Self:
        for what, ids in (("state", [s.id for s in self.states]), ("test", [t.id for t in self.tests])):
            twice = sorted({i for i in ids if ids.count(i) > 1})
            if twice:
                raise ValueError(f"{what} '{twice[0]}' is there twice")
        known = {s.id for s in self.states}
        for test in self.tests:
            strange = sorted(set(test.p_fail) - known)
            if strange:
                raise ValueError(f"test '{test.id}': p_fail names '{strange[0]}', which is no state")
        if sum(s.p for s in self.states) <= 0.0:
            raise ValueError("the states' probabilities are all 0")
        return self


def read_table(value: Any) -> Table:
    """A table from parsed JSON.

    Raises:
        PlanTableError: with the place and reason of everything that is wrong.
    """
    try:
        return Table.model_validate(value)
    except ValidationError as error:
        problems = [FieldProblem(tuple(e["loc"]), e["msg"].removeprefix("Value error, ")) for e in error.errors()]
        raise PlanTableError(problems) from error


@dataclass(frozen=True)
class Node:
    """Part of a policy: a test with what follows either outcome, or a leaf with the states that remain.

    Attributes:
        cost: expected cost from here on, given that this node is reached.
        remaining: (state, probability) given that this node is reached, likeliest first.
    """

    test: str | None
    cost: float
    remaining: tuple[tuple[str, float], ...]
    passed: Node | None = None
    failed: Node | None = None

    def as_json(self) -> dict[str, Any]:
        """``{"test", "expected_cost", "pass", "fail"}``, or ``{"states": [{"id", "p"}]}`` for a leaf."""
        if self.test is None or self.passed is None or self.failed is None:
            return {"states": [{"id": name, "p": p} for name, p in self.remaining]}
        return {"test": self.test, "expected_cost": self.cost, "pass": self.passed.as_json(), "fail": self.failed.as_json()}


@dataclass(frozen=True)
class Sequence:
    """A policy and its expected cost; ``exact``: no policy is cheaper, and that is proven."""

    policy: Policy
    expected_cost: float
    exact: bool
    tree: Node

    def as_json(self) -> dict[str, Any]:
        """Ready for JSON."""
        return {"policy": self.policy, "expected_cost": self.expected_cost, "exact": self.exact, "tree": self.tree.as_json()}


class TooLargeError(Exception):
    """The optimum would need more subproblems than allowed."""


def sequence(table: Table, policy: Policy = "optimal", budget: int | None = None) -> Sequence:
    """The tree of a policy.

    The optimum falls back to Sondar's order, with ``exact`` false, where it would need more than ``budget`` subproblems.

    Raises:
        PlanTableError: the tree would have more than ``TREE_LIMIT`` nodes.
    """
    problem = SequencingProblem(table, budget or (BUDGET if policy == "optimal" else BUDGET_BESIDE))
    start = problem.prior / problem.prior.sum()
    best = None
    if policy == "optimal" or len(table.states) * len(table.tests) <= LARGEST_BESIDE:
        with contextlib.suppress(TooLargeError):
            best = problem.optimum(start)
    if policy == "optimal" and best is not None:
        return Sequence(policy, best, True, problem.tree(start, problem.optimal_choice))
    choice = problem.first_in_order if policy == "order" else problem.sondar_choice
    tree = problem.tree(start, choice)
    return Sequence(policy, tree.cost, best is not None and tree.cost <= best * (1 + 1e-12) + 1e-12, tree)


def huffman_cost(weights: Array, step_cost: float = 1.0) -> float:
    """Least expected cost of telling states apart by two-way steps of equal cost (Huffman, 1952); weights need not sum to 1."""
    heap = [float(w) for w in weights if w > 0.0]
    heapq.heapify(heap)
    total = 0.0
    while len(heap) > 1:
        pair = heapq.heappop(heap) + heapq.heappop(heap)
        total += pair
        heapq.heappush(heap, pair)
    return total * step_cost


@dataclass
class SequencingProblem:
    """A table as arrays. A *situation* is the vector (N,) of the joint weights that are left; it sums to 1."""

    table: Table
    budget: int
    used_up: int = 0
    nodes: int = 0
    _memo: dict[tuple[Any, ...], tuple[float, int]] = field(default_factory=dict)
    _base: dict[tuple[Any, ...], float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.names = [s.id for s in self.table.states]
        self.prior: Array = np.array([s.p for s in self.table.states])
        self.cost: Array = np.array([t.cost for t in self.table.tests])
        self.fail: Array = np.array([[t.p_fail.get(name, 0.0) for name in self.names] for t in self.table.tests]).reshape(
            len(self.table.tests), len(self.names)
        )
        self.certain = bool(np.isin(self.fail, (0.0, 1.0)).all())
        if not self.certain:
            self.budget = max(1, int(self.budget * UNCERTAIN_SHARE))
        self.enough = self.table.certainty or (1.0 if self.certain else 0.95)

    def useful(self, left: Array, used: frozenset[int]) -> npt.NDArray[np.intp]:
        """Tests not used yet whose result depends on which of the remaining states it is."""
        here = left > GONE
        if here.sum() < 2 or left.max() >= self.enough - 1e-12:
            return np.empty(0, dtype=np.intp)
        shares = self.fail[:, here]
        telling = shares.max(axis=1, initial=0.0) - shares.min(axis=1, initial=1.0) > 1e-9
        telling[list(used)] = False
        return np.flatnonzero(telling)

    def after(self, left: Array, test: int) -> tuple[tuple[float, Array], tuple[float, Array]]:
        """(probability, situation) for passed and failed."""
        failed = left * self.fail[test]
        passed = left - failed
        found = []
        for part in (passed, failed):
            total = float(part.sum())
            share = part / total if total > 0.0 else part
            found.append((total, np.where(share > GONE, share, 0.0)))
        return found[0], found[1]

    def _key(self, left: Array, used: frozenset[int]) -> tuple[Any, ...]:
        # With certain tests the states that are left say everything: those used up no longer divide them.
        if self.certain:
            return tuple(np.flatnonzero(left > 0.0).tolist())
        return (used, np.round(left, 12).tobytes())

    # -- the optimum ---------------------------------------------------------------------------------

    def optimum(self, left: Array, used: frozenset[int] = frozenset()) -> float:
        """Least expected cost from here.

        Raises:
            TooLargeError: more than ``budget`` subproblems.
        """
        key = self._key(left, used)
        if key in self._memo:
            return self._memo[key][0]
        self.used_up += 1
        if self.used_up > self.budget:
            raise TooLargeError
        tests = self.useful(left, used)
        if not tests.size:
            self._memo[key] = (0.0, -1)
            return 0.0
        best, chosen = np.inf, -1
        for bound, test in sorted((self._bound_through(left, int(t)), int(t)) for t in tests):
            if bound >= best - 1e-12:
                break
            total = float(self.cost[test])
            for chance, part in self.after(left, test):
                if chance > 0.0:
                    total += chance * self.optimum(part, used | {test})
                if total >= best:
                    break
            if total < best:
                best, chosen = total, test
        self._memo[key] = (best, chosen)
        return best

    def _bound_through(self, left: Array, test: int) -> float:
        """No policy that begins with this test costs less."""
        total = float(self.cost[test])
        if not self.certain or self.enough < 1.0:  # a Huffman tree does not allow for stopping with several states left
            return total
        for chance, part in self.after(left, test):
            total += chance * self._bound(part)
        return total

    def _bound(self, left: Array) -> float:
        """Huffman over groups of states that no useful test divides, at the cost of the cheapest useful test."""
        tests = self.useful(left, frozenset())
        if not tests.size:
            return 0.0
        here = np.flatnonzero(left > 0.0)
        groups: dict[bytes, float] = {}
        for state in here:
            pattern = self.fail[tests, state].tobytes()
            groups[pattern] = groups.get(pattern, 0.0) + float(left[state])
        return huffman_cost(np.array(list(groups.values())), float(self.cost[tests].min()))

    def optimal_choice(self, left: Array, used: frozenset[int]) -> int:
        """The optimum's test here, −1 for none."""
        self.optimum(left, used)
        return self._memo[self._key(left, used)][1]

    # -- other policies ------------------------------------------------------------------------------

    def first_in_order(self, left: Array, used: frozenset[int]) -> int:
        """The first test of the table that still tells something."""
        tests = self.useful(left, used)
        return int(tests[0]) if tests.size else -1

    def ranked(self, left: Array, used: frozenset[int]) -> npt.NDArray[np.intp]:
        """Useful tests, the greatest fall of Σ p(1 − p) per cost first; one matrix product."""
        tests = self.useful(left, used)
        failed = self.fail[tests] * left
        chance = failed.sum(axis=1)
        passed = left - failed
        with np.errstate(divide="ignore", invalid="ignore"):
            kept = np.nan_to_num((failed**2).sum(axis=1) / chance) + np.nan_to_num((passed**2).sum(axis=1) / (1.0 - chance))
        saving_per_min = (kept - (left**2).sum()) / self.cost[tests]
        order: npt.NDArray[np.intp] = tests[np.argsort(-saving_per_min, kind="stable")]
        return order

    def sondar_choice(self, left: Array, used: frozenset[int]) -> int:
        """Sondar's test here, −1 for none."""
        order = self.ranked(left, used)
        if not order.size:
            return -1
        if int((left > 0.0).sum()) > ROLLOUT_STATES or not self.certain:
            return int(order[0])
        return min((int(t) for t in order[:ROLLOUT_CHOICES]), key=lambda t: self._followed(left, used, t))

    def _followed(self, left: Array, used: frozenset[int], test: int) -> float:
        return float(self.cost[test]) + sum(
            chance * self._base_cost(part, used | {test}) for chance, part in self.after(left, test) if chance > 0.0
        )

    def _base_cost(self, left: Array, used: frozenset[int]) -> float:
        """Expected cost of going on with the one-step rule."""
        key = self._key(left, used)
        if key not in self._base:
            order = self.ranked(left, used)
            self._base[key] = self._followed(left, used, int(order[0])) if order.size else 0.0
        return self._base[key]

    # -- trees ---------------------------------------------------------------------------------------

    def tree(self, left: Array, choose: Callable[[Array, frozenset[int]], int], used: frozenset[int] = frozenset()) -> Node:
        """The whole tree of a rule.

        Raises:
            PlanTableError: more than ``TREE_LIMIT`` nodes.
        """
        self.nodes += 1
        if self.nodes > TREE_LIMIT:
            advice = f"the tree has more than {TREE_LIMIT} nodes: leave out tests that tell little, or give a lower 'certainty'"
            raise PlanTableError([FieldProblem(("tests",), advice)])
        remaining = tuple((self.names[i], float(left[i])) for i in np.argsort(-left, kind="stable") if left[i] > 0.0)
        test = choose(left, used)
        if test < 0:
            return Node(None, 0.0, remaining)
        (pass_chance, passed), (fail_chance, failed) = self.after(left, test)
        on_pass = self.tree(passed, choose, used | {test})
        on_fail = self.tree(failed, choose, used | {test})
        cost = float(self.cost[test]) + pass_chance * on_pass.cost + fail_chance * on_fail.cost
        return Node(self.table.tests[test].id, cost, remaining, on_pass, on_fail)
