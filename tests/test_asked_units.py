"""Units that take one item out of a buffer at an event: registers that are loaded, channels that a timer asks."""

import json
from fractions import Fraction

import pytest

from boards import UNTIL, first, on_board
from calling import tachys
from planted import ANALYSER
from tachys.demo.analyser import busy, pulses
from tachys.demo.machine import Routine, Store
from tachys.model.loading import read_model
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted, levels, losses
from tachys.worstcase.analysis import bounds

US, MS = 10**6, 10**9
HEAD = 'tachys = 1\n[core]\nclock = "48 MHz"\nentry = "0 ns"\nexit = "0 ns"\n'
# a control routine writes a duty each 50 us; the output's own timer, 1 % off, loads it at the end of its period
DUTY = HEAD + (
    '[source.control]\nevery = "{control} us"\n[isr.control]\non = "source.control"\ncost = ["4 us", "6 us"]\n'
    '[source.period]\nevery = "{period} us"\ntolerance = "1 %"\n'
    '[buffer.duty]\ndepth = 1\nfull = "overwrite"\nfed_by = "isr.control.end"\n'
    '[unit.load]\non = "source.period"\ndrains = "buffer.duty"\ntakes = "1 cycles"\n'
    '[need.fresh]\nof = "unit.load"\nlost = {stale}\n[need.kept]\nof = "buffer.duty"\nlost = 0\n'
    '[need.late]\nfrom = "isr.control.end"\nto = "unit.load.start"\nwithin = "60 us"\n'
)


def of(control, period, stale=2):
    return bounds(read_model(DUTY.format(control=control, period=period, stale=stale), "m.toml"))


