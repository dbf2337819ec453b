"""Tables of text in any dialect: understood, read, written, and refused with a reason."""

from __future__ import annotations

import time

import numpy as np
import pytest

from sondar.core.errors import InvalidError
from sondar.recording_files.dialect import understand
from sondar.recording_files.mapping import Column, Mapping, check
from sondar.recording_files.tables import Read, read_table, write_table


def read(raw: bytes) -> Read:
    return read_table(raw, understand(raw).mapping)


def test_semicolons_and_decimal_commas() -> None:
    found = read("Zeit [s];Druck [kPa];Ventil\n0,0;101,3;off\n0,1;101,2;on\n0,2;99,5;on\n0,3;98,1;on\n".encode("cp1252")).recording
    [pressure] = found.channels
    assert (pressure.name, pressure.unit) == ("Druck", "kPa")
    assert pressure.t.tolist() == [0.0, 0.1, 0.2, 0.3]
    assert pressure.y.tolist() == [101.3, 101.2, 99.5, 98.1]
    [valve] = found.lanes
    assert valve.changes == ((0.0, "off"), (0.1, "on"))
    assert valve.commands, "positions that are on and off are a command"


def test_several_header_lines_and_a_row_of_units() -> None:
    raw = b"Logger 3000\nDate: 27.11.2026\n\nTime\tRPM\tMAF\ns\trpm\tg/s\n0.00\t800\t3.2\n0.05\t801\t3.3\n0.10\t803\t3.1\n0.15\t820\t\n"
    found = read(raw)
    speed, mass = found.recording.channels
    assert [(c.name, c.unit) for c in (speed, mass)] == [("RPM", "rpm"), ("MAF", "g/s")]
    assert len(mass.y) == 3
    assert found.notes == ("MAF: 1 of 4 rows hold no figure there, left out",)


def test_time_of_day_past_midnight() -> None:
    rows = ["23:59:59.5,80.1,closed loop", "00:00:00.0,80.2,closed loop", "00:00:00.5,80.3,open loop", "00:00:01.0,80.4,open loop"]
    raw = "\n".join(["time,coolant (C),status", *rows, ""]).encode()
    found = read(raw).recording
    assert found.channels[0].t.tolist() == [0.0, 0.5, 1.0, 1.5]
    assert found.lanes[0].changes == ((0.0, "closed loop"), (1.0, "open loop"))


def test_dates_with_one_stamp_for_several_rows_are_spread() -> None:
    raw = b'"Date";"Value"\n"2026-11-27 10:00:00";"1.5"\n"2026-11-27 10:00:00";"1.6"\n"2026-11-27 10:00:01";"1.7"\n"2026-11-27 10:00:01";"1.9"\n'
    found = read(raw)
    assert found.recording.channels[0].t.tolist() == [0.0, 0.5, 1.0, 1.5]
    assert found.began == 1_795_773_600.0
    assert "spread evenly" in found.notes[0]


def test_a_clock_of_its_own_for_each_channel() -> None:
    raw = b"Time (ms),A (V),Time (ms),B (V)\n0,1.0,2,5.0\n10,1.1,12,5.1\n20,1.2,22,5.2\n30,1.3,,\n"
    a, b = read(raw).recording.channels
    assert a.t.tolist() == [0.0, 0.01, 0.02, 0.03]
    assert b.t.tolist() == [0.002, 0.012, 0.022]


def test_rows_that_go_back_in_time_are_left_out_and_said() -> None:
    found = read(b"Time,P\n0.0,1\n0.1,2\n0.05,9\n0.2,3\n0.3,4\n")
    assert found.recording.channels[0].y.tolist() == [1.0, 2.0, 3.0, 4.0]
    assert "1 rows have no time or go back in time, the first being row 3" in found.notes[0]


@pytest.mark.parametrize(
    "raw",
    [
        b"# t x y\n0.0  1.0   2.0\n0.1  1.1   2.1\n0.2  1.3   2.2\n",
        "Time;Temp\n0,5;20,1\n1,0;20,2\n1,5;20,3\n".encode("utf-16"),
        b"Time,P\n0,1\n1,2\n2,3\n",
        b"1.5\n1.6\n1.7\n1.9\n",
        b"Time,Temp (rear),Temp\n0, 1.5,2\n1, 1.6,2\n2, 1.4,2\n",
    ],
)
def test_what_is_written_reads_the_same(raw: bytes) -> None:
    before = read(raw).recording
    after = read(b"".join(write_table(before))).recording
    assert [(c.name, c.unit) for c in after.channels] == [(c.name, c.unit) for c in before.channels]
    for old, new in zip(before.channels, after.channels, strict=True):
        assert np.array_equal(old.y, new.y)
        assert np.allclose(old.t, new.t, atol=1e-12)


@pytest.mark.parametrize(
    ("raw", "said"),
    [
        (b"", "it is empty"),
        (b"\x00\x01\x02" * 1000, "no table of text"),
        (b"hello\nworld\n", "no line of its beginning holds figures"),
        (b"a," * 3000 + b"\n" + b"1," * 3000 + b"\n" + b"2," * 3000 + b"\n", "at most 200"),
        (b"\xff\xfe" + b"x" * 999, ""),
        (b'"' * 100_000, ""),
        (b";" * 200_000, ""),
        (b"1" * 250_000, ""),
    ],
)
def test_hostile_files_are_refused_soon(raw: bytes, said: str) -> None:
    begun = time.process_time()
    try:
        read(raw)
    except InvalidError as error:
        assert said in error.detail
    else:
        assert not said
    assert time.process_time() - begun < 5.0


def test_a_mapping_that_does_not_fit_names_its_field() -> None:
    plain = (Column(0, "Time", kind="time"), Column(1, "P"))
    for mapping, field, said in (
        (Mapping("utf-8", ",", ",", 1, plain), "decimal", "same sign"),
        (Mapping("utf-8", ",", ".", 1, (Column(0, "P"),)), "rate_hz", "how many samples a second"),
        (Mapping("utf-8", ",", ".", 1, (*plain, Column(2, "P"))), "columns", "two columns are called 'P'"),
        (Mapping("utf-8", ",", ".", 1, (Column(0, "Time", kind="time"),)), "columns", "no column holds figures"),
        (Mapping("utf-8", ",", ".", 1, (Column(0, "Time", kind="time"), Column(1, " "))), "columns", "needs a name"),
    ):
        with pytest.raises(InvalidError) as refused:
            check(mapping)
        assert refused.value.problems[0].field == field
        assert said in refused.value.detail


def test_figures_with_blanks_and_true_minus_signs_are_read() -> None:
    raw = "Time;P\n0; 1,5\n1; −1,6\n2; 1,7 \n".encode()
    assert read(raw).recording.channels[0].y.tolist() == [1.5, -1.6, 1.7]
