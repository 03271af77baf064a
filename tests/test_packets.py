"""Trace packets: by hand, round trips over random streams cut anywhere and joined in the middle, checked against a model."""

import json
import random
import shlex
from fractions import Fraction

import numpy as np
import pytest

from calling import tachys
from tachys import compiled
from tachys.capture.packets import PacketShape, read_packets
from tachys.capture.reading import read_capture
from tachys.checking.checking import check
from tachys.checking.correct.fitting import fit
from tachys.errors import InputError
from tachys.model.loading import read_model

MHZ = PacketShape(Fraction(10**6))  # a tick is a microsecond
SYNC = b"\0\0\0\0\0\x80"
US = 10**6


def exception(number, function):
    return bytes([0x0E, number & 0xFF, number >> 8 | function << 4])


def stamp(ticks, late=0):
    if 1 <= ticks <= 6 and not late:
        return bytes([ticks << 4])
    more = []
    while True:
        more.append(ticks & 0x7F | 0x80)
        ticks >>= 7
        if not ticks:
            break
    return bytes([0xC0 | late << 4, *more[:-1], more[-1] & 0x7F])


def line(capture, name):
    signal = capture.signals[name]
    return [(int(at) // US, int(value)) for at, value in zip(signal.at, signal.value, strict=True)]


def test_by_hand_what_a_core_tells():
    data = SYNC + exception(24, 1) + stamp(3) + exception(15, 1) + stamp(10) + exception(15, 2) + stamp(200)
    data += exception(24, 3) + stamp(1) + exception(24, 2) + stamp(5) + exception(0, 3) + stamp(2)
    found = read_packets([data], "x", MHZ)
    assert line(found, "exception.24") == [(0, -1), (3, 1), (219, 0)]  # high while the other lies on top
    assert line(found, "exception.15") == [(0, -1), (13, 1), (213, 0)]
    assert (found.end, found.resolution, found.gaps) == (221 * US, US, ())
    assert found.remarks == ("core.exit, to what goes on: at least 1.000 us, median 1.500 us, of 2 ends",)


def test_an_overflow_is_a_gap_and_only_what_is_told_again_is_known():
    data = SYNC + exception(20, 1) + stamp(4) + exception(21, 1) + stamp(4) + b"\x70" + stamp(100)
    data += exception(20, 3) + stamp(6) + exception(20, 2) + exception(0, 3) + stamp(6)
    found = read_packets([data], "x", MHZ)
    assert line(found, "exception.20") == [(0, -1), (4, 1), (8, -1), (114, 1), (120, 0)]
    assert line(found, "exception.21") == [(0, -1), (8, 1), (8, -1), (120, 0)]  # entered as the gap began
    assert found.gaps == ((8 * US, 108 * US),)


def test_a_late_stamp_widens_these_events_alone():
    data = SYNC + exception(20, 1) + stamp(4) + exception(20, 2) + exception(21, 1) + stamp(50, late=1)
    found = read_packets([data + exception(21, 2) + stamp(2)], "x", MHZ)
    assert line(found, "exception.20") == [(0, -1), (4, 1), (4, -1), (54, 0)]
    assert line(found, "exception.21") == [(0, -1), (54, 1), (56, 0)]
    assert any("a stamp that is late" in remark for remark in found.remarks)


def test_ports_pages_watched_values_and_what_is_passed_over():
    data = (
        SYNC + b"\x01\x07" + stamp(1) + b"\x0a\x34\x12" + stamp(2) + b"\x18" + b"\x01\x09" + stamp(2)
    )  # port 0, 1; page 1
    data += b"\x8d\x05" + stamp(3) + b"\x94\x85\x01" + b"\xb4\x81\x82\x83\x04" + b"\x05\x20" + b"\x17\1\2\3\4"
    data += b"\x84\x81\x01" + b"\x1f\1\2\3\4" + stamp(4)  # of no known kind, twice
    found = read_packets([data], "x", MHZ)
    assert line(found, "port.0") == [(0, -1), (1, 7)]
    assert line(found, "port.1") == [(0, -1), (3, 0x1234)]
    assert line(found, "port.32") == [(0, -1), (5, 9)]
    assert line(found, "watch.0") == [(0, -1), (8, 5)]
    assert any("2 packets of no kind" in remark for remark in found.remarks)


def random_stream(dice, count):
    """(packets, [(tick, exception, level)])."""
    out, told, now, stack = [SYNC], [], 0, []
    for _ in range(count):
        if stack and dice.random() < 0.5:
            number = stack.pop()
            out.append(exception(number, 2))
            told.append([None, number, 0])
        else:
            number = dice.choice([each for each in (15, 16, 40, 300, 511) if each not in stack] or [None])
            if number is None:
                continue
            stack.append(number)
            out.append(exception(number, 1))
            told.append([None, number, 1])
        if dice.random() < 0.1:
            out.append(bytes([dice.choice([0x09, 0x51]), dice.randrange(256)]))
        ticks = dice.choice([1, 2, 6, 7, 127, 128, 20_000, 3_000_000])
        now += ticks
        out.append(stamp(ticks))
        told[-1][0] = now
        if dice.random() < 0.05:
            out.append(SYNC)
    return out, [tuple(each) for each in told]


def edges(capture):
    found = []
    for name, signal in capture.signals.items():
        if name.startswith("exception."):
            found += [
                (int(at) // US, int(name[10:]), int(level))
                for at, level in zip(signal.at, signal.value, strict=True)
                if level >= 0
            ]
    return sorted(found)


@pytest.mark.parametrize("plain", [True, False])
def test_round_trips_cut_at_every_byte_and_joined_in_the_middle(plain):
    dice = random.Random(4)
    packets, told = random_stream(dice, 300)
    data = b"".join(packets)
    with compiled.checked() if plain else compiled.only(plain=False):
        assert edges(read_packets([data], "x", MHZ)) == sorted(told)
        for cut in range(1, len(data), 1 if len(data) < 400 else 7):
            assert edges(read_packets([data[:cut], data[cut:]], "x", MHZ)) == sorted(told)
        whole = {each[1:] for each in told}
        for cut in range(40, len(data), 13):  # begun in the midst: nothing is told that was not so
            try:
                found = read_packets([data[cut:]], "x", MHZ)
            except InputError:
                continue
            assert {each[1:] for each in edges(found)} <= whole
        assert edges(read_packets([data[5:9] + b"\xff\x13" + data], "x", MHZ)) == sorted(told)


def test_noise_is_never_more_than_one_line():
    dice, told = random.Random(9), []
    packets, _ = random_stream(dice, 200)
    data = b"".join(packets)
    with compiled.checked():
        for _ in range(300):
            broken = bytearray(data)
            for _ in range(dice.randrange(1, 9)):
                place = dice.randrange(len(broken))
                broken[place : place + dice.randrange(3)] = bytes(dice.randrange(256) for _ in range(dice.randrange(3)))
            try:
                found = read_packets([bytes(broken)], "x", MHZ)
            except InputError as error:
                told.append(len(error.problems))
                continue
            for signal in found.signals.values():
                assert (np.diff(signal.at) > 0).all()
    assert set(told) <= {1}


def wild_stream(dice, count):
    """(packets, [[what, number, value, from, to]] in microseconds): several to a stamp, late stamps, overflows, ports."""
    out, told, last, now, waiting = [SYNC], [], 0, 0, []
    for _ in range(count):
        for _ in range(dice.choice([1, 1, 1, 2, 3])):
            kind = dice.choice(["enter", "exit", "return", "port", "watch", "none", "gap"][: dice.choice([3, 6, 7])])
            number, value = dice.choice([15, 16, 300, 511]), dice.randrange(3)
            out.append({
                "enter": exception(number, 1), "exit": exception(number, 2), "return": exception(number, 3),
                "none": exception(0, 3), "port": bytes([number % 4 << 3 | 1, value]), "gap": b"\x70",
                "watch": bytes([0x8D | number % 4 << 4, value]),
            }[kind])  # fmt: skip
            number = number % 4 if kind in ("port", "watch") else number
            waiting.append([kind, number, value])
        late, ticks = dice.choice([0, 0, 0, 0, 1, 2, 3]), dice.choice([0, 1, 2, 6, 127, 5000])
        out.append(stamp(ticks, late) if ticks else bytes([0xC0 | late << 4, 0]))
        now += ticks
        told += [[*each, last if late or each[0] == "gap" else now, now] for each in waiting]
        last, waiting = now, []
    return b"".join(out), told


def as_told(told):
    """The lines that a stream tells of, event by event: {name: [(microseconds, level)]}, -1 unknown."""
    lines, latest, unsaid = {}, {}, True
    for kind, number, *_ in told:
        if kind in ("enter", "exit", "return", "port", "watch"):
            lines.setdefault(f"{kind if kind in ('port', 'watch') else 'exception'}.{number}", [(0, -1)])

    def goes(name, since, at, level):
        rows = lines[name]
        for when, value in ([(max(since, latest.get(name, 0)), -1)] if since < at else []) + [(at, level)]:
            if value != rows[-1][1]:
                rows.append((when, value))
        latest[name] = at

    for kind, number, value, since, at in told:
        if kind == "gap" or (kind == "none" and unsaid):
            for name in lines:
                if kind == "gap" or name.startswith("exception."):
                    goes(name, since, at, -1 if kind == "gap" else 0)
            unsaid = kind == "gap"
        elif kind in ("enter", "return", "exit"):
            goes(f"exception.{number}", since, at, int(kind != "exit"))
        elif kind != "none":
            goes(f"{kind}.{number}", since, at, value)
    return lines


@pytest.mark.parametrize("plain", [True, False])
def test_lines_are_what_is_told_event_by_event(plain):
    for seed in range(60):
        data, told = wild_stream(random.Random(seed), 40)
        with compiled.checked() if plain else compiled.only(plain=False):
            try:
                found = read_packets([data[:50], data[50:]], "x", MHZ)
            except InputError:
                assert not as_told(told)
                continue
        expected = as_told(told)
        assert set(found.signals) == set(expected), seed
        for name, rows in expected.items():
            signal, shown = found.signals[name], list[int]()
            for at, level in zip(signal.at.tolist(), signal.value.tolist(), strict=True):
                assert abs(at // US * US - at) < 100, (seed, name)  # what comes at one tick comes one after the other
                shown.append((at // US, level))
            assert shown == rows, (seed, name)
        gaps = [(since * US, at * US) for kind, _, _, since, at in told if kind == "gap" and since < at]
        assert list(found.gaps) == gaps, seed


def framed(data, stream):
    """16 bytes at a time: the name of the stream, and data whose even bytes give their lowest bit to the last one."""
    out = bytearray(b"\xff\xff\xff\x7f")
    for begin in range(0, len(data), 14):
        part = data[begin : begin + 14]
        row, last = bytearray([stream << 1 | 1]), 0
        for place, byte in enumerate(part, 1):
            if place % 2 == 0:
                last |= (byte & 1) << place // 2
                byte &= 0xFE
            row.append(byte)
        if len(part) < 14:  # nothing of another stream
            at = len(row)
            row += bytes([0x7F << 1 | 1] if at % 2 == 0 else [0, 0x7F << 1 | 1])
            row = row[:16] + bytes(max(0, 15 - len(row)))
        out += bytes(row[:15]) + bytes([last])
    return bytes(out)


def test_frames_of_a_trace_port_are_unwrapped():
    packets, told = random_stream(random.Random(5), 120)
    data = b"".join(packets)
    data += SYNC + b"\x70" * (-len(data + SYNC) % 14)
    found = read_packets([framed(data, 3)], "x", PacketShape(Fraction(10**6), 3))
    assert edges(found) == sorted(told)
    with pytest.raises(InputError, match="no synchronisation"):
        read_packets([framed(data, 3)], "x", PacketShape(Fraction(10**6), 2))


MODEL = """tachys = 1
[core]
clock = "48 MHz"
levels = 2
entry = "12 cycles"
exit = "10 cycles"
[source.tick]
every = "1 ms"
[isr.tick]
on = "source.tick"
level = 1
cost = ["4 us", "6 us"]
exception = 15
[source.wheel]
gap = "300 us"
[isr.wheel]
on = "source.wheel"
level = 0
cost = ["8 us", "9 us"]
exception = 24
[probe.D0]
shows = "isr.wheel"
"""


def wheel_packets(leaves=10, odd=200, chain=0):
    """The packets of 400 turns of the model, one of which runs longer; ``chain``: ticks to a wheel right behind."""
    out, now = [SYNC], 0
    for turn in range(400):
        at = turn * 48_000
        for begin, length, number in ((at, 240, 15), (at + 20_000 + turn * 31 % 997, 400 if turn != odd else 700, 24)):
            out += [exception(number, 1), stamp(begin - now or 1), exception(number, 2), stamp(length)]
            now = max(begin, now + 1) + length
            if chain and number == 15 and turn % 50 == 7:  # its event came meanwhile
                out += [exception(24, 1), stamp(chain), exception(24, 2), stamp(400)]
                now += chain + 400
            out += [exception(0, 3), stamp(leaves)]
            now += leaves
    return b"".join(out)


def checked(model=MODEL, **how):
    data = wheel_packets(odd=-1, **how)
    return check(read_model(model, "m.toml"), read_packets([data], "t.bin", PacketShape(Fraction(48_000_000))))


def test_what_no_pin_shows_is_held_against_the_core():
    """An exit of 10 cycles, and a chain of 6; a return that is broken off takes an exit and an entry at most."""
    model = MODEL.replace("levels = 2\n", 'levels = 2\nchain = "6 cycles"\n')
    assert not checked(model, chain=6).findings
    rows = {each.key: each for each in checked(model, chain=6).figures if each.about == "core"}
    assert (rows["exit"].measured.count, str(rows["exit"].state), str(rows["chain"].state)) == (800, "agrees", "agrees")
    assert rows["chain"].measured.count == 8
    slow = checked(model, leaves=16)
    assert [(each.code, each.about) for each in slow.findings] == [("exit-longer", "core")]
    fitted = fit(model, "m.toml", [slow.capture], "today")
    assert not check(read_model(fitted.text, "m.toml"), slow.capture).findings
    assert [each.code for each in checked(model, leaves=5).findings] == ["exit-shorter"]
    assert not checked(model, chain=12 + 10).findings, "one that came as the core left"
    assert [(each.code, each.about) for each in checked(model, chain=30).findings] == [("chain-longer", "core")]
    needed = model + '[need.soon]\nfrom = "source.wheel"\nto = "isr.wheel.start"\nwithin = "20 us"\n'
    assert str(checked(needed).needs["soon"].verdict) == "met"
    assert str(checked(needed, leaves=600).needs["soon"].verdict) == "at risk"


def test_a_model_is_checked_against_packets():
    system = read_model(MODEL, "m.toml")
    found = check(system, read_packets([wheel_packets()], "t.bin", PacketShape(Fraction(48_000_000))))
    assert [(each.code, each.about) for each in found.findings] == [("cost-longer", "isr.wheel")]
    assert found.isrs["tick"].runs == 399  # all but the one that was not seen to begin


def test_packets_are_recorded_as_they_come(tmp_path):
    (tmp_path / "m.toml").write_text(MODEL)
    (tmp_path / "from.bin").write_bytes(wheel_packets())
    words = ("--trace-clock", "192 MHz", "--prescale", "4")
    done = tachys(tmp_path, "record", "m.toml", "from.bin", "-o", "run.packets", *words)
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "run.packets").read_bytes() == wheel_packets()
    next_one = done.stdout.replace("\n", " ").partition("Next: tachys ")[2]
    told = tachys(tmp_path, *shlex.split(next_one), "--format", "json")
    assert [each["about"] for each in json.loads(told.stdout)["findings"]] == ["isr.wheel"]
    live = tachys(tmp_path, "record", "m.toml", "from.bin", "-o", "run.packets", *words, "--live")
    assert live.returncode == 2
    (tmp_path / "noise.bin").write_bytes(bytes(range(256)) * 40)
    wrong = tachys(tmp_path, "record", "m.toml", "noise.bin", "-o", "run.noise", *words)
    assert (wrong.returncode, (tmp_path / "run.noise").exists()) == (2, True)


def test_an_event_stream_keeps_numbers_and_gaps(tmp_path):
    data = SYNC + exception(20, 1) + stamp(4) + b"\x01\x07" + stamp(6) + exception(21, 1) + stamp(5)
    data += b"\x70" + stamp(100)
    data += exception(20, 3) + stamp(6) + exception(20, 2) + exception(0, 3) + stamp(6)
    (tmp_path / "t.bin").write_bytes(data)
    done = tachys(tmp_path, "convert", "t.bin", "t.events", "--trace-clock", "1 MHz")
    assert done.returncode == 0, done.stderr
    first, again = read_packets([data], "x", MHZ), read_capture(tmp_path / "t.events")
    assert [value for _, value in line(again, "port.0") if value >= 0] == [7]
    assert len(again.gaps) == 1
    (begin, end), (a, b) = first.gaps[0], again.gaps[0]
    assert (a <= begin, b >= end) == (True, True)
    assert line(again, "exception.20")[-2:] == line(first, "exception.20")[-2:]
