"""A step that is due with each so many-th tick: by hand, both machines, on paper never beaten, a board with a fault."""

import random

import pytest

from boards import BOARD, UNTIL, first, on_board
from planted import MS, US
from playing import beaten, played
from tachys.demo.analyser import busy, pulses, steps
from tachys.demo.machine import Burns, Empties, Routine, Store, Tally, Task
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.options import RunOptions
from tachys.worstcase.analysis import bounds

NS = 1000
TICKED = """
tachys = 1
[core]
clock = "1 GHz"
entry = "2 ns"
exit = "1 ns"
[source.tick]
every = "100 ns"
[isr.tick]
on = "source.tick"
cost = "10 ns"
[loop]
overhead = "5 ns"
[step.panel]
every = { n = 5, of = "isr.tick.end" }
rearm = "grid"
cost = "20 ns"
[step.rest]
cost = "REST"
"""


def model(rest="40 ns", rearm="grid", more=""):
    return read_model(TICKED.replace("REST", rest).replace('"grid"', f'"{rearm}"') + more, "m.toml")


def starts(system, until, how=None):
    from tachys.simulation.engine import play_whole
    from tachys.simulation.follow import event_times

    _, records, index = play_whole(system, how or RunOptions("most", "together", "gap"), until * NS)
    return [int(time) // NS for time in event_times(records, index, "step.panel.start")]


@pytest.mark.parametrize("rearm", ["grid", "skip", "now"])
def test_it_is_due_with_each_fifth_tick(rearm):
    """The fifth tick's routine ends at 412 ns, the loop is back at 413 and looks once its step is over: within 45 ns."""
    seen = starts(model(rearm=rearm), 3000)
    assert [begin - due for begin, due in zip(seen, range(412, 3000, 500), strict=False)] == pytest.approx(
        [0] * len(seen), abs=1 + 40 + 5 + 13
    )
    assert len(seen) >= 5


def test_a_long_step_is_made_up_for_on_the_grid_only():
    """1200 ns away once: of the grid no run is lost, with skip one is, and now begins anew each time."""
    late = {rearm: starts(model("1200 ns", rearm), 60_000) for rearm in ("grid", "skip", "now")}
    ticks = 60_000 // 500
    assert len(late["skip"]) < ticks * 0.6
    assert len(late["now"]) < ticks * 0.6
    assert len(late["grid"]) == len(late["skip"]) or len(late["grid"]) > len(late["skip"])


def test_how_late_it_is_on_paper():
    """From the last look that found nothing: the step 40, the pass 5, an interrupt 13, less what lies before the tick."""
    found = bounds(model(more='[need.soon]\nfrom = "unit.panel-ticks"\nto = "step.panel.start"\nwithin = "80 ns"\n'))
    assert found.needs["soon"].bound == (40 + 5 + 13 - 12) * NS
    assert found.units["panel-ticks"].time.most <= 500 * NS + 13 * NS
    assert found.needs["soon"].proved


@pytest.mark.parametrize("rearm", ["grid", "skip", "now"])
def test_no_play_beats_it(rearm):
    for rest in ("40 ns", "300 ns", "900 ns"):
        system = model(f'{rest}"\nevery = "1700 ns', rearm)
        found = bounds(system)
        for seed in range(15):
            assert not beaten(found, played(system, RunOptions("drawn", "drawn", "gap", seed=seed)))


@pytest.mark.parametrize(
    ("was", "becomes", "said"),
    [
        ('of = "isr.tick.end"', 'of = "isr.tock.end"', 'did you mean "isr.tick.end"'),
        ("n = 5", "n = 0", "panel.every.n"),
        ('cost = "20 ns"', 'polls = "x"', "not yet beside every in ticks"),
        ("[step.rest]", '[unit.panel-ticks]\non = "source.tick"\ntakes = "1 ns"\n[step.rest]', "unit.panel-ticks"),
    ],
)
def test_what_it_may_say(was, becomes, said):
    with pytest.raises(InputError, match=said):
        read_model(TICKED.replace("REST", "4 ns").replace(was, becomes), "m.toml")


PANEL = """
[source.tick]
every = "1 ms"
[isr.tick]
on = "source.tick"
level = 1
cost = ["3 us", "5 us"]
[step.panel]
every = { n = 5, of = "isr.tick.end" }
cost = ["80 us", "120 us"]
[need.soon]
from = "unit.panel-ticks"
to = "step.panel.start"
within = "1 ms"
[probe.D2]
shows = "isr.tick"
[probe.D6]
shows = "step.panel"
"""


def board(seed, blocks, n=5):
    dice = random.Random(seed)
    ticks = list(range(dice.randint(0, MS), UNTIL, MS + 17_000))
    tick = Routine("tick", 1, ticks, (3_200_000, 4_800_000))
    store = Store("due", 1000)
    timer = Tally("timer", "tick", n, repeats=True, puts="due")
    panel = Task("panel", (Burns((82 * US, 118 * US)), Empties("due", 1)), asked="due")

    def lines(truth):
        return {"D2": busy(truth, "tick"), "D6": steps(truth, "panel"), "D9": pulses([MS], US)}

    return on_board(PANEL, seed, blocks, (panel,), lines, routines=(tick,), stores=(store,), tallies=(timer,))


@pytest.fixture(scope="module")
def by_six():
    return board(2, blocks=False, n=6)[0]


def test_a_board_that_is_as_modelled_is_not_blamed():
    result, _ = board(1, blocks=False)
    assert result.findings == ()
    assert str(result.needs["soon"].verdict) == "met"


def test_another_number_of_ticks_is_named(by_six):
    assert first(by_six) == [("unit.panel-ticks", "counts-off")]


def test_a_step_that_blocks_is_named_for_what_comes_late():
    result, _ = board(3, blocks=True)
    assert first(result) == [("step.send", "time-longer")]
    assert str(result.needs["soon"].verdict) == "at risk"  # no line shows its ticks, and its proof has fallen


def test_fit_writes_the_number_of_ticks(by_six):
    from tachys.checking.correct.fitting import fit

    fitted = fit(BOARD + PANEL, "m.toml", [by_six.capture], "today")
    assert [(change.key, change.becomes) for change in fitted.changes] == [("step.panel.every.n", "6")]
    assert "every = { n = 6, of" in fitted.text
