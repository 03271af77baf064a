"""Bounds through units, flags, steps and rings, worked out by hand. Times in ns unless said."""

import random
from fractions import Fraction

import numpy as np
import pytest

from tachys.model.events import Event
from tachys.model.loading import read_model
from tachys.worstcase.analysis import bounds
from tachys.worstcase.arrivals import (
    BEYOND,
    Batched,
    Bursts,
    Moved,
    Never,
    Repeated,
    Staircase,
    SumOfCurves,
    Tightest,
    delayed,
    moved,
    swing,
)
from tachys.worstcase.lookup import counts_within, least_spans, spans_at
from tachys.worstcase.workload import Workload, make_lines

NS, US, MS = 10**3, 10**6, 10**9
HEAD = 'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 2\nentry = "2 ns"\nexit = "1 ns"\n'


def paper(text):
    return bounds(read_model(HEAD + text, "m.toml"))


CURVES = [
    Staircase(Fraction(70, 3), 5),
    Staircase(Fraction(10), distance=10),
    Staircase(Fraction(40), 55, 7),
    Bursts(3, 4, 30),
    SumOfCurves((Staircase(Fraction(10), distance=10), Bursts(2, 5, 17))),
    Tightest((Staircase(Fraction(9), 20), Staircase(Fraction(6), distance=6))),
    delayed(Bursts(3, 4, 30), 6, 2),
    delayed(delayed(Staircase(Fraction(40), 9), 6, 7), 9, 3),
    moved(moved(Bursts(3, 4, 30), extra=1), 8, 2),
    Moved(Staircase(Fraction(25)), extra=2),
    Batched(Tightest((Moved(Staircase(Fraction(9)), extra=4), Staircase(Fraction(6), distance=6))), 3, 2),
    Repeated(Moved(Bursts(3, 4, 30), 40, 1), 4),
]


@pytest.mark.parametrize("curve", CURVES, ids=lambda curve: type(curve).__name__)
def test_the_most_in_a_window_and_the_least_span_are_inverse(curve):
    for count in range(1, 60):
        span = curve.least_span(count)
        assert curve.most_within(span) >= count
        assert span == 0 or curve.most_within(span - 1) < count
    assert curve.most_within(-1) == 0
    assert least_spans(curve, 40).tolist() == [curve.least_span(count) for count in range(1, 41)]
    for begin in range(0, 60, 7):  # in any time as much more as in the long run at least, but for its swing
        for longer in (1, 5, 30, 211):
            more = curve.most_within(begin + longer) - curve.most_within(begin)
            assert more >= curve.rate() * longer - Fraction(swing(curve))
    assert curve.most_within(10**6) / 10**6 == pytest.approx(float(curve.rate()), rel=1e-3)


def any_curve(dice, deep):
    """A curve by chance, of curves inside each other."""
    kind = dice.randrange(3 if deep == 0 else 9)
    if kind == 0:
        period = Fraction(dice.randrange(1, 90) * dice.choice([1, 1, 10**13]), dice.choice([1, 1, 3, 7]))
        return Staircase(period, dice.choice([0, 0, 5, 400]), dice.choice([0, 0, 1, 7]))
    if kind == 1:
        count, spaced = dice.randrange(1, 6), dice.randrange(1, 9)
        return Bursts(count, spaced, (count - 1) * spaced + dice.randrange(1, 60))
    if kind == 2:
        distance = dice.randrange(1, 50)
        return Staircase(Fraction(distance), distance=distance)
    inner = any_curve(dice, deep - 1)
    if kind == 3:
        return Moved(inner, dice.choice([0, 3, 1000]), dice.choice([0, 1, 9]))
    if kind == 4:
        return Repeated(inner, dice.randrange(1, 20))
    if kind < 7:
        size = dice.choice([1, 2, 5, 20])
        return Batched(inner, size, dice.randrange(size))
    other = any_curve(dice, deep - 1)
    return SumOfCurves((inner, dice.choice([other, other, Never()]))) if kind == 7 else Tightest((inner, other))


