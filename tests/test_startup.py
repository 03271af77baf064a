"""The start-up before the first pass: by hand, played, on both machines, on a board that is captured from its reset on."""

import random

import numpy as np
import pytest
from msgspec.structs import replace

from boards import UNTIL, first, on_board
from calling import tachys
from planted import MS, US
from playing import beaten, played
from tachys.checking.checking import check
from tachys.checking.out.explaining import explain_finding
from tachys.checking.out.telling import finding_text
from tachys.demo.analyser import Analyser, pulses, steps
from tachys.demo.machine import Burns, Hold, Latch, Task
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

NS = 1000
HEAD = 'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 2\nentry = "2 ns"\nexit = "1 ns"\n'
UP = HEAD + (
    '[source.t]\nevery = "100 ns"\n[isr.t]\non = "source.t"\nlevel = 0\ncost = "10 ns"\nsets = "f"\n'
    '[startup]\ncost = "250 ns"\nguard = { level = 0, for = "60 ns" }\n[loop]\noverhead = "4 ns"\n'
    '[step.use]\npolls = "f"\ncost = "5 ns"\n[step.tick]\nevery = "400 ns"\ncost = "7 ns"\n'
    '[watchdog]\nfed_by = "step.tick.start"\ntimeout = "1 us"\n'
)


def test_what_waits_for_the_start_up():
    found = bounds(read_model(UP, "m.toml"))
    # held off for 60 ns, then entered; one event in that time is remembered, and it is the only one
    assert found.isrs["t"].latency.most == (60 + 2) * NS
    assert found.isrs["t"].lost is False
    # interrupted at 0, 100 and 200 ns, 13 each; set 12 ns after the first event at the earliest, and taken after the
    # start-up, the overhead and the other step, with four interrupts from 0 to 313
    assert found.steps["startup"].duration.most == (250 + 3 * 13) * NS
    assert found.flags["f"].reaction.most == (250 + 4 + 7 + 4 * 13 - 12) * NS
    assert found.flags["f"].overwritten
    # once it is over: a pass, with one interrupt in it and one at its end
    assert found.flags["f"].passing.most == (4 + 5 + 7 + 13 - 12) * NS
    assert found.steps["tick"].interval.most == (400 + 4 + 5 + 13) * NS
    # the watchdog counts from time zero, the timer from the end of the start-up
    assert found.needs["watchdog"].bound == (250 + 3 * 13 + 400 + 4 + 5 + 13) * NS
    assert found.needs["watchdog"].proved


def test_what_comes_twice_while_it_holds_off_is_lost():
    assert bounds(read_model(UP.replace('every = "100 ns"', 'every = "58 ns"'), "m.toml")).isrs["t"].lost


def test_it_is_played_to_what_paper_says_and_no_further():
    system, most = read_model(UP, "m.toml"), {}
    found = bounds(system)
    for seed in range(200):
        run = played(system, RunOptions("most", "drawn" if seed else "together", "gap", seed=seed), 10**6)
        assert not beaten(found, run)
        for name, seen in counted(run.memory, run.index).items():
            most[name] = max(most.get(name, 0), seen.most)
    assert 0.8 * found.flags["f"].reaction.most <= most["flag.f"]
    assert 0.8 * found.isrs["t"].latency.most <= most["isr.t.latency"]
    assert 0.8 * found.steps["startup"].duration.most <= most["step.startup.duration"]


def test_timers_count_from_its_end():
    _, records, index = play_whole(read_model(UP.replace("[source.t]\nevery", "[source.t]\ngap"), "m.toml"),
                                   RunOptions("most", "together", "gap"), 10**6)  # fmt: skip
    tick = (records.kind == at.STEP_START) & (records.index == index.steps.index("tick"))
    ended = records.time[(records.kind == at.STEP_END) & (records.index == index.steps.index("startup"))]
    assert len(ended) == 1
    assert 400 * NS <= records.time[tick][0] - ended[0] <= (400 + 4 + 5 + 13) * NS


def test_only_what_can_come_before_the_loop_waits_for_it():
    text = UP.replace('sets = "f"', 'sets = "g"').replace('polls = "f"', 'polls = "f"\nsets = "h"')
    text += '[unit.u]\non = "step.tick.end"\ntakes = "3 ns"\n[flag.f]\nset_by = "unit.u"\n[step.last]\npolls = "g"\ncost = "1 ns"\n'
    found = bounds(read_model(text, "m.toml"))
    assert found.flags["f"].reaction.most < 100 * NS  # a step has begun what sets it
    assert found.flags["g"].reaction.most > 250 * NS


@pytest.mark.parametrize("seed", range(8))
def test_both_machines_start_up_alike(seed):
    dice = random.Random(seed)
    text = UP.replace('"250 ns"', f'"{dice.randint(70, 600)} ns"').replace(
        'for = "60 ns"', dice.choice(['for = "60 ns"', 'for = "all"'])
    )
    text = text.replace('every = "400 ns"', f'every = "400 ns"\nrearm = "{dice.choice(["grid", "skip", "now"])}"')
    assert_agreement(read_model(text, "m.toml"), RunOptions(seed=seed), 10**7)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda text: text.replace("[loop]", "[loops]"), "comes before the first pass of a loop; add"),
        (lambda text: text + '[step.startup]\ncost = "1 ns"\n', "the start-up is no step; write"),
        (lambda text: text.replace('for = "60 ns"', 'for = "300 ns"'), "lasts beyond the end of the body"),
        (lambda text: text.replace('[startup]\ncost = "250 ns"', "[startup]"), "startup.cost: is missing"),
        (lambda text: text.replace('[startup]\ncost = "250 ns"', '[startup]\ncost = "0 ns"'), "a start-up takes some time"),
        (lambda text: text.replace("[startup]\n", "[startup]\nevery = '3 ms'\n"), "unknown key"),
    ],
)  # fmt: skip
def test_what_a_start_up_may_say(change, said):
    with pytest.raises(InputError, match=said):
        read_model(change(UP), "m.toml")


