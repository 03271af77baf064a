"""Counters that are looked at: by hand, and what is played never beyond what paper allows."""

import random
from math import gcd

import numpy as np
import pytest

from attack import attack, toml
from tachys.capture.eventstream import read_event_stream
from tachys.checking.checking import check
from tachys.cli.check import figure_row
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.engine import play_whole
from tachys.simulation.follow import event_times
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.worstcase.analysis import bounds
from test_sentences import MODEL, record

US = 10**6
N = 60
NODE = """
tachys = 1
[core]
clock = "1 MHz"
tolerance = "1 %"
[source.notch]
every = "250 us"
[isr.notch]
on = "source.notch"
cost = "5 us"
[source.sample]
every = "1000 cycles"
[isr.sample]
on = "source.sample"
cost = "5 us"
[loop]
overhead = "2 us"
[step.print]
every = { n = 38, of = "source.notch" }
cost = "20 us"
[counter.turns]
of = "source.notch"
states = 9376
read_by = "step.print.start"
[counter.time]
of = "core"
states = 65536
read_by = "source.sample"
[counter.mixed]
of = "source.notch"
states = 4
read_by = "source.sample"
[counter.each]
of = "source.notch"
states = 10
read_by = "isr.notch.start"
"""


def between_looks(system, name, how, end):
    """(counts between any two looks, values at the looks) as they are played."""
    counter = next(each for each in system.counters if each.name == name)
    _, records, index = play_whole(system, how, end)
    looks = np.unique(np.concatenate([event_times(records, index, event) for event in counter.read_by]))
    if counter.clock is not None:
        seen = [int(at * counter.clock.hertz // 10**12) for at in looks.tolist()]
    else:
        counted = np.sort(event_times(records, index, counter.of))
        seen = np.searchsorted(counted, looks, side="right").tolist()
    begun = np.array(seen[:-1], np.int64) > 0  # from the first count on
    return np.diff(seen)[begun | (counter.clock is not None)], {value % counter.states for value in seen}


def test_a_print_each_38_counts_shows_half_of_all_values():
    found = bounds(read_model(NODE, "m.toml")).counters["turns"]
    assert (found.fewest, found.most, found.missed) == (38, 38, 0)
    assert (gcd(38, 9376), found.shown) == (2, 4688)
    assert found.told == "4688 of 9376 values, 2 apart, each once in 4688 looks; no other ever"
    counts, values = between_looks(read_model(NODE, "m.toml"), "turns", RunOptions(), 40 * 4688 * 250 * US)
    assert set(counts.tolist()) == {38}
    assert values == set(range(0, 9376, 2))  # the first look falls on an even count


def test_what_hangs_on_one_clock_is_exact_whatever_its_tolerance():
    found = bounds(read_model(NODE, "m.toml")).counters
    assert (found["time"].fewest, found["time"].most, found["time"].shown) == (1000, 1000, 65536 // 8)
    # 1 ms, 1 % off, of 250 us: three or four are never few enough for a round, five are one
    assert (found["mixed"].fewest, found["mixed"].most, found["mixed"].missed) == (3, 5, 1)
    assert found["mixed"].told == "any value may stay unseen"
    assert (found["each"].fewest, found["each"].most) == (0, 2)


def test_without_a_firm_distance_there_is_no_limit_and_it_is_said():
    text = NODE.replace('every = "1000 cycles"', 'gap = "1 ms"')
    found = bounds(read_model(text, "m.toml")).counters["time"]
    assert found.most is None
    assert found.missed is None
    assert "sporadic" in found.reason


@pytest.mark.parametrize(
    ("old", "new", "what"),
    [
        ('of = "core"', 'of = "cora"', "names no event or clock"),
        ('read_by = "isr.notch.start"', 'read_by = "isr.notch.begin"', "names no event"),
        ("states = 4\n", "states = 1\n", "greater than or equal to 2"),
    ],
)
def test_what_is_wrong_with_a_counter_is_said(old, new, what):
    with pytest.raises(InputError, match=what):
        read_model(NODE.replace(old, new), "m.toml")


@pytest.mark.parametrize("first", [0, 2_000_000, 1_000_000_000, 4_000_000_000, 16_000_000_000])
def test_no_counter_counts_beyond_its_bounds(first):
    compared = 0
    for seed in range(first, first + N):
        dice, model = random.Random(seed), attack(seed)
        events = [f"source.{name}" for name in model["source"]]
        events += [f"isr.{name}.{dice.choice(['start', 'end'])}" for name in model["isr"]]
        events += [f"step.{name}.start" for name in model.get("step", {})] + ["core"]
        looks = [event for event in events if event != "core"]
        text = toml(model) + "".join(
            f'[counter.c{k}]\nof = "{dice.choice(events)}"\nstates = {dice.choice([2, 3, 7, 100])}\n'
            f"read_by = {dice.sample(looks, min(len(looks), dice.choice([1, 1, 2])))}\n".replace("'", '"')
            for k in range(3)
        )
        try:
            system = read_model(text, "m.toml")
        except InputError:
            continue
        found = bounds(system)
        how = RunOptions(costs=dice.choice(["most", "drawn"]), phases=dice.choice(["together", "drawn"]), seed=seed)
        for counter in system.counters:
            counts, _ = between_looks(system, counter.name, how, 4_000_000)
            paper = found.counters[counter.name]
            played = simulate(system, 4_000_000, how, bounds=found).counters[counter.name]
            if any(step.halt is not None and counter.thing in step.halt.stops for step in system.steps):
                counts = np.array([] if played.most < 0 else [played.least, played.most])
            if len(counts):
                assert (played.least, played.most) == (counts.min(), counts.max()), (seed, counter)
                assert paper.fewest <= counts.min(), (seed, counter)
                assert paper.most is None or counts.max() <= paper.most, (seed, counter)
                compared += 1
    assert compared > 60


STILL = """
tachys = 1
[core]
clock = "1 MHz"
entry = "1 us"
[clock.pll]
rate = "8 MHz"
[sleep.deep]
wake = "90 us"
stops = ["clock.pll"]
[source.notch]
every = "250 us"
offset = "100 us"
[isr.notch]
on = "source.notch"
cost = "5 us"
[loop]
overhead = "2 us"
[step.nap]
sleep = "deep"
[counter.time]
of = "clock.pll"
states = 65536
read_by = "isr.notch.start"
"""


def test_a_counter_whose_clock_stands_still_in_sleep_may_count_nothing():
    system = read_model(STILL, "m.toml")
    found = bounds(system).counters["time"]
    assert found.fewest == 0
    played = simulate(system, 10_000 * US, RunOptions(costs="most")).counters["time"]
    # of 250 us the core is awake for the 5 us of the routine, the entry before the next halt, and a pass of 2 us
    assert found.fewest <= played.least == played.most <= 8 * 9


@pytest.mark.parametrize("name", ["turns", "time", "mixed", "each"])
def test_the_engine_counts_as_its_records_do(name):
    system = read_model(NODE, "m.toml")
    counter = next(each for each in system.counters if each.name == name)
    for how in (RunOptions(phases="together", costs="most"), RunOptions(seed=3), RunOptions(seed=4)):
        counts, _ = between_looks(system, name, how, 300_000 * US)
        played = simulate(system, 300_000 * US, how).counters[name]
        assert (played.least, played.most) == (counts.min(), counts.max())
        assert played.looks == len(counts) + 1
        assert played.missed == sum(count // counter.states for count in counts.tolist())


def test_the_top_is_seen_once_in_4688_looks_if_the_first_falls_on_an_odd_count():
    long = 3 * 4688 * 38 * 250 * US
    assert simulate(read_model(NODE, "m.toml"), long, RunOptions(phases="together")).counters["turns"].tops == 0
    odd = NODE.replace("[step.print]", '[source.late]\nevery = "9500 us"\noffset = "9000 us"\n[step.print]')
    odd = odd.replace('read_by = "step.print.start"', 'read_by = "source.late"')
    assert simulate(read_model(odd, "m.toml"), long, RunOptions(phases="together")).counters["turns"].tops == 3


@pytest.mark.parametrize("seed", range(20))
def test_what_one_clock_counts_drifts_together(seed):
    text = NODE.replace('every = "250 us"', 'every = "250 cycles"')
    played = simulate(read_model(text, "m.toml"), 2_000_000 * US, RunOptions(rates="drawn", seed=seed)).counters
    assert (played["time"].least, played["time"].most) == (1000, 1000)
    assert (played["mixed"].least, played["mixed"].most) == (4, 4)


def test_a_capture_shows_how_many_counts_lie_between_looks():
    model = MODEL + '[counter.edges]\nof = "source.edge"\nstates = 16\nread_by = "step.page.start"\n'
    result = check(read_model(model, "m.toml"), read_event_stream([record().encode()], "board.log"))
    figure = next(each for each in result.figures if each.about == "counter.edges")
    assert (figure.measured.least, figure.measured.most) == (10, 10)
    assert figure.state == "agrees"
    assert figure_row(figure, result.bounds.system.core)[1:4] == ["counts between looks", "0 to 26", "10"]