@pytest.mark.parametrize("number", range(200))
def test_at_any_places_a_curve_says_what_it_says_at_each(number):
    dice = random.Random(number)
    curve = any_curve(dice, dice.randrange(1, 5))
    for places in ([1], [1, 2, 3, 40], [37, 400], sorted(dice.sample(range(1, 900), 5))):
        assert spans_at(curve, np.array(places)).tolist() == [min(curve.least_span(each), BEYOND) for each in places]
    one_by_one = [curve.least_span(each) for each in range(1, 701)]
    dice.seed(number)
    assert any_curve(dice, dice.randrange(1, 5)).least_span(700) == one_by_one[-1]  # not counted up to
    windows = [0, 1, 2, 9, *sorted(dice.sample(range(10, 9000), 6))]
    assert counts_within(curve, np.array(windows)).tolist() == [curve.most_within(each) for each in windows]


def test_a_unit_passes_jitter_on_and_keeps_its_distance():
    found = paper(
        '[source.s]\nevery = "100 ns"\njitter = "30 ns"\n[unit.u]\non = "source.s"\ntakes = ["10 ns", "25 ns"]\n'
        '[isr.r]\non = "unit.u"\ncost = "5 ns"\n[need.whole]\nfrom = "source.s"\nto = "isr.r.end"\nwithin = "40 ns"\n'
    )
    curve = found.reach.events.curve("unit.u.end")
    assert [curve.least_span(n) for n in (2, 3)] == [55 * NS, 155 * NS]
    assert not found.units["u"].lost
    # 25 in the unit, 2 entry, 5 cost; no less urgent routine holds it off
    assert found.needs["whole"].bound == 32 * NS
    assert found.needs["whole"].proved


def test_starts_that_find_a_unit_busy():
    text = '[source.s]\nburst = { count = 4, spaced = "10 ns", every = "400 ns" }\n[unit.u]\non = "source.s"\n'
    drop = paper(text + 'takes = "25 ns"\n').units["u"]
    assert (drop.lost, drop.lost_in_row, drop.depth_needed) == (True, 2, 2)
    # a fourth start finds the first done at 25: one at work, two wait
    queue = paper(text + 'takes = "25 ns"\nbusy = "queue"\ndepth = 2\n').units["u"]
    assert (queue.lost, queue.time.most) == (False, 70 * NS)  # the fourth, come at 30, ends at 100
    assert paper(text + 'takes = "25 ns"\nbusy = "queue"\n').units["u"].lost
    restart = paper(text + 'takes = "25 ns"\nbusy = "restart"\n').units["u"]
    assert (restart.lost, restart.lost_in_row) == (True, 3)


def test_a_timer_reloaded_by_software_turns_no_faster_than_a_round():
    found = paper(
        '[unit.t]\non = "isr.r.end"\ntakes = "100 ns"\nprimed = true\n[isr.r]\non = "unit.t"\ncost = "5 ns"\n'
    )
    assert found.reach.events.curve("unit.t.end").least_span(3) == 2 * 107 * NS
    assert not found.units["t"].lost
    assert not found.isrs["r"].lost


def test_a_chain_whose_jitter_grows_rests_on_what_can_be_on_its_way():
    """Each routine delays the other's cause, at a load so high that the delay alone would grow without end."""
    found = paper(
        '[source.s]\ngap = "17.5 ns"\n[isr.a]\non = "source.s"\nlevel = 1\ncost = "5 ns"\npending = 9\n'
        '[isr.b]\non = "isr.a.end"\nlevel = 0\ncost = "6 ns"\npending = 9\n'
    )
    assert found.endless == ()
    assert found.isrs["b"].latency.most is not None
    # nine that wait and one that runs can end as a window opens, but never closer than a body and its return
    curve = found.reach.events.curve("isr.a.end")
    assert curve.least_span(11) == 10 * 8 * NS
    assert curve.most_within(350 * NS) == 10 + 21


def test_no_more_can_come_than_can_be_on_its_way():
    """A routine held off for 200 ns is late by twenty periods, yet remembers two events: four can end at once."""
    found = paper(
        '[source.s]\nevery = "10 ns"\n[source.t]\nevery = "10 us"\n[isr.a]\non = "source.s"\nlevel = 1\ncost = "1 ns"\npending = 2\n'
        '[isr.b]\non = "source.t"\nlevel = 0\ncost = "200 ns"\n[isr.c]\non = "isr.a.end"\nlevel = 1\ncost = "0 ns"\n'
    )
    given, curve = (found.reach.events.curve(event) for event in ("source.s", "isr.a.end"))
    assert found.isrs["a"].response.most > 200 * NS
    for ps in (0, 5 * NS, 95 * NS, 1000 * NS):
        assert curve.most_within(ps) <= given.most_within(ps) + 2 + 1


