"""Units that count events in place of time: software timers on a tick, time-outs, decimators."""

import pytest

from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.engine import play_whole
from tachys.simulation.follow import event_times
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

NS, US = 1000, 10**6
MOST = RunOptions("most", "together", "gap")
TICK = (
    'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 3\nentry = "0 ns"\nexit = "0 ns"\n'
    '[source.tick]\nevery = "100 ns"\noffset = "0 ns"\n[isr.tick]\non = "source.tick"\nlevel = 1\ncost = "10 ns"\n'
)
SECOND = TICK + (
    '[unit.second]\ncounts = { n = 5, of = "isr.tick.end" }\nrepeats = true\nprimed = true\n'
    '[isr.second]\non = "unit.second"\nlevel = 2\ncost = "20 ns"\n'
)
LIMIT = TICK + (
    '[source.ask]\nevery = "1 us"\noffset = "250 ns"\n'
    '[unit.limit]\non = "source.ask"\ncounts = { n = 3, of = "isr.tick.end" }\n'
)


def told(text, event, until, how=MOST):
    """When an event comes, in ns."""
    _, seen, index = play_whole(read_model(text, "m.toml"), how, until * NS)
    return [int(each) // NS for each in event_times(seen, index, event)]


def test_a_timer_of_five_ticks_begins_anew_by_itself():
    assert told(SECOND, "unit.second.end", 1500) == [410, 910, 1410]
    assert told(SECOND, "unit.second.start", 1500) == [0, 410, 910, 1410]
    assert told(SECOND, "isr.second.start", 1500) == [410, 910, 1410]


def test_its_pace_is_that_of_five_ticks():
    # a tick that is 1 % fast comes each 100 / 1.01 ns: five of them, and what the routine's end varies (at most 20 later,
    # where nothing holds it off it is never later at all)
    text = SECOND.replace('every = "100 ns"', 'every = "100 ns"\ntolerance = "1 %"')
    paper = bounds(read_model(text, "m.toml"))
    curve = paper.reach.events.curve("unit.second.end")
    assert curve.least_span(2) == 500_000 * 100 // 101
    assert paper.units["second"].time.least == 400_000 * 100 // 101  # it may begin just before a tick
    assert not paper.units["second"].lost
    share = next(each for each in paper.load.shares if each.who == "isr.second")
    assert float(share.most) == pytest.approx(20 / 500 * 1.01)
    assert paper.reach.gap("unit.second.end") <= 5 * (100_000 * 100 // 99 + 10_001)
    assert float(share.least) == pytest.approx(20 / 500 * 0.99)


def test_needs_on_its_pace():
    text = SECOND + '[need.pace]\nof = "isr.second.start"\nevery = "500 ns"\ngive_or_take = "5 %"\n'
    system = read_model(text, "m.toml")
    assert bounds(system).needs["pace"].verdict == "met"
    assert simulate(system, 20 * US, MOST).needs["pace"].misses == 0


def test_a_limit_that_is_started_each_time():
    assert told(LIMIT, "unit.limit.end", 2600) == [510, 1510, 2510]
    paper = bounds(read_model(LIMIT, "m.toml"))
    time = paper.units["limit"].time
    assert (time.least, time.most) == (200_000, 310_000)  # 110 to the first end of a tick, then two ticks
    result = simulate(read_model(LIMIT, "m.toml"), 20 * US, MOST)
    assert result.stats("unit.limit.time").most == 260_000
    # started at the very instant of an end of a tick: what comes from outside comes first, so that one counts
    assert told(LIMIT.replace('offset = "250 ns"', 'offset = "310 ns"'), "unit.limit.end", 1600) == [510, 1510]


def test_an_answer_cancels_it():
    text = LIMIT.replace("counts =", 'cancelled_by = "source.answer"\ncounts =')
    text += '[source.answer]\nevery = "3 us"\noffset = "400 ns"\n'
    assert told(text, "unit.limit.end", 5000) == [1510, 2510, 4510]
    assert told(text, "unit.limit.start", 5000) == [250, 1250, 2250, 3250, 4250]


def test_both_machines_agree():
    text = (
        SECOND
        + LIMIT.removeprefix(TICK)
        + '[isr.limit]\non = "unit.limit"\nlevel = 2\ncost = "5 ns"\n[source.f]\nevery = "77 ns"\n[isr.f]\non = "source.f"\nlevel = 0\ncost = "9 ns"\n'
    )
    assert_agreement(read_model(text, "m.toml"), MOST, 30 * US)


@pytest.mark.parametrize(("change", "wrong"), [
    (("primed = true", 'primed = true\ntakes = "5 ns"'), "counts in place of time"),
    (("repeats = true\nprimed = true", 'on = "source.tick"\nbusy = "queue"'), "not yet beside a queue"),
    (("counts = { n = 5, of = \"isr.tick.end\" }", 'takes = "5 ns"'), "repeats goes with counts"),
    (("isr.tick.end", "isr.tik.end"), 'did you mean "isr.tick.end"'),
])  # fmt: skip
def test_what_cannot_count_is_refused(change, wrong):
    with pytest.raises(InputError, match=wrong):
        read_model(SECOND.replace(*change), "m.toml")


@pytest.mark.parametrize(("table", "told"), [
    ("[task.a]\npriority = 3\n", "tasks of an operating system lie outside the language; nearest is a routine"),
    ("[mode.idle]\n", "modes lie outside the language; nearest is a"),
])  # fmt: skip
def test_what_lies_outside_is_said_with_what_comes_nearest(table, told):
    with pytest.raises(InputError, match=told):
        read_model(SECOND + table, "m.toml")
