"""Clocks that stand still in sleep: by hand, both machines, on paper, on captures."""

import pytest

import playing
from boards import first, on_board
from tachys.demo.machine import Burns, Halts, Reply, Task
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.statistics import counted
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

US = 10**6
NODE = """
tachys = 1
[core]
clock = "1 GHz"
wake = "1 us"
levels = 2
[clock.pll]
rate = "10 MHz"
[clock.adc]
from = "pll"
[sleep.deep]
wake = "5 us"
stops = ["clock.pll"]
[source.tick]
every = "100 cycles@pll"
offset = "10 us"
[source.alarm]
every = "35 us"
offset = "35 us"
[isr.alarm]
on = "source.alarm"
level = 0
cost = "2 us"
[isr.tick]
on = "source.tick"
level = 1
cost = "1 us"
[loop]
overhead = "1 us"
[step.nap]
sleep = "deep"
"""
CONVERTS = """
[unit.adc]
on = "isr.alarm.end"
takes = "60 cycles@adc"
[isr.adc]
on = "unit.adc"
level = 1
cost = "1 us"
"""
DRAWN = RunOptions(seed=1, costs="most")


def model(text=NODE, **changes):
    for old, new in changes.items():
        assert old in text
        text = text.replace(old, new)
    return read_model(text, "m.toml")


def times(system, kind, names, name, end=160 * US):
    """When records of one kind of one thing were written, in us."""
    _, records, index = play_whole(system, DRAWN, end)
    chosen = (records.kind == kind) & (records.index == getattr(index, names).index(name))
    return [time / US for time in records.time[chosen].tolist()]


def test_what_a_stopped_clock_counts_keeps_what_is_left_from_the_halt_to_the_end_of_waking():
    # halts at 1 with 9 left, wakes 35 to 40; at 43 with 6 left, to 75; at 78 with 3 left, to 110: so it comes at 113,
    # and has 9 left as it halts at 114
    assert times(model(), at.SOURCE, "sources", "tick") == [113]
    assert times(model(), at.SOURCE, "sources", "alarm") == [35, 70, 105, 140]


def test_what_is_counted_in_seconds_goes_on():
    system = model(**{'every = "100 cycles@pll"': 'every = "10 us"'})
    assert times(system, at.SOURCE, "sources", "tick", 60 * US) == [10, 20, 30, 40, 50, 60]


def test_an_operation_stands_still_and_goes_on():
    system = model(NODE + CONVERTS)
    # begun at 42, 1 done at the halt at 43; 75 to 78; the last 2 from 110 on
    assert times(system, at.UNIT_START, "units", "adc", 100 * US) == [42]
    assert times(system, at.UNIT_END, "units", "adc", 113 * US) == [112]
    found = bounds(system)
    assert found.units["adc"].time.least == 6 * US
    assert found.units["adc"].time.most is None
    assert "stands still" in found.units["adc"].time.reason
    assert "stands still" in " ".join(remark.text for remark in system.remarks)


def test_the_plain_sleep_while_a_unit_is_at_work():
    system = model(NODE + CONVERTS, **{'sleep = "deep"': 'sleep = { depth = "deep", plain_if = ["unit.adc"] }'})
    # begun at 42, the plain sleep from 43 on; it ends at 48, its routine wakes the core by 49, when the tick comes too
    assert times(system, at.UNIT_END, "units", "adc", 100 * US)[0] == 48
    assert times(system, at.LAST, "isrs", "adc", 100 * US)[0] == 51
    assert times(system, at.SOURCE, "sources", "tick", 60 * US) == [49]
    assert bounds(system).units["adc"].time.most == 6 * US


def test_a_unit_started_meanwhile_begins_with_nothing_gone():
    system = model(NODE + CONVERTS.replace("isr.alarm.end", "source.alarm"))
    # at 35 the core sleeps to 40: ends at 46, but the halt at 43 leaves 3 until 75
    assert times(system, at.UNIT_END, "units", "adc", 100 * US) == [78]


def test_a_halt_with_interrupts_held_off():
    system = model(**{'sleep = "deep"': 'sleep = { depth = "deep", masked = "3 us" }'})
    # wakes from 35 to 40, then held off until 43
    assert times(system, at.START, "isrs", "alarm", 60 * US) == [43]
    paper, seen = bounds(system), simulate(system, 2000 * US, DRAWN)
    assert seen.counted["isr.alarm.latency"].most == 8 * US
    assert paper.isrs["alarm"].latency.most == 8 * US
    assert paper.isrs["tick"].latency.most >= seen.counted["isr.tick.latency"].most


def test_masked_counts_as_work_of_the_step():
    system = model(
        **{'sleep = "deep"': 'sleep = { depth = "deep", masked = "3 us" }', 'offset = "10 us"': 'offset = "9 ms"'}
    )
    seen = simulate(system, 3500 * US, DRAWN)
    # each 35 us: 5 of waking, 3 held off, 2 of the routine, 1 of the pass
    assert seen.spent["run", "step.nap"] == 99 * 3 * US
    assert seen.spent["wake", "isr.alarm"] == 99 * 5 * US


