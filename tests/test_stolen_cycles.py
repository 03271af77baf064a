"""Units that take the bus from the core: by hand, both machines, on paper, on captures."""

import numpy as np
import pytest

import playing
from boards import on_board
from planted import MS
from tachys.checking.board.unseen import stolen_in
from tachys.demo.analyser import steps
from tachys.demo.machine import Burns, Reply, Task
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

US = 10**6
NODE = """
tachys = 1
[core]
clock = "1 GHz"
levels = 2
[source.work]
every = "1 ms"
offset = "100 us"
[source.go]
every = "1 ms"
offset = "120 us"
[unit.copy]
on = "source.go"
takes = "10 us"
steals = "3 us"
[isr.work]
on = "source.work"
cost = "100 us"
[source.late]
every = "1 ms"
offset = "150 us"
[isr.late]
on = "source.late"
level = 1
cost = "10 us"
"""
MOST = RunOptions(costs="most")


def last(system, name, end=MS):
    _, records, index = play_whole(system, MOST, end)
    rows = [name for name, _ in index.rows]
    chosen = (records.kind == at.LAST) & (records.index == rows.index(name))
    return [time / US for time in records.time[chosen].tolist()]


def test_what_burns_cpu_time_takes_so_much_longer():
    system = read_model(NODE, "m.toml")
    assert last(system, "work") == [203]  # the operation ends at 130, in the middle of it
    assert last(system, "late") == [213]
    found = bounds(system)
    assert found.isrs["work"].response.most == 103 * US
    assert found.isrs["late"].response.most == 113 * US


def test_an_idle_core_loses_nothing():
    text = NODE.replace('offset = "120 us"', 'offset = "500 us"')
    assert last(read_model(text, "m.toml"), "work") == [200]
    seen = simulate(read_model(text, "m.toml"), 10 * MS, MOST)
    assert not seen.shares.get("unit.copy")


def test_what_was_stolen_is_load_and_told_apart():
    seen = simulate(read_model(NODE, "m.toml"), 10 * MS, MOST)
    assert seen.shares["unit.copy"] * 10 * MS == 10 * 3 * US
    assert seen.shares["isr.work"] * 10 * MS == 10 * 100 * US
    load = bounds(read_model(NODE, "m.toml")).load
    assert next(share.most for share in load.shares if share.who == "unit.copy") * MS == 3 * US


def test_a_guard_lasts_longer_too():
    text = NODE + ('[loop]\noverhead = "1 us"\n[step.log]\ncost = "40 us"\nguard = { level = 0, for = "20 us" }\n')
    system = read_model(text.replace('"1 ms"', '"1013 us"'), "m.toml")
    paper = bounds(system)
    assert paper.isrs["work"].latency.most == 23 * US  # a guard of 20, and one operation that ends in it
    for seed in range(4):
        run = playing.played(system, RunOptions(phases="drawn", seed=seed), 200 * MS)
        assert not playing.beaten(paper, run)


@pytest.mark.parametrize("seed", range(6))
def test_no_bound_is_beaten(seed):
    text = (
        NODE.replace('offset = "120 us"\n', "").replace('offset = "150 us"\n', "").replace('"3 us"', '["1 us", "3 us"]')
    )
    text = text.replace('every = "1 ms"\n[unit', 'every = "37 us"\n[unit')
    system = read_model(text, "m.toml")
    run = playing.played(system, RunOptions(phases="drawn", seed=seed), 100 * MS)
    assert not playing.beaten(bounds(system), run)


ASKED = """
[unit.dma]
on = "step.log.start"
takes = ["13 us", "13 us"]
steals = "7 us"
[isr.dma]
on = "unit.dma"
level = 1
cost = "4 us"
[loop]
overhead = "1 us"
[step.log]
every = "31 us"
cost = "18 us"
guard = { level = 1, at = "4 us", for = "12 us" }
"""


@pytest.mark.parametrize("pause", ["", 'pause = "3 us"\n'])
def test_both_machines_agree(pause):
    text = (
        NODE.replace('steals = "3 us"\n', "").replace('[unit.copy]\non = "source.go"\ntakes = "10 us"\n', "")
        + ASKED
        + pause
    )
    text = text.replace('on = "source.late"', 'on = ["source.late"]').replace(
        '[source.go]\nevery = "1 ms"\noffset = "120 us"\n', ""
    )
    assert_agreement(read_model(text, "m.toml"), MOST, 20 * MS)


STEALING = """
[unit.dma]
on = "step.log.start"
takes = ["900 us", "1100 us"]
STEALS
[step.log]
every = "3 ms"
cost = ["1400 us", "1500 us"]
[probe.D2]
shows = "step.log"
[probe.D3]
shows = "unit.dma"
"""


def logged(says, steals=(0, 0), seed=1):
    """What a check says of a board whose step is stood still while hardware copies."""
    task = Task("log", (Burns((1_410 * US, 1_490 * US)),), every=3 * MS)
    reply = Reply("dma", "log", (910 * US, 1_090 * US), steals=steals)

    def lines(truth):
        spans = [change for _, begin, end in truth.answered for change in ((begin, 1), (end, 0))]
        return {"D2": steps(truth, "log"), "D3": spans}

    more = STEALING.replace("STEALS", says)
    return on_board(more, seed, False, (task,), lines, replies=(reply,))[0]


@pytest.mark.parametrize("seed", range(3))
def test_a_body_is_longer_by_what_was_stolen_at_most(seed):
    assert not logged('steals = ["200 us", "250 us"]', (205 * US, 245 * US), seed).findings
    assert not logged('steals = ["0 us", "250 us"]', (0, 0), seed).findings
    named = [(each.about, each.code) for each in logged("", (205 * US, 245 * US), seed).findings]
    assert named[:2] == [("isr.wheel", "cost-longer"), ("step.log", "cost-longer")]  # both are hit


def test_a_unit_without_any_limit_may_have_taken_the_whole_of_a_span():
    counts = 'counts = { n = 2, of = "isr.late.end" }\nrepeats = true\nprimed = true'
    endless = NODE.replace('takes = "10 us"', counts).replace('"3 us"', '"10 ns"')
    endless = endless.replace('on = "source.late"', 'on = ["source.late", "unit.copy"]')
    paper = bounds(read_model(endless, "m.toml"))
    assert stolen_in(paper, np.array([10**12, 0, 5])).tolist() == [10**12, 0, 5]
