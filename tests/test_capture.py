"""The readers: what they accept says where it comes from; what they refuse is told by file, line and mend."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tachys.capture.csv import CsvShape, read_csv
from tachys.capture.statistics import edges
from tachys.capture.vcd import read_vcd
from tachys.errors import InputError

UNKNOWN = -1  # stands where a value is not known

HEAD = (
    "$timescale 10 ns $end\n$scope module top $end\n$var wire 1 ! wheel $end\n"
    "$var reg 8 # bus [7:0] $end\n$upscope $end\n$enddefinitions $end\n"
)
BODY = "#0\n$dumpvars\n0!\nbxxxxxxxx #\n$end\n#5\n1!\n#7 b00010010 # 0!\n#9\nz!\n#12\n1!\n"


def vcd(text, strict=False, size=7):
    data = text.encode()
    return read_vcd([data[i : i + size] for i in range(0, len(data), size)], "c.vcd", strict=strict)


def csv(text, strict=False, **shape):
    data = text.encode()
    return read_csv([data[i : i + 11] for i in range(0, len(data), 11)], "c.csv", CsvShape(**shape), strict=strict)


def changes(capture, name):
    signal = capture.signals[name]
    return list(zip(signal.at.tolist(), signal.value.tolist(), strict=True))


def test_vcd_scalars_vectors_and_unknown_levels():
    """IEEE 1364-2001, clause 18.2.2: value changes; several on one line is white space like any other."""
    capture = vcd(HEAD + BODY)
    us = 10_000  # ps a tick
    assert changes(capture, "wheel") == [(0, 0), (5 * us, 1), (7 * us, 0), (9 * us, UNKNOWN), (12 * us, 1)]
    assert changes(capture, "bus") == [(0, UNKNOWN), (7 * us, 0x12)]
    assert (capture.begin, capture.end, capture.resolution) == (0, 12 * us, us)
    assert edges(capture.signals["wheel"], "rise").tolist() == [5 * us]  # from z to 1 is no edge


@given(st.integers(0, len(HEAD + BODY) - 1))
def test_vcd_cut_anywhere_is_read_whole_or_refused(cut):
    """A cut never changes a value silently: what is read is a beginning of the whole."""
    whole = vcd(HEAD + BODY)
    try:
        part = vcd((HEAD + BODY)[:cut])
    except InputError:
        return
    for name in ("wheel", "bus"):
        seen = changes(part, name)
        assert seen == changes(whole, name)[: len(seen)]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("#0\n0!\n#5\n1!\n#4\n0!\n", "c.vcd:11: time runs backwards"),
        ("#0\n0?\n", 'c.vcd:8: the identifier "?" was not declared'),
        ("#0\n0!\n#7\n1", "c.vcd:10: the file ends in the middle of a line"),
        ("#0\nb100000000 #\n", "a value of top.bus has 9 bits; 8 were declared"),
        ("#0\nq!\n", '"q!" is no change'),
        ("#0\n0!\n#12", "the file ends in the middle of a line"),
    ],
)
def test_vcd_faults_have_a_line(text, words):
    with pytest.raises(InputError) as caught:
        vcd(HEAD + text, strict=True)
    assert words in str(caught.value)


@pytest.mark.parametrize(
    "text",
    [
        "Time [s],D0,D1\n0.000001,0,0\n0.000003,1,0\n0.000004,1,1\n",
        "# exported\nTime(us);D0;D1\n1,0;0;0\n3,0;1;0\n4,0;1;1\n",
        "ns\tD0\tD1\n1000\t0\t0\n3000\t1\t0\n4000\t0x1\t1\n",
    ],
)
def test_csv_dialects_seen_in_the_field(text):
    capture = csv(text, time_unit="ns" if text.startswith("ns") else None)
    assert changes(capture, "D0") == [(10**6, 0), (3 * 10**6, 1)]
    assert changes(capture, "D1") == [(10**6, 0), (4 * 10**6, 1)]


def test_csv_of_regular_samples_knows_its_grid():
    rows = [f"{i * 125}e-9,{int(i % 8 < 3)}" for i in range(64)]
    capture = csv("\n".join(["time (s),clk", *rows]) + "\n")
    assert capture.resolution == 125_000
    assert np.diff(edges(capture.signals["clk"], "rise")).tolist() == [10**6] * 6


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("t,a,b\n0,0,0\n1,0\n", "c.csv:3: 2 columns stand here, 3 in the first row"),
        ("t,a\n0,0\n2,1\n1,0\n", "c.csv:4: time runs backwards"),
        ("t,a\n0,0\n1,high\n", 'c.csv:3: "high" is no level'),
        ("t,a\nnan,0\n", 'c.csv:2: "nan" is no time'),
        ("t,a\n", "no rows below the header"),
        ("one column\n1\n", "no separator was found"),
        ("t,a,a\n0,1,1\n", 'two columns are called "a"'),
    ],
)
def test_csv_faults_have_a_line(text, words):
    with pytest.raises(InputError) as caught:
        csv(text, strict=True)
    assert words in str(caught.value)