def test_steps_by_hand():
    """Overhead 10, panel 100 every 1000, poll 50; a routine of 2 + 5 + 1 every 400 interrupts."""
    found = paper(
        '[source.s]\nevery = "400 ns"\n[isr.r]\non = "source.s"\ncost = "5 ns"\nsets = "f"\n[loop]\noverhead = "10 ns"\n'
        '[step.panel]\nevery = "1000 ns"\ncost = "100 ns"\n[step.poll]\npolls = "f"\ncost = "50 ns"\n'
        '[need.seen]\nfrom = "source.s"\nto = "step.poll.end"\nwithin = "300 ns"\n'
        '[need.pace]\nof = "step.panel.start"\nevery = "1000 ns"\ngive_or_take = "10 %"\n'
        '[watchdog]\nfed_by = "step.panel.end"\ntimeout = "1250 ns"\n'
    )
    assert found.loop_pass.most == (10 + 100 + 50 + 8) * NS
    panel = found.steps["panel"]
    assert panel.late.most == (10 + 50 + 8) * NS
    assert (panel.interval.least, panel.interval.most) == ((1000 - 68) * NS, 1068 * NS)
    assert found.needs["pace"].bound == 68 * NS
    # a pass without the step, whose run for the set before is over, and an interruption, less the response before it
    assert found.flags["f"].reaction.most == (10 + 100 + 8 - 7) * NS
    assert not found.flags["f"].overwritten
    # response 7, reaction 111, the step 50 + 8
    assert found.needs["seen"].bound == (7 + 111 + 58) * NS
    # the first feed: due one period after time zero, late, and a whole step
    assert found.needs["watchdog"].bound == (1068 + 108) * NS
    assert all(need.proved for need in found.needs.values())


def test_waits_pauses_and_sleep_stretch_a_pass():
    text = (
        '[source.s]\nevery = "5 us"\njitter = "1 us"\n[isr.r]\non = "source.s"\ncost = "50 ns"\nsets = "f"\n'
        '[unit.tx]\non = "step.send.end"\ntakes = "300 ns"\n[loop]\noverhead = "10 ns"\n'
        '[step.send]\nwaits = "unit.tx"\ncost = "20 ns"\n[step.settle]\npause = "400 ns"\n'
        '[step.take]\npolls = "f"\ncost = "1 ns"\n'
    )
    assert paper(text).loop_pass.most == (10 + 300 + 20 + 400 + 1 + 53) * NS
    asleep = paper(text + "[step.nap]\nsleep = true\n")
    # halted at the worst until the next event of the source, 5 us + 1 us of jitter away; two fit into the pass
    assert asleep.loop_pass.most == (10 + 300 + 20 + 400 + 1 + 6000 + 2 * 53) * NS
    assert asleep.flags["f"].reaction.most > 6 * US
    wary = paper(text + '[step.nap]\nsleep = { unless = "f" }\n')
    assert wary.flags["f"].reaction.most < 1 * US
    other = paper(text.replace('on = "step.send.end"', 'on = ["step.send.end", "source.s"]'))
    assert "is started by others too" in other.loop_pass.reason


def test_a_software_timer_that_falls_behind_or_drifts():
    text = '[loop]\noverhead = "10 ns"\n[step.a]\nevery = "100 ns"\ncost = "80 ns"\n[step.b]\ncost = "40 ns"\n'
    assert "further and further behind" in paper(text).steps["a"].late.reason
    # a pass lasts 280 ns at the worst, but only each microsecond: 280, 310 - 100, 340 - 200, 370 - 300 ns
    seldom = text.replace('cost = "80 ns"', 'cost = "20 ns"').replace(
        'cost = "40 ns"', 'every = "1 us"\ncost = "250 ns"'
    )
    made_up = paper(seldom).steps["a"]
    assert (made_up.late.most, made_up.interval.most) == (280 * NS, 380 * NS)
    drifting = paper(text.replace('cost = "80 ns"', 'cost = "20 ns"\nrearm = "now"')).steps["a"]
    assert drifting.drifts
    assert (drifting.interval.least, drifting.interval.most) == (100 * NS, 150 * NS)


