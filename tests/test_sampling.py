"""How well the instants of a file are known: the analyser's step, found behind the digits that it was printed with."""

import random
from fractions import Fraction

import numpy as np
import pytest

from tachys.capture.csv import read_csv
from tachys.capture.sampling import step_of
from tachys.capture.vcd import read_vcd
from tachys.checking.board.grid import jitter_of

RATES = ["16", "24", "48", "100", "125", "27.12", "11.0592", "33.333", "14.31818"]  # MHz
UNITS = {"1 ns": 1000, "10 ns": 10_000, "1 us": 1_000_000}


def samples(seed, step, length, lines=3):
    """Per line the samples at which it changes: pulses of a few microseconds at random, or a timer with its latency."""
    dice = random.Random(seed)
    found = []
    for line in range(lines):
        now, edges = dice.randrange(10**9), []
        while now < length:
            edges += [now, now + dice.randrange(2_000_000, 9_000_000)]
            now += 60_000_000 + (dice.randrange(40_000_000) if line else dice.randrange(500_000))
        found.append([int(-(-edge // step)) for edge in edges])
    return found


def text_of(lines, step, unit, form, first=0):
    """The file: times rounded to the nearest ``unit`` ps, or cut down to it."""

    def printed(sample):
        exact = sample * step + first
        return int(exact / unit + Fraction(1, 2)) if first % 2 == 0 else int(exact // unit)

    changes = sorted((sample, number) for number, edges in enumerate(lines) for sample in edges)
    state, rows = [0] * len(lines), {}
    for sample, number in changes:
        state[number] ^= 1
        rows[sample] = tuple(state)
    if form == "vcd":
        tick = {1000: "1 ns", 10_000: "10 ns", 1_000_000: "1 us", 100: "100 ps"}[unit]
        out = [f"$timescale {tick} $end"] + [f"$var wire 1 {c} D{c} $end" for c in "abc"] + ["$enddefinitions $end"]
        out += ["#0 0a 0b 0c"]
        for sample, levels in rows.items():
            out.append(f"#{printed(sample)} " + " ".join(f"{v}{c}" for v, c in zip(levels, "abc", strict=True)))
        return "\n".join(out) + "\n"
    digits = {1000: 9, 10_000: 8, 1_000_000: 6, 100: 10}[unit]
    if form == "samples":
        last, now, out = 4000, (0, 0, 0), []
        for sample in range(last):
            now = rows.get(sample, now)
            out.append((printed(sample), now))
    else:
        out = [(0, (0, 0, 0))] + [(printed(sample), levels) for sample, levels in rows.items()]
    return "Time [s],D0,D1,D2\n" + "".join(
        f"{at // 10**digits}.{at % 10**digits:0{digits}d},{','.join(map(str, levels))}\n" for at, levels in out
    )


def read(text, form):
    return (read_vcd if form == "vcd" else read_csv)([text.encode()], f"x.{form}")


@pytest.mark.parametrize("form", ["vcd", "changes", "samples"])
@pytest.mark.parametrize("unit", UNITS)
@pytest.mark.parametrize("rate", RATES)
def test_the_step_is_found_behind_the_digits(rate, unit, form):
    """Never finer than the analyser's step, and no coarser than that and the last digit of the file together."""
    step, digit = Fraction(10**6) / Fraction(rate), UNITS[unit]
    for seed in (1, 2) if form == "vcd" else (2,):
        first = seed - 1 + 12_345_678 * (seed - 1)  # the second is cut down, and its grid begins anywhere
        found = read(text_of(samples(seed, step, 20_000_000_000), step, digit, form, first), form).known_to
        if step >= 2 * digit:
            assert step - 1 <= found <= step + digit + 20
        elif step <= digit:
            assert digit <= found <= 2 * digit
        else:  # too near to the last digit to be told from it by chance
            assert digit <= found <= step + digit


@pytest.mark.parametrize("form", ["vcd", "changes"])
def test_a_few_instants_and_round_numbers_prove_no_step(form):
    """With fewer than fifty instants, or where a timer alone puts all on round numbers, the last digit counts."""
    step = Fraction(1000, 24) * 1000
    few = [edges[:12] for edges in samples(3, step, 10**9)]
    assert read(text_of(few, step, 1000, form), form).resolution == 1000
    timer = [[k * 24_000 for k in range(1, 400)], [], []]
    assert read(text_of(timer, step, 1000, form), form).resolution == 1000


def test_pulses_of_one_sample_each_show_the_step_even_if_they_are_few():
    """Ten edges of short pulses at 50 kHz; of pulses of another length, or on round numbers, nothing is known."""
    begins = [(440, 610, 1290), (1000, 1580)]
    lines = [np.array([0, *(20_000_000 * (at + k) for at in line for k in (0, 1))]) for line in begins]
    assert step_of(lines, 1000).ps == 20_000_000
    lines[0][2] += 20_000_000
    assert step_of(lines, 1000).ps == 1000


def test_digits_that_grow_coarser_count_as_they_end():
    """Seven digits in all: from 10 s on the last one is ten microseconds."""
    dice, now, rows = random.Random(5), 9.0, []
    while now < 13:
        now += dice.uniform(0.001, 0.02)
        rows.append(f"{now:.7g},{len(rows) % 2}")
    assert read("Time [s],D0\n" + "\n".join(rows) + "\n", "csv").resolution == 10_000_000


def test_a_grid_strays_no_further_than_its_samples_however_wide_the_search_is():
    number = np.arange(1563)
    at = (np.int64(47_123) + number * 160_002_240) // 100_000 * 100_000
    assert jitter_of(at, number, 79.9e6, 160.1e6) < 100_000
