"""Lines that are sampled too slowly for what they show: what they cannot tell is left out and said."""

import numpy as np
import pytest

from tachys.capture.table import Capture, Signal
from tachys.checking.checking import check
from tachys.model.loading import read_model

US = 10**6
MODEL = """
tachys = 1
[core]
clock = "48 MHz"
entry = "12 cycles"
exit = "10 cycles"
[source.tick]
every = "PERIOD"
[isr.tick]
on = "source.tick"
cost = ["50 us", "60 us"]
[probe.D0]
shows = "source.tick"
edge = "both"
[probe.D1]
shows = "isr.tick"
"""


def sampled(period, step, turns=4000, body=55 * US):
    """A line that a timer turns over, and one that is high while its routine runs, looked at every ``step`` ps."""
    at = np.arange(0, period * turns, step)
    turned, busy = at // period % 2, (at % period < body).astype(np.int64)
    lines = {}
    for name, level in (("D0", turned), ("D1", busy)):
        change = np.append(True, level[1:] != level[:-1])
        lines[name] = Signal(name, 1, at[change], level[change], np.ones(int(change.sum()), np.bool_))
    return Capture("slow.csv", lines, 0, int(at[-1]) + step, step)


def told(period, step, modelled=None, **how):
    text = MODEL.replace("PERIOD", f"{(modelled or period) / US} us")
    return check(read_model(text, "m.toml"), sampled(period, step, **how))


@pytest.mark.parametrize("period", [130 * US, 190 * US, 250 * US, 730 * US])
def test_the_period_of_a_line_that_is_sampled_coarsely_is_that_of_all_its_edges(period):
    result = told(period, 40 * US)
    assert not result.findings
    figure = next(each for each in result.figures if (each.about, each.key) == ("source.tick", "period"))
    assert abs(figure.measured.most - period) <= figure.measured.resolution
    wrong = told(period, 40 * US, modelled=2 * period)
    assert ("period-off", "source.tick") in [(each.code, each.about) for each in wrong.findings]


def test_what_may_lie_between_two_samples_is_left_out_and_said():
    result = told(130 * US, 100 * US)  # each edge is seen, but not each run
    assert not result.findings
    assert "isr.tick" in result.unseen
    assert [each for each in result.remarks if "D1" in each and "isr.tick" in each and "50.00 us" in each]
    aliased = told(90 * US, 100 * US)  # nor each edge
    assert not aliased.findings
    assert {"source.tick", "isr.tick"} <= set(aliased.unseen)


def test_a_line_on_which_no_run_is_ever_seen_is_not_called_dead():
    still = told(1000 * US, 300 * US, body=1)
    assert not still.findings
    assert "isr.tick" in still.unseen


def test_a_body_whose_least_is_not_known_is_measured_where_all_of_it_is_long():
    text = MODEL.replace("PERIOD", "1000 us").replace('["50 us", "60 us"]', '["0 us", "60 us"]')
    result = check(read_model(text, "m.toml"), sampled(1000 * US, 5 * US))
    assert not result.findings
    assert result.isrs["tick"].runs > 3000


def test_runs_that_flow_together_are_not_blamed():
    """Runs of 55 us each 55.5 us leave the line low for half a microsecond: seen each 10 us that is one long run."""
    text = MODEL.replace("PERIOD", "55.5 us").replace('["50 us", "60 us"]', '"55 us"')
    capture = sampled(55_500_000, 10 * US, turns=2000)
    result = check(read_model(text, "m.toml"), capture)
    assert not result.findings
    assert any("cannot be told which run served them" in each for each in result.remarks)


FLAGGED = """
tachys = 1
[core]
clock = "10 MHz"
entry = "0 s"
exit = ["0 us", "0.2 us"]
[source.tick]
every = "1 ms"
jitter = "300 us"
[isr.tick]
on = "source.tick"
cost = "10 us"
sets = "due"
[loop]
overhead = ["0.3 us", "0.5 us"]
[step.work]
polls = "due"
cost = ["40 us", "800 us"]
[probe.tick]
shows = "isr.tick"
before_end = "0.4 us"
"""


@pytest.mark.parametrize("step", [20_000, 300_000, 700_000, 2_200_000])
@pytest.mark.parametrize("seed", range(4))
def test_a_flag_that_is_taken_within_the_sample_in_which_it_is_set_is_not_lost(step, seed):
    """The line falls 0.4 us before the last instruction, and the step that takes the flag begins 0.2 us behind that."""
    dice = np.random.default_rng(seed)
    come = np.arange(1, 400) * 1000 * US + dice.integers(0, 300 * US, 399)
    work, ticks, steps, free = [], [], [], 0
    for at in come.tolist():
        ticks.append((at, at + 10 * US - 400_000))
        begin = max(at + 10 * US + 200_000, free)
        within = free > at  # the routine interrupts the step before
        if within:
            steps[-1] = (steps[-1][0], steps[-1][1] + 10 * US)
            begin = steps[-1][1] + 400_000
        free = begin + int(dice.integers(40 * US, 600 * US))
        steps.append((begin, free))
        work.append(free - begin)
    signals = {}
    for name, spans in (("tick", ticks), ("step.work", steps)):
        grid = -(-np.array(spans).reshape(-1) // step) * step
        at, last = np.unique(grid[::-1], return_index=True)
        level = 1 - (len(grid) - 1 - last) % 2
        keep = np.append(True, level[1:] != level[:-1])
        at, level = np.append(0, at[keep]), np.append(0, level[keep])
        signals[name] = Signal(name, 1, at, level, np.ones(len(at), np.bool_)).without_repeats()
    capture = Capture("flag.csv", signals, 0, 400_200 * US, step)
    result = check(read_model(FLAGGED, "m.toml"), capture)
    assert not result.findings
    assert not result.flags["due"].overwritten
