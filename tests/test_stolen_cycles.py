"""Units that take the bus from the core: by hand, both machines, on paper, on captures."""

import pytest

import playing
from planted import MS
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.worstcase.analysis import bounds

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