def test_a_register_is_overwritten_where_it_is_loaded_too_seldom():
    # loads are 50 / 0.99 = 50.505 us apart at most, writes 50 - 2 = 48 us at least: two can come between two loads
    paper = of(50, 50)
    duty = paper.buffers["duty"]
    assert duty.reaction.most == -(-50 * US * 100 // 99)
    assert (duty.level, duty.lost) == (None, True)  # and in the long run ever more
    # and 52 us at most, loads 49.505 us at least: a load may find nothing new
    assert paper.units["load"].lost
    assert not paper.needs["fresh"].proved


def test_a_register_that_is_loaded_more_often_is_never_overwritten_and_one_less_often_never_stale():
    often, seldom = of(50, 40), of(50, 60)
    assert (often.buffers["duty"].level, often.buffers["duty"].lost, often.units["load"].lost) == (1, False, True)
    assert often.needs["kept"].proved
    assert seldom.buffers["duty"].lost
    # the first write comes 50 us and its response after the first instant: till then loads find nothing
    fresh = seldom.needs["fresh"]
    assert (fresh.bound, fresh.proved) == (1, True)


@pytest.mark.parametrize("period", [40, 50, 60])
def test_loads_are_played(period):
    system, paper = read_model(DUTY.format(control=50, period=period, stale=2), "m.toml"), of(50, period)
    longest, stale, gone = 0, 0, 0
    for seed in range(8):
        run, _, index = play_whole(system, RunOptions("drawn", "drawn", "gap", seed=seed), 400 * MS)
        lost = losses(run.memory, index)
        longest = max(longest, counted(run.memory, index)["buffer.duty.time"].most)
        stale, gone = max(stale, lost["unit.load"]), max(gone, lost["buffer.duty"])
        assert levels(run.memory, index)["duty"] == 1
    assert 0.8 * paper.buffers["duty"].time.most <= longest <= paper.buffers["duty"].time.most
    assert (gone > 0, stale > 2) == (period == 60, period == 40)  # a play has no tolerances: 50 us meet 50 us
    fresh = paper.needs["fresh"].bound
    assert fresh is None or stale <= fresh


def test_a_channel_that_a_timer_asks():
    # 8 values at once each millisecond, one is taken each 100 us: the eighth waits for eight, 800 us
    text = HEAD + (
        '[source.block]\nevery = "1 ms"\n[source.tick]\nevery = "100 us"\n'
        '[buffer.out]\ndepth = 8\nfed_by = { event = "source.block", items = 8 }\n'
        '[unit.dac]\non = "source.tick"\ndrains = "buffer.out"\ntakes = "2 us"\n'
    )
    out = bounds(read_model(text, "m.toml")).buffers["out"]
    assert (out.level, out.lost, out.reaction.most) == (8, False, 800 * US)


# a bus of two wires: each tick sets eight bytes going, the routine at the end of each the next; between them it waits
BUS = HEAD + (
    '[source.tick]\nevery = "{tick} us"\n[isr.tick]\non = "source.tick"\ncost = "3 us"\n'
    '[buffer.bytes]\ndepth = 8\nfed_by = {{ event = "isr.tick.start", items = 8 }}\n'
    '[unit.bus]\non = ["isr.tick.end", "isr.bus.end"]\ndrains = "buffer.bytes"\ntakes = ["4 us", "90 us"]\n'
    '[isr.bus]\non = "unit.bus"\ncost = ["2 us", "5 us"]\nnth = {{ n = 8, sets = ["done"] }}\n'
    '[loop]\noverhead = "1 us"\n[step.judge]\npolls = "done"\ncost = "50 us"\n'
)


def test_a_transfer_that_its_own_routine_sets_going():
    # the first is taken as the tick's routine ends, 3 us; a byte takes 90 us, its routine 5 us behind a tick of 3 us
    system = read_model(BUS.format(tick=10_000), "m.toml")
    paper = bounds(system)
    line, routine = paper.buffers["bytes"], paper.isrs["bus"]
    assert (line.level, line.lost, line.reaction.most) == (8, False, (3 + 7 * 98) * US)
    # one byte may end 4 us after the routine for the one before asked for it, which the routine for it follows alone
    assert (routine.lost, routine.pending_needed, routine.response.most) == (False, 1, 8 * US)
    assert paper.reach.events.curve("unit.bus.end").rate() == Fraction(8, 10 * MS)
    assert not paper.flags["done"].overwritten
    assert paper.load.most == Fraction(3 + 8 * 5 + 50 + 1, 10_000)  # and what a pass takes in which it judges
    longest = 0
    for seed in range(4):
        for costs in ("most", "drawn"):
            run, _, index = play_whole(system, RunOptions(costs, "drawn", "gap", seed=seed), 400 * MS)
            assert losses(run.memory, index)["isr.bus"] == losses(run.memory, index)["buffer.bytes"] == 0
            longest = max(longest, counted(run.memory, index)["buffer.bytes.time"].most)
    assert 0.95 * line.reaction.most <= longest <= line.reaction.most


def test_a_transfer_that_is_not_over_as_the_next_begins_may_have_two_going():
    # 784 us, the last byte and its run are 882 us; the routine of a tick begins up to 5 us late
    assert not bounds(read_model(BUS.format(tick=1_100), "m.toml")).isrs["bus"].lost
    assert bounds(read_model(BUS.format(tick=880), "m.toml")).isrs["bus"].lost


@pytest.mark.parametrize("event", ["isr.bus.start", "isr.bus.end"])
def test_a_transfer_that_feeds_itself_has_no_end(event):
    paper = bounds(read_model(BUS.format(tick=10_000).replace("isr.tick.start", event), "m.toml"))
    assert (paper.buffers["bytes"].level, paper.isrs["bus"].lost, paper.isrs["tick"].lost) == (None, True, False)


@pytest.mark.parametrize("items", [7, 8, 9])
def test_a_transfer_of_more_or_fewer_bytes_is_told(items, tmp_path):
    model = BUS.format(tick=10_000).replace("0 ns", "12 cycles").replace("depth = 8", "depth = 9")
    model += '[need.told]\nfrom = "source.tick"\nto = "step.judge.end"\nwithin = "5 ms"\n'
    model += '[probe.D0]\nshows = "isr.tick"\n[probe.D1]\nshows = "isr.bus"\n[probe.D2]\nshows = "step.judge"\n'
    (tmp_path / "board.toml").write_text(model.replace("items = 8", f"items = {items}"))
    (tmp_path / "m.toml").write_text(model)
    assert tachys(tmp_path, "simulate", "board.toml", "--for", "400 ms", "--probes", "-o", "o.vcd").returncode == 0
    told = json.loads(tachys(tmp_path, "check", "m.toml", "o.vcd", "--format", "json").stdout)
    assert [(found["about"], found["code"]) for found in told["findings"]] == (
        [] if items == 8 else [("isr.bus", "transfer-other")]
    )
    assert told["needs"]["told"]["verdict"] == ("met" if items == 8 else "at risk")
    if items != 8:
        assert f"39 of 39 times {items} runs follow isr.tick, by the model 8" in told["findings"][0]["text"]


BOARD = """
[source.control]
every = "1 ms"
[isr.control]
on = "source.control"
level = 1
cost = ["8 us", "12 us"]
[source.period]
every = "700 us"
tolerance = "100 ppm"
[buffer.duty]
depth = 1
full = "overwrite"
fed_by = "isr.control.end"
[unit.load]
on = "source.period"
drains = "buffer.duty"
takes = "1 us"
[need.kept]
of = "buffer.duty"
lost = 0
[need.soon]
from = "source.control"
to = "unit.load.start"
within = "800 us"
[probe.D2]
shows = "isr.control"
[probe.D3]
shows = "source.period"
edge = "rise"
[probe.D4]
shows = "source.control"
edge = "rise"
"""


@pytest.mark.parametrize(
    ("fault", "named"),
    [
        ("none", []),
        ("slow period", [("source.period", "period-off")]),
        ("slow control", [("isr.control", "cost-longer")]),
    ],
)
def test_a_register_on_a_board(fault, named):
    control = list(range(17 * US, UNTIL, 1 * MS))
    period = list(range(5 * US, UNTIL, 1_300 * US if fault == "slow period" else 700 * US))
    cost = (200 * US, 210 * US) if fault == "slow control" else (8_300_000, 11_700_000)
    writes = Routine("control", 1, control, cost, puts="duty")
    result, truth = on_board(BOARD, 1, False, [], lambda truth: {
        "D2": busy(truth, "control"), "D3": pulses(period, 30 * US), "D4": pulses(control, 30 * US)},
        routines=(writes,), stores=(Store("duty", 1, sent_in=(1 * US, 1 * US), sent_at=period, round=True),))  # fmt: skip
    assert first(result) == named, result.findings
    lost = sum(name == "duty" and ANALYSER.begin < at < ANALYSER.begin + ANALYSER.length for name, at in truth.lost)
    assert result.buffers["duty"].lost <= lost
    assert (result.buffers["duty"].lost > 0.8 * lost) == (fault == "slow period") == (lost > 0)
    assert result.needs["soon"].seen.count > 100
    assert str(result.needs["kept"].verdict) == ("missed" if lost else "met" if fault == "none" else "at risk")
