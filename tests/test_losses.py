"""What hangs on the losses of a buffer: on paper only where there can be any; both machines; a board with a fault."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from attack import Stocked
from boards import UNTIL, first, on_board
from planted import US
from tachys.demo.analyser import busy, pulses, steps
from tachys.demo.machine import Burns, Empties, Routine, Store, Task
from tachys.model.loading import read_model
from tachys.simulation.options import RunOptions
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

NS = 1000
RECEIVER = """
tachys = 1
[core]
clock = "1 GHz"
levels = 3
entry = "2 ns"
exit = "1 ns"
[source.byte]
every = "100 ns"
[source.hog]
every = "1000 ns"
[buffer.rx]
depth = 2
fed_by = "source.byte"
[isr.hog]
on = "source.hog"
level = 0
cost = "HOG"
[isr.over]
on = "buffer.rx.lost"
level = 0
cost = "7 ns"
[isr.rx]
on = "buffer.rx"
drains = "buffer.rx"
level = 1
cost = "5 ns"
each = "3 ns"
[flag.over]
set_by = "buffer.rx.lost"
[loop]
overhead = "5 ns"
[step.tell]
polls = "over"
cost = "10 ns"
[need.told]
from = "buffer.rx.lost"
to = "isr.over.start"
within = "60 ns"
"""


def model(hog):
    return read_model(RECEIVER.replace("HOG", hog), "m.toml")


def test_what_cannot_be_lost_raises_nothing():
    """Held off 2 + 150 + 1 ns; entry, cost and first item are over 165 ns behind the first of two that find room."""
    found = bounds(model("150 ns"))
    assert not found.buffers["rx"].lost
    assert next(share.most for share in found.load.shares if share.who == "isr.over") == 0
    assert not found.flags["over"].overwritten
    assert found.isrs["over"].response.most >= (2 + 150 + 1 + 2 + 7) * NS  # as late as one would be served


def test_what_may_be_lost_raises_no_more_than_is_put():
    found = bounds(model("250 ns"))
    assert found.buffers["rx"].lost
    assert float(next(share.most for share in found.load.shares if share.who == "isr.over")) == (7 + 3) / 100
    assert found.isrs["rx"].latency.most >= (2 + 250 + 1 + 3 * (2 + 7 + 1) + 2) * NS


def test_each_loss_is_served_as_it_was_worked_out_by_hand():
    """Bytes at 0 and 100 find room, that at 200 none; the routine at work ends at 252, chain 3 ns: served at 255."""
    from tachys.simulation.engine import play_whole
    from tachys.simulation.follow import event_times

    system = model("250 ns")
    ways = RunOptions("most", "together", "gap")
    _, records, index = play_whole(system, ways, 3000 * NS)
    assert event_times(records, index, "buffer.rx.lost").tolist() == [200 * NS, 1200 * NS, 2200 * NS]
    assert event_times(records, index, "isr.over.start").tolist() == [255 * NS, 1255 * NS, 2255 * NS]


@given(st.integers(0, 2**24))
def test_the_engine_and_the_stand_in_spill_alike(seed):
    system = read_model(Stocked(seed).small(spills=True), "m.toml")
    if any(event.kind == "unit" for isr in system.isrs for event in isr.on):
        return
    assert_agreement(system, RunOptions("most", "drawn", "gap", seed=seed), 20_000 * NS)


OVERRUN = """
[source.byte]
gap = "250 us"
[buffer.rx]
depth = 3
fed_by = "source.byte"
[isr.over]
on = "buffer.rx.lost"
level = 1
cost = ["4 us", "6 us"]
[step.parse]
drains = "buffer.rx"
cost = ["20 us", "30 us"]
each = ["10 us", "14 us"]
[need.kept]
of = "buffer.rx"
lost = 0
[need.told]
from = "buffer.rx.lost"
to = "isr.over.end"
within = "40 us"
[probe.D2]
shows = "source.byte"
edge = "rise"
[probe.D3]
shows = "isr.over"
[probe.D6]
shows = "step.parse"
"""


def overrun(seed, blocks, *, line):
    dice = random.Random(seed)
    bytes_, now = [], 0
    while now < UNTIL:
        now += dice.randint(255, 700) * US
        bytes_.append(now)
    store = Store("rx", 3, bytes_)
    over = Routine("over", 1, (), (4_200_000, 5_800_000), spilt="rx")
    parse = Task(
        "parse",
        (
            Burns((21 * US, 29 * US)),
            Empties("rx", 3, (10_500_000, 13_500_000)),
        ),
    )

    def lines(truth):
        lost = [time for who, time in truth.lost if who == "rx"]
        shown = {"D2": pulses(bytes_, 20 * US), "D3": busy(truth, "over"), "D6": steps(truth, "parse")}
        return shown | ({"D4": pulses(lost, 20 * US)} if line else {})

    more = OVERRUN + ('[probe.D4]\nshows = "buffer.rx.lost"\nedge = "rise"\n' if line else "")
    return on_board(more, seed, blocks, (parse,), lines, routines=(over,), stores=(store,))


@pytest.mark.parametrize("line", [True, False])
def test_a_step_that_blocks_is_named_before_what_it_made_lost(line):
    result, truth = overrun(3, blocks=True, line=line)
    lost = sum(who == "rx" for who, _ in truth.lost)
    assert lost > 20
    assert first(result) == [("step.send", "time-longer")]
    assert 0.8 * lost <= result.needs["kept"].count <= lost
    assert str(result.needs["kept"].verdict) == "missed"
    if line:
        assert result.needs["told"].seen.count > 0.9 * result.needs["kept"].count > 0
        assert str(result.needs["told"].verdict) == "met"


@pytest.mark.parametrize("line", [True, False])
def test_a_board_that_loses_nothing_is_not_blamed(line):
    result, _ = overrun(5, blocks=False, line=line)
    assert result.findings == ()
    assert str(result.needs["kept"].verdict) == "met"
