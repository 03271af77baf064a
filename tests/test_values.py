"""Values of buses and reals as they stand in a file: 64 bits to the last one, what is unknown a place of its own."""

import struct

import pytest

from calling import capture_bytes
from tachys.capture.csv import read_csv
from tachys.capture.inspecting import add_bus, held_values, levels_at, masked
from tachys.capture.parquet import read_parquet
from tachys.capture.table import Capture, make_signal
from tachys.capture.vcd import read_vcd
from tachys.errors import InputError

WIDE = [0, 2**64 - 1, None, 2**63, 1, 2**62 + 3, 2**64 - 2, None]
HEAD = "$timescale 1 ns $end $var wire {} ! bus $end $enddefinitions $end\n"


def values_of(capture: Capture, name: str = "bus") -> list[object]:
    signal = capture.signals[name]
    return [signal.number(place) for place in range(len(signal.at))]


def dump(width: int, values: list[int | None]) -> bytes:
    changes = (f"#{10 * n}\nb{'x' if v is None else format(v, 'b')} !\n" for n, v in enumerate(values))
    return (HEAD.format(width) + "".join(changes)).encode()


@pytest.mark.parametrize("width", [63, 64, 65, 200])
def test_a_dump_keeps_64_bits(width: int) -> None:
    """Whatever was declared, values that fit 64 bits are read as they stand, and -1 is not unknown."""
    fitting = [v if v is None else v % 2 ** min(64, width) for v in WIDE]
    assert values_of(read_vcd([dump(width, fitting)], "wide.vcd")) == fitting


def test_a_value_beyond_64_bits_is_an_error_that_says_so() -> None:
    """It is neither cut nor called wider than it was declared."""
    with pytest.raises(InputError, match=r":3: a value of bus has 65 bits.*64"):
        read_vcd([dump(128, [2**64])], "wide.vcd")


def test_a_table_keeps_64_bits() -> None:
    """Decimal and hexadecimal, the largest too; one more is an error with its row."""
    rows = "".join(f"{n},{'x' if v is None else v if n % 2 else hex(v)}\n" for n, v in enumerate(WIDE))
    assert values_of(read_csv([b"Time [us],bus\n" + rows.encode()], "wide.csv")) == WIDE
    for beyond in (str(2**64), hex(2**64), "99999999999999999999999999"):
        with pytest.raises(InputError, match=r":3: .*64 bits"):
            read_csv([f"Time [us],bus\n0,1\n1,{beyond}\n2,0\n".encode()], "wide.csv")


@pytest.mark.parametrize("form", [".vcd", ".csv", ".parquet"])
def test_written_and_read_again(form: str) -> None:
    """Every form gives back the values that it was given."""
    bus = make_signal("bus", 64, range(0, 80_000, 10_000), WIDE)
    written = capture_bytes(Capture("-", {"bus": bus}, 0, 90_000, 10_000), "again" + form)
    read = {".vcd": read_vcd, ".csv": read_csv, ".parquet": read_parquet}[form]
    assert values_of(read([written], "again" + form)) == WIDE


def test_wide_values_in_what_is_made_of_them() -> None:
    """Levels, values held, a bus of 64 lines and the parts of a vector know the highest bit."""
    wide = make_signal("bus", 64, [0, 10, 20], [2**64 - 1, None, 2**63])
    capture = Capture("-", {"bus": wide}, 0, 30, 1)
    assert levels_at(capture, 5) == {"bus": 2**64 - 1}
    assert levels_at(capture, 15) == {"bus": None}
    assert {held.value for held in held_values(capture, wide)} == {2**64 - 1, 2**63, None}
    assert values_of(masked(capture, "top", "bus", 1 << 63, 63), "top") == [1, None, 1]
    assert values_of(masked(capture, "all", "bus", 2**64 - 1), "all") == [2**64 - 1, None, 2**63]
    lines = {f"D{n}": make_signal(f"D{n}", 1, [0, 10], [1, n // 63]) for n in range(64)}
    assert values_of(add_bus(Capture("-", lines, 0, 30, 1), "b", list(lines)), "b") == [2**64 - 1, 2**63]


def test_reals_in_a_table() -> None:
    """A column that holds a number that is no level is real throughout, each value to its last bit."""
    rows = ["0,0,1", "1,3.2999999523162842,0", "2,-1,1", "3,,0", "4,nan,1", "5,1e-3,0", "6,3,1"]
    read = read_csv([("Time [us],volts,D1\n" + "\n".join(rows) + "\n").encode()], "analog.csv")
    assert values_of(read, "volts") == [0.0, 3.2999999523162842, -1.0, None, 0.001, 3.0]
    assert values_of(read, "D1") == [1, 0, 1, 0, 1, 0, 1]
    comma = read_csv([b"Time [us];volts\n0,0;0,5\n1,5;2,25\n"], "comma.csv")
    assert values_of(comma, "volts") == [0.5, 2.25]


def test_a_level_that_becomes_a_number_late() -> None:
    """What was read as levels before is the same number."""
    rows = "".join(f"{n},{n % 2}\n" for n in range(1000))
    read = read_csv([("Time [us],a\n" + rows).encode(), b"1000,0.5\n1001,1\n1002,x\n"], "late.csv")
    assert values_of(read, "a") == [float(n % 2) for n in range(1000)] + [0.5, 1.0, None]


def test_numbers_of_many_kinds() -> None:
    """Against the machine's own reading of the same text."""
    texts = ["0.1", "1.7976931348623157e308", "-2.5e-3", "123456789.123456789", "4.9e-324", "+7.25", "1e22", ".5", "5."]
    rows = "".join(f"{n},{text}\n" for n, text in enumerate(texts))
    found = values_of(read_csv([("Time [us],v\n" + rows).encode()], "many.csv"), "v")
    assert [struct.pack("d", value) for value in found] == [struct.pack("d", float(text)) for text in texts]
