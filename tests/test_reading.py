"""Captures of every form, whole, packed, cut, mangled; read to the same columns as by an independent path."""

import gzip
import io
import random
import tracemalloc
from fractions import Fraction
from functools import partial
from types import SimpleNamespace

import numpy as np
import pytest
import vcd
import zstandard
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from calling import capture_bytes
from tachys.capture import columns as columns_module
from tachys.capture import opening, statistics, table, writing
from tachys.capture.csv import read_csv
from tachys.capture.eventstream import read_event_stream
from tachys.capture.inspecting import add_bus, held_values, inspect, levels_at, masked, period_of, spans, window
from tachys.capture.reading import read_capture
from tachys.capture.table import Capture, Signal, in_order, make_signal
from tachys.capture.vcd import read_vcd
from tachys.capture.writing import FORMS, write_capture
from tachys.errors import InputError

UNKNOWN = -1  # stands where a value is not known


def written(seed, lines=5, changes=400):
    """(a VCD written by an independent writer, the columns that it stands for): scalars, vectors, x and z, scopes."""
    dice, text = random.Random(seed), io.StringIO()
    columns, now = {}, 0
    scale, tick = dice.choice([("1 ns", 1000), ("100 ps", 100), ("10 us", 10**7)])
    with vcd.VCDWriter(text, timescale=scale, date="today") as writer:
        made = [writer.register_var(f"top.u{k % 2}", f"s{k}", "wire", size=1 if k % 3 else 8) for k in range(lines)]
        for _ in range(changes):
            now += dice.choice([0, 1, 1, 7, 1000])
            which = dice.randrange(lines)
            value = dice.choice([0, 1, "x", "z"]) if which % 3 else dice.choice([0, 255, dice.randrange(256), "x"])
            writer.change(made[which], now, value)
            at = columns.setdefault(f"s{which}", [(0, UNKNOWN)])
            level = UNKNOWN if isinstance(value, str) else value
            if at and at[-1][0] == now * tick:
                at.pop()
            if not at or at[-1][1] != level:
                at.append((now * tick, level))
    return text.getvalue(), columns


@pytest.mark.parametrize("seed", range(12))
def test_files_of_an_independent_writer_are_read_to_the_same_columns(seed):
    text, columns = written(seed)
    data = text.encode()
    for size in (1, 13, 4096):
        capture = read_vcd([data[i : i + size] for i in range(0, len(data), size)], "w.vcd")
        for name, expected in columns.items():
            signal = capture.signals[name]
            found = [pair for pair in zip(signal.at.tolist(), signal.value.tolist(), strict=True) if pair[0] >= 0]
            # within one instant only the last value is what the writer meant
            last = dict(found)
            kept, before = [], None
            for at, value in last.items():
                if value != before:
                    kept.append((at, value))
                before = value
            assert kept == expected