def test_time_at_work_and_asleep_by_depth():
    seen = simulate(model(NODE + CONVERTS), 112 * US, DRAWN)
    assert seen.spent["unit.adc", "unit.adc"] == 6 * US  # 42 to 43, 75 to 78, 110 to 112
    assert seen.spent["sleep.deep", "sleep"] == (34 + 27 + 27) * US
    system = model(NODE + CONVERTS, **{'sleep = "deep"': 'sleep = { depth = "deep", plain_if = ["unit.adc"] }'})
    seen = simulate(system, 60 * US, DRAWN)
    # deep from 1 to 35, plain from 43 to 48, deep from 52 on
    assert seen.spent["sleep.deep", "sleep"] == (34 + 8) * US
    assert seen.spent["sleep", "sleep"] == 5 * US


ASKED = """
[unit.sensor]
on = "step.nap.start"
takes = "77 cycles@pll"
busy = "BUSY"
[isr.reply]
on = "unit.sensor"
level = 0
cost = "1 us"
"""


@pytest.mark.parametrize("busy", ["drop", "restart"])
@pytest.mark.parametrize("wake", ["1 us", "5 us", "60 us"])
@pytest.mark.parametrize(
    "sleep", ["", ', masked = "3 us"', ', plain_if = ["unit.sensor"]', ', plain_if = ["unit.sensor"], masked = "0 us"']
)
def test_both_machines_agree(sleep, wake, busy):
    changes = {'sleep = "deep"': f'sleep = {{ depth = "deep"{sleep} }}', '"5 us"': f'"{wake}"'}
    system = model(NODE + ASKED.replace("BUSY", busy), **changes)
    assert_agreement(system, DRAWN, 5000 * US)
    paper, run = bounds(system), playing.played(system, DRAWN, 5000 * US)
    assert not playing.beaten(paper, run)


def test_a_clock_stops_with_the_clock_it_comes_from():
    text = NODE.replace('clock = "1 GHz"', 'clock = "pll"').replace('rate = "10 MHz"', 'rate = "1 GHz"')
    system = model(text, **{'every = "100 cycles@pll"': 'every = "10000 cycles"'})
    assert times(system, at.SOURCE, "sources", "tick") == [113]


def problems(text):
    with pytest.raises(InputError) as refused:
        model(text)
    return " ".join(problem.wrong for problem in refused.value.problems)


def test_what_never_wakes_is_refused():
    only = NODE.replace('every = "35 us"', 'every = "350 cycles@pll"')
    assert "never wakes" in problems(only)


def test_stopped_clocks_are_named():
    assert "clock.pl" in problems(NODE.replace('stops = ["clock.pll"]', 'stops = ["clock.pl"]'))


def test_what_cannot_stand_still_yet_is_refused_by_name():
    assert "not yet" in problems(NODE + 'every = "100 cycles@pll"\n')
    watchdog = '[watchdog]\ntimeout = "1000 cycles@pll"\nfed_by = "isr.alarm.end"\n'
    assert "not yet" in problems(NODE + watchdog)
    assert "not yet" in problems(NODE + CONVERTS.replace("takes", 'busy = "queue"\ntakes'))


def test_a_source_that_stands_still_has_no_least_rate():
    found = bounds(model())
    assert found.reach.least_rate("source.tick") == 0
    assert found.reach.least_rate("source.alarm") > 0
    assert counted  # its most-curve is kept
    assert found.isrs["tick"].latency.most is not None


# --- on a capture: a sensor that is asked each 20 ms, on a board that sleeps between the pulses of a wheel -----------

SENSOR = """
[clock.pll]
rate = "4 MHz"
[sleep.deep]
wake = "30 us"
STOPS
[unit.sensor]
on = "step.ask.start"
takes = ["400 cycles@pll", "520 cycles@pll"]
[step.ask]
every = "20 ms"
cost = ["10 us", "12 us"]
[step.nap]
sleep = "deep"
[probe.D3]
shows = "unit.sensor"
"""
STOPS = 'stops = ["clock.pll"]'


def asked(stops, takes=(101 * US, 129 * US), says=STOPS, seed=4):
    """What a check says of a board whose sensor stands still in sleep, or not."""
    nap = Task("nap", (Halts(wake=30 * US, stops=("sensor",) if stops else ()),))
    tasks = (Task("ask", (Burns((10_300_000, 11_700_000)),), every=20_000 * US), nap)

    def lines(truth):
        return {"D3": [change for _, begin, end in truth.answered for change in ((begin, 1), (end, 0))]}

    more = SENSOR.replace("STOPS", says)
    return on_board(more, seed, False, tasks, lines, replies=(Reply("sensor", "ask", takes),))[0]


def test_a_unit_that_stands_still_is_not_blamed_and_one_that_should_is_no_fault():
    for stops in (True, False):
        assert not asked(stops).findings
    figure = next(each for each in asked(True).figures if each.key == "takes")
    assert figure.high is None
    assert figure.measured.most > 1000 * US


@pytest.mark.parametrize("seed", range(3))
def test_a_clock_that_stands_still_unknown_to_the_model_is_named_first(seed):
    assert first(asked(True, says="", seed=seed)) == [("unit.sensor", "stands-still")]


@pytest.mark.parametrize("seed", range(3))
def test_a_unit_that_is_slow_is_not_told_to_stand_still(seed):
    assert first(asked(False, (180 * US, 4000 * US), "", seed)) == [("unit.sensor", "takes-longer")]
