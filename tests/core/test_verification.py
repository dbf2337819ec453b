"""A code that is not listed proves nothing by itself; a repair holds when everything that failed is in order."""

from __future__ import annotations

from collections.abc import Mapping

import pytest

from sondar.core.codes import FoundCode
from sondar.core.verification import CodeProof, Look, code_proofs, distance, standing

STORED = FoundCode("P0122", None, 0x2F, "ECM")
NOT_YET = FoundCode("P0122", None, 0x50, "ECM")
ANSWERED: Mapping[str, bool | str] = {"ECM": True}


def look(*codes: FoundCode, modules: Mapping[str, bool | str] = ANSWERED, after_s: float = 30.0, run: tuple[str, ...] = ()) -> Look:
    return Look(after_s, frozenset(run), modules, codes)


@pytest.mark.parametrize(
    ("looks", "state", "said"),
    [
        (None, "not cleared", "have not been cleared"),
        ([], "not read", "not been read since"),
        ([look(NOT_YET)], "not completed", "has not been completed"),
        ([look(NOT_YET), look()], "passed", "completed and passed"),
        ([look()], "passed", "completed and passed"),
        ([look(FoundCode("P0122", None, 0x40, "ECM"))], "passed", "completed and passed"),
        ([look(STORED)], "failed again", "failing now"),
        ([look(FoundCode("P0122", None, 0x24, "ECM"))], "failed again", "pending"),
        ([look(STORED, after_s=12.0), look()], "failed again", "12 s after clearing"),
        ([look(modules={"ECM": False})], "not read", "did not say its codes"),
        ([look(modules={"ECM": "refused: busy"})], "not read", "refused: busy"),
        ([look(modules={"BCM": True})], "not read", "ECM did not say"),
    ],
)  # fmt: skip
def test_a_code_stands_by_what_its_module_says(looks: list[Look] | None, state: str, said: str) -> None:
    [proof] = code_proofs([STORED], looks)
    assert proof.state == state
    assert said in proof.said
    assert proof.before == ("failing now", "failed this drive", "pending", "confirmed", "failed since clearing")


@pytest.mark.parametrize(
    ("run", "wanted", "said"),
    [
        ((), (), "the list does not say"),
        ((), ("cold",), "not all run: cold"),
        (("cold",), ("cold",), "after the complaint's own conditions"),
    ],
)
def test_a_list_read_by_hand_says_less(run: tuple[str, ...], wanted: tuple[str, ...], said: str) -> None:
    [proof] = code_proofs([STORED], [look(modules={}, run=run)], wanted)
    assert proof.state == "not there"
    assert said in proof.said


def test_conditions_add_up_over_the_lists() -> None:
    looks = [look(modules={}, run=("cold",)), look(modules={}, run=("wet",))]
    [proof] = code_proofs([STORED], looks, ("cold", "wet"))
    assert "after the complaint's own conditions" in proof.said


def test_the_same_code_of_another_module_is_not_this_one() -> None:
    own, new = code_proofs([STORED], [look(FoundCode("P0122", None, 0x2F, "BCM"), modules={"ECM": True, "BCM": True})])
    assert (own.state, new.module, new.state) == ("passed", "BCM", "failed again")


def test_a_new_code_counts_against_the_repair() -> None:
    old, new = code_proofs([STORED], [look(FoundCode("P0230", None, 0x09, "ECM"))])
    assert (old.state, new.code, new.state) == ("passed", "P0230", "failed again")


def test_how_far_a_reading_is_from_its_range() -> None:
    assert distance(0.95, 0.0, 0.72).by == pytest.approx(0.23)
    assert distance(0.95, 0.0, 0.72).side == "above"
    assert distance(-0.2, 0.0, 0.72).side == "below"
    assert distance(0.72, 0.0, 0.72).by == 0.0


def proof(state: str) -> CodeProof:
    return CodeProof("P0122", "ECM", (), state, "")  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("readings", "codes", "improved", "outcome", "left"),
    [
        ([True, True], ["passed"], False, "fixed", 0),
        ([True], ["not there"], False, "fixed", 0),
        ([None, True], ["passed"], False, "open", 1),
        ([True], ["not completed"], False, "open", 1),
        ([True], ["not cleared"], False, "open", 1),
        ([False], [], False, "not fixed", 1),
        ([False], [], True, "partly", 1),
        ([False, True], [], False, "partly", 1),
        ([True], ["failed again"], False, "partly", 1),
        ([None], ["failed again"], False, "not fixed", 2),
        ([], [], False, "open", 0),
    ],
)
def test_how_a_repair_stands(readings: list[bool | None], codes: list[str], improved: bool, outcome: str, left: int) -> None:
    found = standing(readings, [proof(state) for state in codes], repaired=True, improved=improved)
    assert (found.outcome, len(found.left)) == (outcome, left)


def test_without_a_repair_nothing_is_verified() -> None:
    assert standing([], [], repaired=False, improved=False).sentence == "No repair is recorded."
