"""Pin tables: spreadsheets of any dialect, and WireViz files written from its documentation."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sondar.core.describing.pin_table import FIELDS, PinRow, as_csv, read_csv, read_wireviz
from sondar.core.errors import InvalidError
from sondar.yaml_text import load_yaml


@pytest.mark.parametrize(
    "text",
    [
        "Connector;Cavity;Wire;Colour;mm²;To\nX2;1;W1;RD/WH;0,75;ECM 12\nX2;2;W2;BN;0,5;G1\n",
        "connector,pin,wire,color,size,goes to\nX2,1,W1,red/white,0.75,ECM 12\nX2,2,W2,brown,0.5,G1\n",
        "plug\tcav\tnet\twire colour\tcsa\tdestination\nX2\t1\tW1\trdwh\t0.75\tECM 12\nX2\t2\tW2\tbn\t0.5\tG1\n",
        '"To","Colour","Cavity","Connector","Wire","mm2"\n"ECM 12","red with white","1","X2","W1","0.75 mm2"\n"G1","brown","2","X2","W2","0.5"\n',
    ],
)
def test_any_dialect_gives_the_same_rows(text: str) -> None:
    found = read_csv(text)
    assert [(r.connector, r.cavity, r.wire, r.colour, r.mm2, r.end) for r in found.rows] == [
        ("X2", "1", "W1", "red/white", 0.75, "ECM 12"), ("X2", "2", "W2", "brown", 0.5, "G1"),
    ]  # fmt: skip
    assert found.notes == ()


def test_columns_without_headings_are_guessed_and_can_be_put_right() -> None:
    text = "A1;BN\nA2;RD/BK\nA3;GN\n"
    assert [(row.cavity, row.colour) for row in read_csv(text).rows] == [("A1", "brown"), ("A2", "red/black"), ("A3", "green")]
    turned = read_csv("colour;pin\n7;A1\n9;A2\n", ["wire", "cavity"])
    assert [(row.cavity, row.wire) for row in turned.rows] == [("A1", "7"), ("A2", "9")]


def test_what_is_not_understood_is_said_with_its_line_and_nothing_else_is_lost() -> None:
    found = read_csv("cavity,colour,mm2,length\n1,bl,0.75,3\n2,gn,thick,3\nsee note 4 below,,,\n3,ye,,2\n")
    assert [row.cavity for row in found.rows] == ["1", "2", "3"]
    lines = {line for line, _ in found.notes}
    assert lines == {1, 2, 3, 4}
    assert any("black or blue" in said for _, said in found.notes)
    assert any("column 'length' was not used" in said for _, said in found.notes)


def test_two_cavities_of_one_wire_are_each_others_end() -> None:
    found = read_csv("connector,cavity,wire\nX1,12,W7\nX2,1,W7\n")
    assert [row.end for row in found.rows] == ["X2 1", "X1 12"]


@pytest.mark.parametrize("text", ["", "\n\n", "colour,length\nred,3\n", 'cavity,colour\n1,"red\n', "cavity\n" + "1\n" * 700])
def test_a_table_that_is_none_is_refused_with_a_line(text: str) -> None:
    with pytest.raises(InvalidError, match="line "):
        read_csv(text)


ends = st.sampled_from(["", "G1", "ECM 7", 'a "b", c'])
sizes = st.none() | st.sampled_from([0.35, 0.5, 2.5])
colours = st.sampled_from(["", "red", "green/yellow"])
rows = st.lists(
    st.builds(PinRow, st.sampled_from(["X1", "X2"]), st.integers(1, 60).map(str), st.just(""), colours, sizes, ends),
    min_size=1,
    max_size=20,
)


@given(rows)
def test_a_table_comes_back_from_its_file(made: list[PinRow]) -> None:
    found = read_csv(as_csv(made)).rows
    assert [(r.connector, r.cavity, r.colour, r.mm2, r.end) for r in found] == [
        (r.connector, r.cavity, r.colour, r.mm2, r.end) for r in made
    ]


@given(st.text(alphabet="1,;\t|\"a\n'€", max_size=60), st.lists(st.sampled_from([*FIELDS, ""]), max_size=4))
def test_no_text_breaks_the_reader(text: str, fields: list[str]) -> None:
    try:
        found = read_csv(text, fields)
    except InvalidError:
        return
    assert all(row.cavity for row in found.rows)


HARNESS = """
connectors:
  X1: {type: D-Sub, subtype: female, pinlabels: [DCD, RX, TX, DTR, GND, DSR, RTS, CTS, RI]}
  X2: {type: Molex KK 254, subtype: female, pinlabels: [GND, RX, TX]}
cables:
  W1: {gauge: 0.25 mm2, length: 0.2, color_code: DIN, wirecount: 3, shield: true}
connections:
  - - X1: [5, 2, 3]
    - W1: [1, 2, 3]
    - X2: [1, 3, 2]
  - - X1: 5
    - W1: s
"""


def test_a_wireviz_file_is_rows_of_both_ends() -> None:
    found = read_wireviz(load_yaml(HARNESS))
    ends = {(row.connector, row.cavity): row for row in found.rows}
    assert ends["X2", "1"].end == "X1 5"
    assert ends["X2", "3"].colour == "brown", "the second wire by DIN 47100"
    assert ends["X1", "5"].colour == "white"
    assert ends["X1", "2"].mm2 == 0.25
    assert found.connectors[0] in ("X1", "X2")


def test_wireviz_labels_ranges_and_own_colours() -> None:
    text = """
connectors:
  ECM: {pincount: 60}
  S1: {pinlabels: [SIG, REF, RET]}
cables:
  C1: {colors: [PKBK, VTWH, GNBN], gauge: 20 AWG}
connections:
  - [{ECM: [11-13]}, {C1: [1-3]}, {S1: [SIG, REF, RET]}]
"""
    found = {row.cavity: row for row in read_wireviz(load_yaml(text)).rows if row.connector == "S1"}
    assert [(found[n].colour, found[n].end) for n in "123"] == [
        ("pink/black", "ECM 11"), ("violet/white", "ECM 12"), ("green/brown", "ECM 13"),
    ]  # fmt: skip
    assert found["1"].mm2 == pytest.approx(0.518, abs=0.001), "20 AWG is 0.518 mm²"


UNEVEN = "{connectors: {A: {}, B: {}}, cables: {W: {}}, connections: [[{A: [1, 2]}, {W: [1]}, {B: [1]}]]}"


@pytest.mark.parametrize("text", ["[]", "connectors: {}", "connections: 3", UNEVEN])
def test_a_wireviz_file_that_is_none_is_refused(text: str) -> None:
    with pytest.raises(InvalidError):
        read_wireviz(load_yaml(text))


def test_what_a_wireviz_file_says_beside_is_said_to_be_left_out() -> None:
    found = read_wireviz(load_yaml("{metadata: {title: x}, connections: [[A, W, B], 3]}"))
    said = " ".join(text for _, text in found.notes)
    assert "'metadata' was not used" in said
    assert "'A' of connection 1" in said
    assert "connection 2 is no list" in said
