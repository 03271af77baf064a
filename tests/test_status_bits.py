"""Flags that hardware sets: their bounds by hand, who may be named, and a board whose loop polls a status bit."""

import random

import pytest

from boards import UNTIL, first, on_board
from planted import MS, US, _convert, _timer
from tachys.demo.analyser import pulses, steps
from tachys.demo.machine import Burns, Latch, Task
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted
from tachys.worstcase.analysis import bounds

NS = 1000
HEAD = 'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 2\nentry = "2 ns"\nexit = "1 ns"\n'
TICK = '[source.t]\ngap = "1 us"\n[isr.t]\non = "source.t"\nlevel = 0\ncost = "10 ns"\n'
LOOP = '[loop]\noverhead = "3 ns"\n[step.use]\npolls = "done"\ncost = ["5 ns", "20 ns"]\n[step.rest]\ncost = "7 ns"\n'
RING = (
    HEAD
    + TICK
    + '[unit.u]\non = "step.use.end"\ntakes = ["90 ns", "110 ns"]\nprimed = true\n[flag.done]\nset_by = "unit.u"\n'
    + LOOP
)


def test_a_conversion_that_the_loop_restarts_and_polls():
    found = bounds(read_model(RING, "m.toml"))
    # right after the look it is set: a pass without the step itself, interrupted once (2 + 10 + 1)
    assert found.flags["done"].reaction.most == (3 + 7 + 13) * NS
    assert not found.flags["done"].overwritten
    assert not found.units["u"].lost
    assert found.steps["use"].interval.least == (90 + 5) * NS
    # the unit, the reaction, and the step, interrupted once as well
    assert found.steps["use"].interval.most == (110 + 23 + 20 + 13) * NS


def test_it_is_played_to_what_paper_says():
    system, most = read_model(RING, "m.toml"), 0
    for seed in range(40):
        run, _, index = play_whole(system, RunOptions("drawn", "drawn", "gap", seed=seed), 10**9)
        most = max(most, counted(run.memory, index)["flag.done"].most)
    assert 0.8 * bounds(system).flags["done"].reaction.most <= most <= bounds(system).flags["done"].reaction.most


def test_a_source_sets_a_bit_faster_than_the_loop_looks():
    text = HEAD + '[source.s]\nevery = "{} ns"\n[flag.done]\nset_by = "source.s"\n' + LOOP
    for period, lost in ((10, True), (200, False)):
        assert bounds(read_model(text.format(period), "m.toml")).flags["done"].overwritten is lost


RELAY = (
    HEAD + TICK + '[loop]\noverhead = "3 ns"\n[step.answer]\npolls = "due"\ncost = "6 ns"\n'
    '[step.parse]\nevery = "500 ns"\ncost = "8 ns"\nsets = "due"\n[step.rest]\ncost = "7 ns"\n'
)  # fmt: skip


def test_the_end_of_one_step_sets_the_flag_of_another():
    found = bounds(read_model(RELAY, "m.toml"))
    # from the end of the step: what follows it, the overhead, what goes before the other, interrupted once
    assert found.flags["due"].reaction.most == (7 + 3 + 13) * NS
    assert not found.flags["due"].overwritten
    assert found.steps["answer"].interval.most is not None
    order = 'order = ["parse", "answer", "rest"]\n'
    right_behind = bounds(read_model(RELAY.replace("[step.answer]", order + "[step.answer]", 1), "m.toml"))
    assert right_behind.flags["due"].reaction.most == 0
    itself = RELAY.replace('cost = "6 ns"', 'cost = "6 ns"\nsets = "due"')
    assert bounds(read_model(itself, "m.toml")).flags["due"].reaction.most >= (3 + 8 + 7) * NS


@pytest.mark.parametrize(
    ("table", "said"),
    [
        ('[flag.done]\nset_by = "isr.t.end"\n', '"isr.t.end" names no event of a source, unit or buffer'),
        (
            '[flag.done]\nset_by = "source.x"\n',
            '"source.x" names no event of a source, unit or buffer; did you mean "source.t"?',
        ),
        ('[flag.done]\nset_by = "source.t"\ntaken_by = "source.t"\n', "taken_by: unknown key"),
        ('[flag."a b"]\nset_by = "source.t"\n', "this name cannot be used"),
    ],
)
def test_what_a_flag_may_be_set_by(table, said):
    with pytest.raises(InputError, match="flag") as told:
        read_model(HEAD + TICK + table + LOOP, "m.toml")
    assert said in str(told.value)


BIT = """
[source.sample]
every = "250 us"
[unit.adc]
on = "source.sample"
takes = ["9 us", "11 us"]
[flag.done]
set_by = "unit.adc"
[step.use]
polls = "done"
cost = ["20 us", "26 us"]
[need.fresh]
from = "unit.adc"
to = "step.use.start"
within = "150 us"
[need.kept]
of = "flag.done"
lost = 0
[probe.D2]
shows = "source.sample"
edge = "rise"
[probe.D3]
shows = "unit.adc"
[probe.D4]
shows = "step.use"
"""
RELAYED = """
[step.answer]
polls = "due"
cost = ["20 us", "26 us"]
[step.parse]
every = "5 ms"
cost = ["30 us", "40 us"]
sets = "due"
[need.soon]
from = "step.parse.end"
to = "step.answer.start"
within = "150 us"
[probe.D2]
shows = "step.answer"
[probe.D3]
shows = "step.parse"
"""


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize(
    ("fault", "named"),
    [
        ("none", []),
        ("blocking send", [("step.send", "time-longer")]),
        ("longer work", [("step.use", "cost-longer")]),
        ("slow converter", [("unit.adc", "takes-longer")]),
    ],
)
def test_what_is_wrong_on_a_board_that_polls_a_bit_is_named_first(fault, named, seed):
    sample = _timer(250 * US, 1, 61 * US, UNTIL)
    takes = (20 * US, 24 * US) if fault == "slow converter" else (9_200_000, 10_800_000)
    conversions, _ = _convert(random.Random(seed), sample, takes)
    work = (290 * US, 310 * US) if fault == "longer work" else (20_500_000, 25_500_000)
    result, _ = on_board(
        BIT, seed, fault == "blocking send", (Task("use", (Burns(work),), polls="done"),),
        lambda truth: {
            "D2": pulses(sample, 30 * US), "D4": steps(truth, "use"),
            "D3": [change for begin, end in conversions for change in ((begin, 1), (end, 0))],
        },
        latches=(Latch("done", [end for _, end in conversions]),),
    )  # fmt: skip
    assert first(result) == named


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize(
    ("fault", "named"),
    [
        ("none", []),
        ("blocking send", [("step.send", "time-longer")]),
        ("longer answer", [("step.answer", "cost-longer")]),
    ],
)
def test_what_is_wrong_on_a_board_whose_steps_pass_on_flags_is_named_first(fault, named, seed):
    work = (290 * US, 310 * US) if fault == "longer answer" else (20_500_000, 25_500_000)
    parse = Task("parse", (Burns((31 * US, 39 * US)),), every=5 * MS, sets=("due",))
    result, _ = on_board(
        RELAYED, seed, fault == "blocking send", (Task("answer", (Burns(work),), polls="due"), parse),
        lambda truth: {"D2": steps(truth, "answer"), "D3": steps(truth, "parse")},
    )  # fmt: skip
    assert first(result) == named
    assert not result.missed