def test_a_polled_step_is_as_far_apart_as_its_flag_less_what_it_can_wait():
    """The sets are 1 us apart, 10 ns after each tick; p looks within 10 + 100 ns, and 10 of the routine."""
    text = (
        '[source.s]\nevery = "1 us"\n[isr.r]\non = "source.s"\ncost = "10 ns"\nsets = "f"\n[loop]\noverhead = "10 ns"\n'
        '[step.p]\npolls = "f"\ncost = ["3 ns", "5 ns"]\n[step.q]\ncost = "100 ns"\n'
        '[watchdog]\nfed_by = "step.p.end"\ntimeout = "2 us"\nnot_before = "850 ns"\n'
    )
    found = paper(text)
    reaction, duration = found.flags["f"].reaction, found.steps["p"].duration
    assert found.steps["p"].interval.least == 1000 * NS - (reaction.most - reaction.least) > 860 * NS
    assert found.reach.distances("step.p.end")[0] == found.steps["p"].interval.least - (duration.most - duration.least)
    assert found.needs["watchdog"].proved
    assert not paper(text.replace("850 ns", "900 ns")).needs["watchdog"].proved


def test_load_in_windows_and_storms():
    found = paper('[source.s]\ngap = "100 us"\n[isr.r]\non = "source.s"\ncost = "20 us"\n[need.n]\nload = "90 %"\n'
                  'over = "1 ms"\n[source.w]\ngap = "10 us"\n[isr.w]\non = "source.w"\nlevel = 1\ncost = "11 us"\n')  # fmt: skip
    assert found.load.storms == ("w",)
    assert found.load.most == 1
    assert found.isrs["w"].lost
    assert "overload" in found.isrs["w"].lost_reason
    assert found.needs["n"].verdict == "at risk"


@pytest.mark.parametrize(("tick", "lost"), [('every = "1000 ns"', False), ('gap = "900 ns"', True)])
def test_what_follows_a_step_behind_a_flag_comes_no_denser_than_the_flag(tick, lost):
    """A flag is taken within a pass of 11 and the routine on top (8): two starts are 1000 less some 20 apart."""
    found = paper(
        f'[source.tick]\n{tick}\n[isr.tick]\non = "source.tick"\nlevel = 0\ncost = "5 ns"\nsets = "due"\n'
        '[loop]\noverhead = "1 ns"\n[step.work]\npolls = "due"\ncost = "10 ns"\n'
        '[unit.sends]\non = "step.work.end"\ntakes = "900 ns"\n'
    )
    assert found.units["sends"].lost is lost
    assert 975 * NS <= found.reach.events.curve(Event("step.work.start")).least_span(2) + 100 * NS * lost <= 1000 * NS


def test_rows_that_are_asked_often_are_looked_up_and_tell_the_same():
    system = read_model(
        HEAD + '[source.a]\nevery = "100 ns"\njitter = "30 ns"\n[source.b]\ngap = "70 ns"\n[source.c]\n'
        'burst = { count = 3, spaced = "9 ns", every = "250 ns" }\n[unit.u]\non = "source.c"\ntakes = ["5 ns", "8 ns"]\n'
        '[isr.a]\non = "source.a"\ncost = "7 ns"\n[isr.b]\non = "source.b"\ncost = ["1 ns", "9 ns"]\nlevel = 1\n'
        '[isr.u]\non = ["unit.u", "isr.a.end"]\ncost = "4 ns"\n', "m.toml"
    )  # fmt: skip
    lines = make_lines(system, bounds(system).reach.events.curve, None)
    load, dice = Workload(system, lines), random.Random(1)
    for begin, end in ((0, 4), (1, 3), (2, 2), (3, 4)):
        for _ in range(600):
            ps = dice.choice([dice.randrange(-2, 40), dice.randrange(3000 * NS), dice.randrange(9) * 50 * NS])
            assert load.work(ps, end, begin) == int(load.counts(ps, end, begin) @ load.taken[begin:end])
