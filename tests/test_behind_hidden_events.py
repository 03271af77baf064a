"""Needs of events that no line shows, from the routine on that serves them: never longer than it was."""

import pytest

from boards import capture_of
from planted import US
from tachys.checking.checking import check
from tachys.model.loading import read_model
from tachys.needs.verdicts import Verdict

MODEL = """
tachys = 1
[core]
clock = "10 MHz"
entry = "1 us"
exit = "1 us"
levels = 2
[source.turn]
{comes}
[source.alarm]
gap = "2 ms"
[isr.turn]
on = "source.turn"
level = 1
cost = "10 us"
sets = "turned"
[isr.alarm]
on = "source.alarm"
level = 0
cost = "300 us"
[loop]
overhead = "5 us"
[step.sort]
polls = "turned"
cost = "100 us"
[need.sorted]
from = "source.turn"
to = "step.sort.end"
within = "{within}"
"""
LATE = 40  # the turn that is late, of 100


def drum(comes, within, late):
    """A drum whose turns come each millisecond; one of them finds an alarm of 300 us before it."""
    turns = [(k * 1000 + 500) * US for k in range(100)]
    waits = [(late if k == LATE else 1) * US for k in range(100)]
    begun = [turn + wait for turn, wait in zip(turns, waits, strict=True)]
    highs = {
        "isr.turn": [(at, at + 10 * US) for at in begun],
        "step.sort": [(at + 15 * US, at + 115 * US) for at in begun],
        "isr.alarm": [(begun[LATE] - 302 * US, begun[LATE] - 2 * US)],
    }
    end = 100_500 * US
    model = read_model(MODEL.format(comes=comes, within=within), "drum.toml")
    return check(model, capture_of(highs, end)).needs["sorted"]


@pytest.mark.parametrize(("within", "verdict"), [("300 us", Verdict.MISSED), ("1200 us", Verdict.MET)])
def test_a_hidden_timer_is_followed_to_the_end_of_the_loops_work(within, verdict):
    need = drum('every = "1 ms"', within, late=290)
    assert need.verdict is verdict
    assert need.seen is not None
    assert need.seen.relative
    # the wait of the others is the least that can be: one microsecond of it is not seen
    assert abs(need.value - (289 + 115) * US) <= need.seen.resolution
    assert need.seen.count in (99, 100)
    assert need.count == (verdict is Verdict.MISSED)


@pytest.mark.parametrize(("within", "misses"), [("114 us", 100), ("200 us", 0)])
def test_what_comes_at_no_rate_is_followed_from_its_routine_on(within, misses):
    need = drum('gap = "900 us"', within, late=290)
    assert need.count == misses
    assert abs(need.value - 115 * US) <= need.seen.resolution
    assert need.seen.relative
    assert need.note == "from isr.turn.start on, since no line shows the event"


NTH = """
tachys = 1
[core]
clock = "10 MHz"
entry = "1 us"
exit = "1 us"
levels = 2
{source}
[isr.cell]
on = "source.cell"
level = 0
cost = "10 us"
nth = {{ n = 4, cost = "5 us" }}
[isr.eject]
on = "isr.cell.nth"
level = 1
cost = ["20 us", "90 us"]
[need.eject]
from = "source.cell"
to = "isr.eject.end"
within = "{within}"
[probe.D0]
shows = "source.cell"
edge = "rise"
"""


@pytest.mark.parametrize("seen", [True, False])
@pytest.mark.parametrize(("within", "misses"), [("116 us", 1), ("118 us", 0)])
def test_a_need_behind_each_nth_run_is_seen_from_the_last_run_that_can_have_led_to_it(seen, within, misses):
    """A run of 15 us each fourth time, 1 us behind its event; 2 us later 20 us of ejecting, and 100 us once."""
    cells = [(k * 200 + 100) * US for k in range(200)]
    bodies = [(at + US, at + (16 if k % 4 == 3 else 11) * US) for k, at in enumerate(cells)]
    ejects = [(b + 2 * US, b + (102 if k == 43 else 22) * US) for k, (_, b) in enumerate(bodies) if k % 4 == 3]
    highs = {"isr.cell": bodies, "isr.eject": ejects, "D0": [(at, at + 5 * US) for at in cells]}
    source = '[source.cell]\nevery = "200 us"'
    model = NTH.format(source=source, within=within).replace('["20 us", "90 us"]', '["20 us", "100 us"]')
    if not seen:
        model = model.partition("[probe")[0]
        del highs["D0"]
    result = check(read_model(model, "drum.toml"), capture_of(highs, 40_000 * US))
    need = result.needs["eject"]
    assert need.count == misses
    assert need.seen.count in (49, 50)
    assert abs(need.value - (118 - (not seen)) * US) <= 2 * need.seen.resolution
    assert need.seen.relative


def test_an_item_of_which_no_run_is_sure_is_followed_to_none():
    """It is put in the very instant in which the only run begins, which may have taken it or not."""
    model = """
tachys = 1
[core]
clock = "10 MHz"
entry = "1 us"
exit = "1 us"
[source.sample]
gap = "50 us"
[isr.sample]
on = "source.sample"
cost = "5 us"
[buffer.ring]
depth = 4
fed_by = "isr.sample.end"
[loop]
overhead = "1 us"
[step.take]
drains = "buffer.ring"
every = "10 ms"
cost = "10 us"
each = "1 us"
[need.taken]
from = "source.sample"
to = "step.take.start"
within = "30 ms"
"""
    highs = {"isr.sample": [(100 * US, 105 * US), (205 * US, 210 * US)], "step.take": [(210 * US, 222 * US)]}
    result = check(read_model(model, "m.toml"), capture_of(highs, 300 * US))
    assert result.needs["taken"].count == 0
