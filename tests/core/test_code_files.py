"""Files of codes as scan tools and people write them: what was lost without a word before is shown, and waits for a person."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.core.code_files import MOST_ROWS, parse_code_file, understand_file
from sondar.core.codes import CodeTextError, FoundCode


def codes(text: str) -> list[tuple[str | None, str, str | None, int | None]]:
    return [(r.code.module, r.code.code, r.code.failure_type, r.code.status) for r in understand_file(text).rows]


def doubts(text: str) -> list[str]:
    return [what for _, what in understand_file(text).doubts]


def test_a_number_in_json_is_decimal_and_text_is_hexadecimal() -> None:
    assert codes('[{"code": "P0480", "status": 47}]') == [(None, "P0480", None, 0x2F)]
    assert codes('[{"code": "P0480", "status": "2F"}]') == [(None, "P0480", None, 0x2F)]
    assert codes('[{"code": "P0480", "status": true}]') == [(None, "P0480", None, 0x09)]
    assert doubts('[{"code": "P0480", "status": 300}]') == ["status '300' is not understood"]


def test_lists_under_their_modules() -> None:
    text = json.dumps({"modules": [{"name": "ECM", "dtcs": [{"dtc": "P0480"}, "P0117-1C"]}, {"name": "BCM", "dtcs": ["U0157"]}]})
    assert codes(text) == [("ECM", "P0480", None, None), ("ECM", "P0117", "1C", None), ("BCM", "U0157", None, None)]


@pytest.mark.parametrize("divided", [";", "\t", "|", ","])
def test_any_delimiter_with_quotes_comments_and_foreign_columns(divided: str) -> None:
    lines = [
        "# made on a Tuesday",
        "Control unit,Description,DTC,State,Colour",
        'ECM,"open, or short",P0480,active,red',
        "BCM,,U0157,0x2F,",
    ]
    text = "\n".join(line.replace(",", divided) if divided != "," else line for line in lines).replace(
        f"open{divided} or", "open, or"
    )
    found = understand_file(text)
    assert codes(text) == [("ECM", "P0480", None, 0x09), ("BCM", "U0157", None, 0x2F)]
    assert found.unused == ("Colour",)
    assert [row.code.words for row in found.rows] == ["open, or short", ""]
    assert "header in line 2" in found.form
    assert found.doubts == []


@pytest.mark.parametrize(
    ("text", "doubt"),
    [
        ("code,module\nP0480 P0117,ECM\n", "2 codes in one cell"),
        ('code,module\n"P0480,ECM\nP0117,ECM\n', "a quotation mark is opened and not closed"),
        ("code,status\nP0480,sleeping\n", "status 'sleeping' is not understood"),
        ("code,status\nP0480,47\n", "status 47 is read as hexadecimal; the file does not say so"),
        ("code,failure type\nP0480,ZZ\n", "failure type 'ZZ' is not understood"),
        ("code,module\nP04Z0,ECM\nP0117,ECM\n", "'P04Z0' is not a code"),
        ("code,module\nP0117,ECM\n# P0480,ECM\n", "a comment: not read"),
        ("P0117\n# P0480\n", "a comment: not read"),
    ],
)
def test_what_is_doubtful_is_said_and_taken_by_nobody_unasked(text: str, doubt: str) -> None:
    assert set(doubts(text)) == {doubt}
    with pytest.raises(CodeTextError, match=doubt[:12].replace("'", ".")):
        parse_code_file(text)
    rows = understand_file(text).rows
    assert parse_code_file(text, list(range(len(rows)))) == list(dict.fromkeys(row.code for row in rows)), "a person has looked"


def test_a_column_says_how_its_status_bytes_are_written() -> None:
    assert [row[3] for row in codes("code,status\nP0480,2F\nP0117,47\n")] == [0x2F, 0x47]
    assert [row[3] for row in codes("code,status\nP0480,175\nP0117,47\n")] == [175, 47]


def test_only_the_rows_that_are_chosen() -> None:
    text = "code,module\nP0480,ECM\nP0117,ECM\nU0157,BCM\n"
    assert parse_code_file(text, [2, 0, 0]) == [FoundCode("P0480", module="ECM"), FoundCode("U0157", module="BCM")]
    with pytest.raises(CodeTextError, match="counted from 0"):
        parse_code_file(text, [3])


def test_more_rows_than_a_vehicle_can_have_are_refused() -> None:
    with pytest.raises(CodeTextError, match="divide the file"):
        understand_file("P0480\n" * (MOST_ROWS + 1))


@given(st.text(alphabet='PCBU0123456789AF ,;|\t"\n#{}[]:codemule', max_size=200))
def test_any_text_is_understood_or_refused_with_a_line(text: str) -> None:
    try:
        found = understand_file(text)
    except CodeTextError as error:
        assert error.problems
        assert all(problem.line for problem in error.problems)
    else:
        assert found.rows
        assert all(len(row.code.code) == 5 for row in found.rows)
