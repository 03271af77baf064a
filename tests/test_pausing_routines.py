"""Routines that spin by the clock and clear their own mark: by hand, both machines, on paper, a contact that bounces."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from boards import BOARD, UNTIL, first, on_board
from planted import MS, US
from playing import beaten, played
from tachys.checking.correct.fitting import fit
from tachys.demo.analyser import busy, pulses
from tachys.demo.machine import Routine
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import cleared, counted, losses
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

NS = 1000
PAUSED = """
tachys = 1
[core]
clock = "1 GHz"
levels = 2
entry = "2 ns"
exit = "1 ns"
[source.contact]
CONTACT
[source.tick]
every = "1000 ns"
offset = "TICK"
[isr.contact]
on = "source.contact"
level = 1
cost = "10 ns"
pause = "50 ns"
clears_pending = true
[isr.tick]
on = "source.tick"
level = 0
cost = "5 ns"
"""
BOUNCE = 'burst = { count = 3, spaced = "20 ns", every = "1000 ns" }'


def model(tick, contact=BOUNCE, more=""):
    return read_model(PAUSED.replace("CONTACT", contact).replace("TICK", tick) + more, "m.toml")


@pytest.mark.parametrize(
    ("tick", "ends"),
    [
        ("30 ns", 62),  # first instruction at 2, cost to 12, pause to 62: what runs from 30 to 38 is over by then
        ("60 ns", 68),  # away from 60 to 68 as it runs out: it ends as it comes back
        ("5 ns", 70),  # what runs on top of its cost, from 5 to 13, moves the pause
    ],
)
def test_a_pause_goes_by_the_clock(tick, ends):
    run, records, index = play_whole(model(tick), RunOptions("most", "together", "gap"), 900 * NS)
    from tachys.simulation.follow import event_times

    assert event_times(records, index, "isr.contact.end").tolist() == [ends * NS]
    # the bounce at 20 waits and is cleared with the end, that at 40 finds the mark set
    assert cleared(run.memory, index)["contact"] == 1
    assert losses(run.memory, index)["isr.contact"] == 1


def test_what_it_costs_on_paper():
    """Others of its level wait for all of it; it itself never waits for its own bounces."""
    line = '[source.byte]\ngap = "2000 ns"\n[isr.byte]\non = "source.byte"\nlevel = 1\ncost = "4 ns"\norder = 1\n'
    found = bounds(model("0 ns", 'gap = "900 ns"', line))
    # a contact that has just begun: 2 + 10 + 50 + 1, a tick of 8, an entry of 2
    assert found.isrs["byte"].latency.most == (63 + 8 + 2) * NS
    assert found.isrs["contact"].lost
    assert found.isrs["contact"].response.least == (2 + 10 + 50) * NS
    assert bounds(model("0 ns")).isrs["contact"].response.most <= (2 + 10 + 50 + 3 * 8) * NS


def test_it_is_nearly_played():
    line = '[source.byte]\ngap = "2000 ns"\n[isr.byte]\non = "source.byte"\nlevel = 1\ncost = "4 ns"\norder = 1\n'
    system = model("0 ns", 'gap = "900 ns"', line)
    found, most = bounds(system), 0
    for seed in range(60):
        run = played(system, RunOptions("most", "drawn", "gap", seed=seed))
        assert not beaten(found, run)
        most = max(most, counted(run.memory, run.index)["isr.byte.latency"].most)
    assert most >= 0.8 * found.isrs["byte"].latency.most


@given(st.integers(0, 2**24))
def test_the_engine_and_the_stand_in_pause_alike(seed):
    dice = random.Random(seed)
    contact = f'gap = "{dice.randint(3, 90)} ns"' if dice.random() < 0.5 else BOUNCE
    text = PAUSED.replace("CONTACT", contact).replace("TICK", f"{dice.randint(0, 99)} ns")
    text = text.replace('every = "1000 ns"\noffset', f'every = "{dice.randint(9, 200)} ns"\noffset')
    text = text.replace('cost = "10 ns"', f'cost = "{dice.randint(1, 30)} ns"')
    text = text.replace('pause = "50 ns"', f'pause = "{dice.randint(0, 90)} ns"')
    if dice.random() < 0.3:
        text = text.replace("clears_pending = true", 'guard = { level = 0, for = "all" }')
    assert_agreement(read_model(text, "m.toml"), RunOptions("most", "drawn", "gap", seed=seed), 10_000 * NS)


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ('serves = "all"', "not yet beside serves"),
        ("nth = { n = 2 }", "not yet beside nth"),
        ("pending = 2", "pending"),
    ],
)
def test_what_it_may_say(more, said):
    text = PAUSED.replace("CONTACT", BOUNCE).replace("TICK", "0 ns")
    with pytest.raises(InputError, match=said):
        read_model(text.replace("clears_pending = true", f"clears_pending = true\n{more}"), "m.toml")


DEBOUNCED = """
[source.contact]
burst = { count = 12, spaced = "100 us", every = "20 ms" }
[isr.contact]
on = "source.contact"
level = 1
cost = ["2 us", "4 us"]
pause = ["5 ms", "5.02 ms"]
clears_pending = true
[probe.D2]
shows = "source.contact"
edge = "rise"
[probe.D3]
shows = "isr.contact"
"""


def debounced(seed, pause=5 * MS):
    dice, edges, now = random.Random(seed), [], 0
    while now < UNTIL - 30 * MS:
        now += dice.randint(21, 60) * MS
        bounce = now
        for _ in range(dice.randint(1, 12)):
            edges.append(bounce)
            bounce += dice.randint(110, 400) * US
    contact = Routine(
        "contact", 1, edges, (2_200_000, 3_800_000), spins=(pause + 1_000_000, pause + 18_000_000), forgets=True
    )

    def lines(truth):
        return {"D2": pulses(edges, 30 * US), "D3": busy(truth, "contact")}

    return on_board(DEBOUNCED, seed, False, (), lines, routines=(contact,))


@pytest.mark.parametrize("seed", [0, 3])
def test_a_debounced_contact_that_is_as_modelled_is_not_blamed(seed):
    result, _ = debounced(seed)
    assert result.findings == ()
    assert result.isrs["contact"].unasked == 0
    assert result.isrs["contact"].latency.count > 3


def test_a_longer_pause_is_named():
    result, _ = debounced(1, 7 * MS)
    assert first(result) == [("isr.contact", "cost-longer")]
    fitted = fit(BOARD + DEBOUNCED, "m.toml", [result.capture], "today")
    assert not fitted.changes
    assert "cost and pause" in str(fitted.left)


@pytest.mark.parametrize(("within", "runs"), [("", 3), ('within = "62 ns", ', 3), ('within = "50 ns", ', 1)])
def test_a_contact_that_is_still_before_its_routine_ends_has_one_run(within, runs):
    """Three bounces within 50 ns or anywhere: each run takes an entry of 2, 60 and an exit of 1, the tick 8 on top."""
    contact = f'burst = {{ count = 3, spaced = "20 ns", {within}every = "1000 ns" }}'
    other = '[source.other]\ngap = "5 us"\n[isr.other]\non = "source.other"\nlevel = 1\ncost = "4 ns"\n'
    system = model("30 ns", contact, other)
    assert bounds(system).isrs["other"].latency.most == (runs * 63 + 8 + 2) * NS
    assert not beaten(bounds(system), played(system, RunOptions("most", "together", "gap"), 20_000 * NS))
