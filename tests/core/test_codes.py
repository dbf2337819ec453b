from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.core.code_files import parse_code_file
from sondar.core.codes import (
    CodeTextError,
    FoundCode,
    ReRead,
    chance_present,
    classify,
    code_of_number,
    evidence_weight,
    is_stored,
    number_of_code,
    parse_codes,
    status_words,
)


def test_a_pasted_report_is_read_whatever_stands_around_the_codes() -> None:
    text = "Engine:\nECM: P0480 confirmed\nECM; p0117-1c (0x2F)\n\nBody module: U0157 pending, B1D10\nno more codes found"
    found = parse_codes(text)
    assert [(c.module, c.code, c.failure_type, c.status) for c in found] == [
        ("ECM", "P0480", None, 0x08), ("ECM", "P0117", "1C", 0x2F), ("Body module", "U0157", None, 0x04), ("Body module", "B1D10", None, 0x04),
    ]  # fmt: skip


@pytest.mark.parametrize(("text", "line"), [("P0480\nP04Z0", 2), ("P4480", 1), ("C9ABC", 1)])
def test_what_looks_like_a_code_and_is_none_is_named_with_its_line(text: str, line: int) -> None:
    with pytest.raises(CodeTextError) as caught:
        parse_codes(text)
    assert caught.value.problems[0].line == line
    assert "is not a code" in caught.value.problems[0].message


def test_no_code_at_all_says_what_one_looks_like() -> None:
    with pytest.raises(CodeTextError, match=r"e\.g\. P0480"):
        parse_codes("engine lamp on")


@pytest.mark.parametrize(
    "text",
    [
        '[{"module": "ECM", "code": "P0480", "status": "2F"}, {"module": "BCM", "code": "U0157"}]',
        '{"codes": [{"code": "P0480", "module": "ECM", "status": "0x2f"}, {"code": "U0157", "module": "BCM"}]}',
        "Module;Code;Status\nECM;P0480;2F\nBCM;U0157;\n",
        "\ufeffcode,module,status\nP0480,ECM,0x2F\nU0157,BCM,\n",
    ],
)
def test_files_of_codes(text: str) -> None:
    assert parse_code_file(text) == [FoundCode("P0480", None, 0x2F, "ECM"), FoundCode("U0157", None, None, "BCM")]


@pytest.mark.parametrize("text", ["[1, 2", '{"codes": 3}', "code,module\nnothing,ECM\n", "[]", "[{}]"])
def test_a_broken_file_is_a_clear_error(text: str) -> None:
    with pytest.raises(CodeTextError):
        parse_code_file(text)


@given(st.integers(0, 0xFFFFFF))
def test_numbers_and_codes_are_two_writings_of_one_thing(number: int) -> None:
    found = code_of_number(number)
    assert number_of_code(found.code, found.failure_type) == number
    assert parse_codes(found.code + (f"-{found.failure_type}" if found.failure_type else ""))[0].code == found.code


@given(st.text(max_size=60))
def test_any_text_gives_codes_or_an_explained_error(text: str) -> None:
    for parse in (parse_codes, parse_code_file):
        try:
            assert all(len(code.code) == 5 for code in parse(text))
        except CodeTextError as error:
            assert error.problems


def test_the_status_byte_in_words() -> None:
    assert status_words(0x09) == ["failing now", "confirmed"]
    assert status_words(None) == []
    assert not is_stored(0x50), "not tested yet is no stored code"
    assert is_stored(0x28)
    assert is_stored(None)
    assert evidence_weight(0x2F) == 1.0 > evidence_weight(0x08) > evidence_weight(0x04) > evidence_weight(0x20)


KEY = ("ECM", "P0480")


def read(after: float, *codes: tuple[str, str], run: tuple[str, ...] = (), ran: tuple[tuple[str, str], ...] = ()) -> ReRead:
    return ReRead(after, frozenset(run), frozenset(codes), frozenset(ran))


@pytest.mark.parametrize(
    ("before", "re_reads", "conditions", "behaviour"),
    [
        (0x2F, [read(5, KEY)], (), "hard"),
        (0x2F, [read(300, KEY, run=("key cycled",))], (), "hard"),
        (0x2F, [read(5), read(600, KEY, run=("cold",))], (), "conditional"),
        (0x2F, [read(5, KEY), read(60)], (), "intermittent"),
        (0x2F, [read(5)], (), "not run yet"),
        (0x2F, [read(5, ran=(KEY,))], (), "intermittent"),
        (0x28, [read(5, ran=(KEY,))], (), "history"),
        (0x28, [read(5, run=("driven",))], ("cold",), "not run yet"),
        (0x28, [read(5), read(900, run=("driven", "cold"))], ("cold",), "history"),
    ],
)
def test_clearing_and_re_reading_sorts_the_codes(
    before: int, re_reads: list[ReRead], conditions: tuple[str, ...], behaviour: str
) -> None:
    (found,) = classify([FoundCode("P0480", None, before, "ECM")], re_reads, conditions)
    assert found.behaviour == behaviour, found.reason
    assert found.reason


def test_a_code_not_seen_before_is_new() -> None:
    found = {c.code: c.behaviour for c in classify([FoundCode("P0480", None, 0x2F, "ECM")], [read(5, KEY, ("BCM", "U0157"))])}
    assert found == {"P0480": "hard", "U0157": "new"}


def test_the_firmest_behaviour_says_whether_the_fault_is_there() -> None:
    assert chance_present([]) == 1.0, "nothing known: as before"
    assert chance_present(["not run yet"]) == 1.0
    assert chance_present(["history", "hard"]) == 0.98
    assert chance_present(["intermittent"]) < chance_present(["conditional"]) < chance_present(["hard"])
