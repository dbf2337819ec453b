from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from sondar.circuit_files import terms
from sondar.core.terms import search_query

GROUPS = [["MAP", "manifold pressure sensor", "intake pressure sensor"], ["fan", "radiator fan"]]


def test_any_name_asks_for_all_names_of_the_same_part() -> None:
    for name in GROUPS[0]:
        asked = search_query(name, GROUPS)
        assert asked == "(map:* | (manifold <-> pressure <-> sensor) | (intake <-> pressure <-> sensor))"


def test_words_are_beginnings_and_all_must_be_there() -> None:
    assert search_query("PA 12 trn", GROUPS) == "pa:* & 12:* & trn:*"
    assert search_query("  ", GROUPS) is None
    assert search_query("radiator fan silent", GROUPS) == "(fan:* | (radiator <-> fan)) & silent:*"


@given(st.text(max_size=40))
def test_nothing_typed_becomes_an_operator(text: str) -> None:
    asked = search_query(text, GROUPS)
    assert asked is None or not set(asked) & set("!'\"\\;")


def test_the_librarys_groups_are_distinct_names() -> None:
    names = [name.lower() for group in terms() for name in group]
    assert len(names) == len(set(names))
    assert all(len(group) > 1 for group in terms())