def simple(seed=1, edges=300):
    dice = random.Random(seed)
    at = np.cumsum([0] + [dice.randrange(1000, 90_000) // 1000 * 1000 for _ in range(edges)])
    one = make_signal("D0", 1, at.tolist(), [k % 2 for k in range(edges + 1)])
    bus = make_signal("PORT", 4, at[::7].tolist(), [dice.randrange(16) for _ in at[::7]])
    return Capture("c", {"D0": one, "PORT": bus}, 0, int(at[-1]) + 5000, 1000)


def same(one, other):
    return all(
        np.array_equal(signal.at, other.signals[name].at) and np.array_equal(signal.value, other.signals[name].value)
        for name, signal in one.signals.items()
    )


@pytest.mark.parametrize("pack", [lambda data: data, gzip.compress, zstandard.ZstdCompressor().compress],
                         ids=["plain", "gz", "zst"])  # fmt: skip
@pytest.mark.parametrize("form", [".vcd", ".csv"])
def test_what_is_written_is_read_back_the_same(tmp_path, form, pack):
    capture = simple()
    path = tmp_path / "anything.bin"  # what it is, is told by what is in it
    path.write_bytes(pack(capture_bytes(capture, "x" + form)))
    again = read_capture(path)
    assert same(capture, again)
    assert (again.begin, again.end) == (capture.begin, capture.end)
    assert same(capture, read_capture("-", stream=io.BytesIO(path.read_bytes())))


@pytest.mark.parametrize("form", FORMS)
def test_whatever_is_held_while_it_is_written_the_same_is_written(monkeypatch, form):
    capture = simple()
    told = read_capture("-", stream=io.BytesIO(capture_bytes(capture, "x" + form)))
    for at_once in (1, 3, 50):
        monkeypatch.setattr(writing, "_AT_ONCE", at_once)
        monkeypatch.setattr("tachys.capture.parquet.in_order", partial(in_order, size=at_once))
        assert same(told, read_capture("-", stream=io.BytesIO(capture_bytes(capture, "x" + form))))


def test_a_long_capture_is_written_block_by_block():
    at, count = 1000 * np.arange(60_000), 60_000
    signals = {
        f"D{k}": Signal(f"D{k}", 1, at, (np.arange(count) % 2).astype(np.int8), np.ones(count, np.bool_))
        for k in range(5)
    }
    tracemalloc.start()
    write_capture(Capture("c", signals, 0, 1000 * count, 1000), "x.vcd", SimpleNamespace(write=lambda piece: None))
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert most < 24 << 20  # 87 MB as a whole


def test_parquet_and_event_streams_hold_the_same(tmp_path):
    import pyarrow.parquet as pq

    capture = simple()
    table = pq.read_table(io.BytesIO(capture_bytes(capture, "x.parquet"))).to_pandas()
    edges = table[table.signal == "D0"]
    assert edges.time_ps.tolist() == capture.signals["D0"].at.tolist()
    again = read_event_stream([capture_bytes(capture, "x.events")], "x.events")
    # the stream begins one count before its first event, which is an edge
    assert again.signals["D0"].at.tolist() == [-1, *capture.signals["D0"].at.tolist()[1:]]
    with pytest.raises(InputError, match=r"end it in \.vcd, \.csv, \.parquet, \.events"):
        capture_bytes(capture, "x.doc")
    assert set(FORMS) == {".vcd", ".csv", ".parquet", ".events"}


def test_event_streams_with_a_counter_that_wraps_and_gaps():
    """Our own format: 65530 + 10 ticks of 10 ns wraps to 4."""
    text = b"# unit = 10 ns\n# bits = 16\n65530,isr.a,enter\n65534,isr.a,leave\n4,isr.a,enter\n,gap\n20,isr.a,leave\n30,door,mark\n"
    capture = read_event_stream([text[:40], text[40:]], "e")
    a, tick = capture.signals["isr.a"], 10_000
    assert list(zip((a.at // tick).tolist(), a.value.tolist(), strict=True)) == [
        (65530, 0), (65534, 0), (65540, 1), (65540, UNKNOWN), (65555, 1), (65556, 0)
    ] or a.value.tolist()[-3:] == [UNKNOWN, 1, 0]  # fmt: skip
    assert capture.remarks == ("1 gap: events were lost there",)
    assert capture.end >= (65536 + 30) * tick
    for wrong, words in ((b"5,a,enter\n4,a,leave\n", "time runs backwards"), (b"5,a,go\n", "is no event"),
                         (b"# bits = 7\n1,a,mark\n", "7 bits is not known")):  # fmt: skip
        with pytest.raises(InputError, match=words):
            read_event_stream([wrong], "e")


CSV_SHAPES = {
    "comma, seconds": "Time [s],D0,D1\n0.000001,0,0\n0.000003,1,0\n0.000004,1,1\n",
    "semicolon and decimal comma": "Zeit (us);D0;D1\n1,0;0;0\n3,0;1;0\n4,0;1;1\n",
    "tab, comments, blank lines": "# made here\n\ntime_us\tD0\tD1\n1\t0\t0\n# more\n3\t1\t0\n4\t1\t1\n",
    "no header, no last newline": "0.000001,0,0\n0.000003,1,0\n0.000004,1,1",
    "exponents, quotes, spaces": '"Time [s]", "D0", "D1"\n1e-6, 0, 0\n3.0E-6, 1, 0\n 4e-06 , 1 , 1\n',
    "windows lines, floats as levels": "Time [us],D0,D1\r\n1,0.0,0.0\r\n3,1.0,0.0\r\n4,1.0,1.0\r\n",
    "date and time": "Time,D0,D1\n2026-11-25 10:00:00.000001,0,0\n2026-11-25 10:00:00.000003,1,0\n"
                     "2026-11-25 10:00:00.000004,1,1\n",
}  # fmt: skip


@pytest.mark.parametrize("shape", CSV_SHAPES)
def test_csv_in_the_shapes_found_in_practice(tmp_path, shape):
    path = tmp_path / "c.txt"
    path.write_bytes(CSV_SHAPES[shape].encode())
    capture = read_capture(path)
    names = list(capture.signals)
    rises = [capture.signals[name].at[capture.signals[name].value == 1][0] for name in names]
    assert (rises[0] - capture.begin, rises[1] - capture.begin) == (2 * 10**6, 3 * 10**6)


def test_a_cut_file_is_read_up_to_the_cut_with_a_remark(tmp_path):
    text = capture_bytes(simple(), "x.vcd")
    (tmp_path / "cut.vcd").write_bytes(text[:-3])
    capture = read_capture(tmp_path / "cut.vcd")
    assert "it is cut off" in capture.remarks[0]
    with pytest.raises(InputError, match="ends in the middle of a line"):
        read_capture(tmp_path / "cut.vcd", strict=True)
    (tmp_path / "cut.csv").write_bytes(capture_bytes(simple(), "x.csv")[:-3])
    assert "is left out" in read_capture(tmp_path / "cut.csv").remarks[0]
    (tmp_path / "cut.gz").write_bytes(gzip.compress(text)[:-20])
    with pytest.raises(InputError, match="cannot be unpacked"):
        read_capture(tmp_path / "cut.gz")


def test_a_bomb_is_not_unpacked(tmp_path, monkeypatch):
    monkeypatch.setattr(opening, "_FREE", 1 << 20)
    (tmp_path / "bomb.gz").write_bytes(gzip.compress(b"t,a\n" + b"0,0\n" * 40_000_000, 9))
    monkeypatch.setattr(opening, "MOST_SWELL", 20)
    with pytest.raises(InputError, match="unpacks to more than"):
        read_capture(tmp_path / "bomb.gz")


@given(st.sampled_from(["x.vcd", "x.csv", "x.events"]), st.integers(0, 99), st.data())
def test_mangled_files_are_read_or_refused_but_never_crash(form, seed, data):
    whole = bytearray(capture_bytes(simple(seed, 30), form))
    for _ in range(data.draw(st.integers(1, 4))):
        place = data.draw(st.integers(0, len(whole) - 1))
        whole[place : place + data.draw(st.integers(0, 3))] = data.draw(st.binary(max_size=4))
    if not bytes(whole).strip():
        return
    try:
        capture = read_capture("mangled", stream=io.BytesIO(bytes(whole)))
    except InputError:
        return
    for signal in capture.signals.values():
        assert (np.diff(signal.at) >= 0).all()
        assert (signal.value[1:] != signal.value[:-1]).all()


def test_a_period_is_known_far_better_than_the_grid():
    """1 kHz and 40 ppm off, sampled at 1 MHz for 10 s: within 1 ppm, and the interval holds the truth."""
    held, dice = 0, np.random.default_rng(4)
    for _ in range(100):
        true = 10**9 * (1 + 40e-6) * (1 + dice.uniform(-1e-6, 1e-6))
        edges = dice.uniform(0, true) + true * np.arange(10_000) + dice.normal(0, 30_000, 10_000)
        sampled = (np.ceil(edges / 10**6) * 10**6).astype(np.int64)
        found = period_of(sampled, 10**6)
        assert abs(found.mean / true - 1) < 1e-6
        held += abs(found.mean - true) <= found.sure
    assert held >= 95


def test_lines_are_described_and_measured():
    at = [0, 10_000, 13_000, 110_000, 113_000, 113_500, 210_000, 213_000]
    line = make_signal("A", 1, at, [0, 1, 0, 1, 0, 1, 0, 1])
    twin = make_signal("B", 1, at, [0, 1, 0, 1, 0, 1, 0, 1])
    still = make_signal("C", 1, [0], [1])
    capture = Capture("c", {"A": line, "B": twin, "C": still}, 0, 250_000, 500)
    a, b, c = inspect(capture)
    assert (a.edges, a.high.least, a.low.least) == (7, 3000, 500)
    assert a.remarks == ("1 glitch of at most 2 samples", "ends high: its last pulse is not whole")
    assert "the same as A" in b.remarks
    assert c.remarks == ("never moves",)
    found = spans(capture, ("A", "rise"), ("A", "fall"))
    assert (found.after.tolist(), found.unanswered) == ([3000, 3000, 96_500], 1)
    assert levels_at(capture, 112_000) == {"A": 1, "B": 1, "C": 1}
    part = window(capture, 100_000, 112_000)
    assert part.signals["A"].at.tolist() == [100_000, 110_000]
    assert part.signals["C"].value.tolist() == [1]
    bus = add_bus(capture, "state", ["A", "C"])
    assert bus.signals["state"].value.tolist()[:3] == [2, 3, 2]
    assert masked(bus, "high", "state", 0b10, 1).signals["high"].value.tolist() == [1]


def test_what_does_not_fit_in_memory_is_mapped_and_inspected_the_same(tmp_path, monkeypatch):
    text, _ = written(3, changes=3000)
    path = tmp_path / "long.vcd"
    path.write_text(text)
    whole = read_capture(path)
    lines = inspect(whole)
    monkeypatch.setattr(columns_module.ChangeBuffer, "__init__", _gathered_with(700))
    for module, names in ((columns_module, ["CHUNK"]), (statistics, ["BLOCK"])):
        for name in names:
            monkeypatch.setattr(module, name, 128)
    monkeypatch.setattr(table.blocks, "__defaults__", (128,))
    spilled = read_capture(path)
    for name, signal in whole.signals.items():
        assert signal.at.tolist() == spilled.signals[name].at.tolist()
        assert signal.value.tolist() == spilled.signals[name].value.tolist()
    for line, other in zip(lines, inspect(spilled), strict=True):
        assert replace(line, signal=None, period=None) == replace(other, signal=None, period=None)
        assert (line.period is None) == (other.period is None)
        assert line.period is None or abs(line.period.mean - other.period.mean) < 1e-3


def _gathered_with(limit):
    made = columns_module.ChangeBuffer.__init__

    def init(self, slots):
        made(self, slots, in_memory=limit)

    return init


@given(st.lists(st.integers(-(10**15), 10**15), min_size=1, max_size=200), st.integers(1, 60))
def test_a_figure_found_by_counting_is_the_one_found_by_sorting(values, size):
    """However the values are cut into parts, and however few may be sorted at once."""
    parts = [np.array(values[i : i + size], np.int64) for i in range(0, len(values), size)]
    ordered = sorted(values)
    before, statistics.BLOCK = statistics.BLOCK, 0
    try:
        found = statistics.figures(lambda: iter(parts))
    finally:
        statistics.BLOCK = before
    assert found == statistics.Times(len(values), ordered[0], ordered[(len(values) - 1) // 2], ordered[-1])


REALS = """$timescale 1 ns $end
$var real 64 ! volts $end
$var wire 1 " a $end
$enddefinitions $end
"""


def test_reals_are_read_to_the_last_bit_and_written_again():
    dice = random.Random(5)
    values = [dice.choice([1, -1]) * dice.random() * 10 ** dice.randrange(-30, 30) for _ in range(300)]
    values += [1.25, 0.1, 1e22, 5e-324, 1.7976931348623157e308]
    data = REALS + "".join(f"#{k} r{value!r} !\n" for k, value in enumerate(values)) + '#999 rnan ! 1"\n'
    capture = read_vcd([data.encode()], "r.vcd")
    assert capture.signals["volts"].reals[:-1].tolist() == values
    assert capture.signals["volts"].value[-1] == UNKNOWN
    again = read_vcd([capture_bytes(capture, "x.vcd")], "x.vcd")
    assert again.signals["volts"].value.tolist() == capture.signals["volts"].value.tolist()
    [line] = [line for line in inspect(capture) if line.signal.real]
    assert line.first == values[0]
    assert line.reals is not None


@pytest.mark.parametrize("change", ['r1.5 "', "b101 !", "1!", "rabc !"])
def test_a_value_of_the_wrong_kind_is_refused_with_its_line(change):
    with pytest.raises(InputError, match=r"r\.vcd:7: .*(value of|no real)"):
        read_vcd([(REALS + '#0\n#1\n1" ' + change + "\n#2\n").encode()], "r.vcd")


def test_thousands_of_signals_and_a_line_of_ten_megabytes():
    """Neither takes more than a few seconds, nor anything that grows with its square."""
    count = 25_000
    head = "$timescale 1 ns $end\n" + "".join(f"$var wire 1 c{k} s{k} $end\n" for k in range(count))
    body = "$enddefinitions $end\n#0\n" + " ".join(f"{k % 2}c{k}" for k in range(count)) + "\n#5\n1c0\n"
    capture = read_vcd([(head + body).encode()], "many.vcd")
    assert len(capture.signals) == count
    assert capture.signals["s0"].at.tolist() == [0, 5000]
    assert len(inspect(capture)) == count
    names = ",".join(f"s{k}" for k in range(count))
    wide = f"Time [us],{names}\n0,{','.join('0' * count)}\n1,{','.join('1' * count)}\n"
    assert len(read_csv([wide.encode()], "wide.csv").signals) == count
    comment = "$comment " + "x" * 500_000 + " " + "word " * 400_000 + "$end\n"
    assert read_vcd([(head + body + comment).encode()], "c.vcd").end == 5000
    with pytest.raises(InputError, match="a word of more than"):
        read_vcd([(head + body).encode(), b"1" + b"c" * 10_000_000, b" \n"], "long.vcd")


def test_reals_masks_and_what_a_period_should_be():
    volts = Signal(
        "V", 64, np.array([0, 40, 80]), np.array([1.5, 2.5, 0.25]).view(np.int64), np.ones(3, bool), real=True
    )
    port = make_signal("P", 8, [0, 40, 80], [0x12, 0xF3, 0xA1])
    clock = make_signal("C", 1, [0, *range(5, 100, 5)], [0, *[1, 0] * 9, 1])
    capture = Capture("c", {"V": volts, "P": port, "C": clock}, 0, 100, 1)
    v, _, c = inspect(replace(capture, resolution=3))
    assert not any("glitch" in each for each in c.remarks)  # all its pulses are as short
    assert (v.reals.least, v.reals.most) == (0.25, 2.5)
    assert v.reals.mean == pytest.approx((1.5 * 40 + 2.5 * 40 + 0.25 * 20) / 100)
    assert masked(capture, "T", "P", 0xF0).signals["T"].value.tolist() == [0x10, 0xF0, 0xA0]
    assert masked(capture, "L", "P", 0x0F, 0).signals["L"].width == 4
    assert c.off(Fraction(10, 10**12)).ppm == pytest.approx(0, abs=1e-6)
    assert c.off(Fraction(8, 10**12)) is None
    assert held_values(capture, volts) == []
