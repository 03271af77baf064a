"""What is read by a quicker way comes to the same columns as by the careful one, or to the same error."""

import random

import numpy as np
import pytest

from tachys import compiled, stretches
from tachys.capture import opening
from tachys.capture.csv import read_csv
from tachys.capture.opening import LongFile
from tachys.capture.vcd import read_vcd
from tachys.errors import InputError
from test_reading import written

ODD = [
    b"$comment 0! #5 $end\n", b"b101\ns\n", b"r1.5 q\n", b"#0\n", b"0\n", b"x\n", b"1~~\n", b"2!\n", b"b10z1  !\n", b" \t\n",
    b"$dumpoff\n", b"$end\n", b"#9999999999999999999999\n", b"b" + b"01" * 40 + b' "\n', b"\r\n", b"\xff!\n", b"0\xff\n", b"B0 !\n",
    b"Z!\n", b"0!1!\n", b"0! 1!\n", b"#\n", b"#12x\n", b"b !\n", b"0 \n", b"#99999999999999999\n", b"$\n", b"$c", b"-1!\n",
    b"#00000000000000000001\n", b"#01234567\n", b"#1234567/\n", b"#123456789\n1!\n#99999999\n",
]  # fmt: skip


def mangled(seed):
    """A dump by an independent writer, with a few odd words put in, taken out and cut off."""
    dice = random.Random(seed)
    lines = written(seed)[0].encode().splitlines(keepends=True)
    for _ in range(dice.choice([0, 0, 1, 2, 4])):
        lines.insert(dice.randrange(len(lines) // 4, len(lines)), dice.choice(ODD))
    data = b"".join(lines)
    if dice.random() < 0.3:
        data = data[: dice.randrange(len(data) // 2, len(data))]
    return data.replace(b"\n", b"\r\n") if dice.random() < 0.1 else data


def outcome(read, *given, **more):
    """All that comes of a file: its columns, or what is wrong with it."""
    try:
        capture = read(*given, **more)
    except InputError as error:
        return str(error)
    columns = [(repr(s), s.at.tolist(), s.value.tolist(), s.known.tolist()) for s in capture.signals.values()]
    return capture.begin, capture.end, capture.resolution, capture.rounding, capture.remarks, columns


def read_dump(data, path, *, long):
    return outcome(read_vcd, [data[:700], data[700:]], "w.vcd", long=LongFile(path) if long else None)


@pytest.mark.parametrize("room", [64, 4096, opening.LINES])
@pytest.mark.parametrize("seed", range(120))
def test_the_quick_scanner_and_the_careful_one_read_the_same(seed, room, tmp_path, monkeypatch):
    monkeypatch.setattr(opening, "LINES", room)
    data, path = mangled(seed), tmp_path / "w.vcd"
    path.write_bytes(data)
    expected = read_dump(data, path, long=False)
    with compiled.checked():
        assert read_dump(data, path, long=True) == expected
    if seed < 40:
        with compiled.only(plain=False):
            assert read_dump(data, path, long=True) == expected


CELLS = ["0", "1", "1", "0", " 1", "x", "", "2", "0x1F", "1.0", "-1", "1,0", '"1"', "2.5", "01", "Z"]
STAMPS = [
    "{:.1f}",
    "{}",
    "{:.3f}",
    "{:.1f} ",
    "+{}",
    " {}",
    '"{}"',
    "{:.2e}",
    "{:.12f}",
    "000{}",
    "-{}",
    "{}.",
    "{:030d}",
]


def sampled(seed):
    """A table of levels, most of them as above, with a few odd cells, times, rows and line ends."""
    dice = random.Random(seed)
    mark, columns, odd = dice.choice([",", ";", "\t"]), dice.choice([1, 2, 9]), dice.choice([0, 0, 0.01, 0.1])
    stamp, unit = dice.choice(STAMPS[:5]), dice.choice(["s", "ms", "us", "ns", "ps"])
    rows = ["#"] * 196  # so that what follows the header is not read with it
    rows.append(mark.join([f"Time [{unit}]", *(f"D{k}" for k in range(columns))]))
    levels, now = ["0"] * columns, 0
    for _ in range(300):
        now += dice.choice([0, 1, 1, 1, 10 ** dice.randrange(12 if dice.random() < odd else 1)])
        if dice.random() < 0.3:
            levels[dice.randrange(columns)] = dice.choice(CELLS if dice.random() < odd else CELLS[:2])
        form = dice.choice(STAMPS) if dice.random() < odd else stamp
        cells = [form.format(now if "d" in form or "{}" in form else now / 10), *levels]
        rows.append(mark.join(cells[: dice.randrange(columns + 1)] if dice.random() < odd / 10 else cells))
        if dice.random() < odd / 3:
            rows.append(dice.choice(["", "# 1", "; 2", " ", "%"]))
    end = "\r\n" if dice.random() < 0.2 else "\n"
    return end.join([*rows, ""] if dice.random() < 0.8 else rows)


def read_table(pieces):
    return outcome(read_csv, pieces, "w.csv")


@pytest.mark.parametrize("seed", range(200))
def test_rows_like_the_one_above_are_read_as_if_each_stood_alone(seed):
    data = sampled(seed).encode()
    with compiled.checked():
        whole = read_table([data])
        assert read_table(list(data.splitlines(keepends=True))) == whole
    if seed < 50:
        with compiled.only(plain=False):
            assert read_table([data]) == whole


def test_a_file_that_grows_while_it_is_read_stays_within_its_columns(tmp_path, monkeypatch):
    monkeypatch.setattr(opening, "LINES", 256)
    data, path, lines = written(3)[0].encode(), tmp_path / "w.vcd", LongFile.lines
    path.write_bytes(data)

    def counted_too_short(self, begin, stop, *, quietly=False):
        for place, each in enumerate(lines(self, begin, stop, quietly=quietly)):
            if quietly and place == 3:
                return
            yield each

    monkeypatch.setattr(LongFile, "lines", counted_too_short)
    whole = read_vcd([data], "w.vcd")
    with compiled.checked():
        grown = read_vcd([data], "w.vcd", long=LongFile(path))
    assert all(np.array_equal(grown.signals[name].at, whole.signals[name].at) for name in whole.signals)


def test_long_files_are_read_twice_and_packed_ones_are_not(tmp_path, monkeypatch):
    monkeypatch.setattr(opening, "LONG", 1000)
    for name, data, long in (
        ("a", b"$" * 2000, True),
        ("b", b"$" * 999, False),
        ("c", b"\x1f\x8b" + b"a" * 2000, False),
    ):
        (tmp_path / name).write_bytes(data)
        assert (LongFile.at(tmp_path / name, None) is not None) == long
    assert LongFile.at(tmp_path, None) is None


@pytest.mark.parametrize("seed", range(60))
def test_places_are_walked_to_as_they_are_searched_for(seed, monkeypatch):
    monkeypatch.setattr(stretches, "MANY", 0)
    dice = np.random.default_rng(seed)
    ordered, keys = (dice.integers(-9, 9, dice.integers(0, 30)) for _ in range(2))
    ordered.sort()
    for plain in (True, False)[: 1 + (seed < 20)]:
        with compiled.only(plain=plain):
            assert stretches.place_of(ordered, keys).tolist() == np.searchsorted(ordered, keys).tolist()
            found = stretches.place_of(ordered, keys, behind=True)
        assert found.tolist() == np.searchsorted(ordered, keys, side="right").tolist()