def test_it_can_be_left_out():
    assert bounds(read_model(UP, "m.toml", settings=["startup=false"])).flags["f"].passing is None
    with pytest.raises(InputError, match='"nothing=false" is no setting'):
        read_model(UP, "m.toml", settings=["nothing=false"])


BOARD = """
[startup]
cost = ["59 ms", "63 ms"]
guard = { level = 1, for = "3 ms" }
[source.sample]
every = "4 ms"
[flag.fresh]
set_by = "source.sample"
[step.use]
polls = "fresh"
cost = ["20 us", "26 us"]
[need.soon]
from = "source.sample"
to = "step.use.start"
within = "70 ms"
age = true
[probe.D2]
shows = "source.sample"
edge = "rise"
[probe.D3]
shows = "step.startup"
[probe.D4]
shows = "step.use"
"""


@pytest.mark.parametrize("seed", [1])
@pytest.mark.parametrize(
    ("fault", "named"),
    [
        ("none", []),
        ("no line", []),
        ("slow start-up", [("step.startup", "cost-longer")]),
        ("longer work", [("step.use", "cost-longer")]),
        ("blocking send", [("step.send", "time-longer")]),
    ],
)
def test_a_start_up_that_is_captured(fault, named, seed):
    sample = list(range(3 * MS, UNTIL, 4 * MS))
    work = (90 * US, 95 * US) if fault == "longer work" else (20_500_000, 25_500_000)
    cost = (80 * MS, 81 * MS) if fault == "slow start-up" else (60 * MS, 62 * MS)
    use = Task("use", (Burns(work),), polls="fresh")
    begin = Task("startup", (Burns(cost, (Hold(1, 0, 3 * MS),)),), once=True)
    text = BOARD if fault != "no line" else BOARD.replace('[probe.D3]\nshows = "step.startup"\n', "")
    result, truth = on_board(
        text, seed, fault == "blocking send", (use, begin),
        lambda truth: {"D2": pulses(sample, 30 * US), "D4": steps(truth, "use")}
        | ({} if fault == "no line" else {"D3": steps(truth, "startup")}),
        latches=(Latch("fresh", sample),), analyser=Analyser(100_000, -11, -2 * MS, 400 * MS),
    )  # fmt: skip
    assert [name for name, *_ in truth.steps].count("startup") == 1
    assert first(result) == named, result.findings
    assert not result.missed


def again(capture, times):
    """A capture so many times, one behind the other: a board that is reset, or switched off and on."""

    def repeated(signal):
        shift = np.repeat(np.arange(times) * (capture.length + MS), len(signal.at))
        return replace(
            signal, at=np.tile(signal.at, times) + shift, value=np.tile(signal.value, times),
            known=np.tile(signal.known, times),
        ).without_repeats()  # fmt: skip

    signals = {name: repeated(signal) for name, signal in capture.signals.items()}
    return replace(capture, signals=signals, end=capture.end + (times - 1) * (capture.length + MS))


def test_a_board_that_is_reset_is_said_to_be_and_nothing_else():
    sample = list(range(3 * MS, UNTIL, 4 * MS))
    use = Task("use", (Burns((20_500_000, 25_500_000)),), polls="fresh")
    begin = Task("startup", (Burns((60 * MS, 62 * MS), (Hold(1, 0, 3 * MS),)),), once=True)
    once, _ = on_board(
        BOARD, 0, False, (use, begin),
        lambda truth: {"D2": pulses(sample, 30 * US), "D4": steps(truth, "use"), "D3": steps(truth, "startup")},
        latches=(Latch("fresh", sample),), analyser=Analyser(100_000, -11, -2 * MS, 400 * MS),
    )  # fmt: skip
    whole = again(once.capture, 3)
    result = check(once.bounds.system, whole)
    assert [(each.about, each.code, each.measured) for each in result.findings] == [("step.startup", "was-reset", 2)]
    assert finding_text(result.findings[0]) == "step.startup: it began anew: the board was reset 2 times"
    assert not result.missed
    assert "the board was reset 2 times" in result.remarks[0]
    assert result.steps["startup"].own.count == 3
    explained = explain_finding(result, 1)
    assert explained.result.capture.end < whole.length // 2


def test_what_was_measured_of_a_start_up_is_written_into_its_table(tmp_path):
    assert tachys(tmp_path, "new", "given", "--like", "brooder").returncode == 0
    done = tachys(tmp_path, "fit", "given/model.toml", "given/board.vcd", "--write")
    assert done.returncode == 0, done.stderr
    assert 'cost = ["11 ms", "30.66 ms"]' in (tmp_path / "given" / "model.toml").read_text()
    told = tachys(tmp_path, "check", "given/model.toml", "given/board.vcd")
    assert "nothing refuted" in told.stdout
    room = tachys(tmp_path, "headroom", "given/model.toml", "startup.cost")
    assert room.returncode in (0, 1), room.stderr
