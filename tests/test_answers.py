"""Units that do not always answer: by hand, both machines, on paper, a sensor that is asked and stays silent."""

from playing import played
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted, losses
from tachys.worstcase.analysis import bounds

NS = 1000
ASKED = """
tachys = 1
[core]
clock = "1 GHz"
levels = 1
[unit.sensor]
on = "step.ask.start"
takes = ["20 ns", "30 ns"]
answers = "SHARE"
[isr.reply]
on = "unit.sensor"
cost = "5 ns"
[loop]
overhead = "1 ns"
[step.ask]
every = "200 ns"
waits = "unit.sensor"
at_most = "50 ns"
cost = "10 ns"
"""
WAITING = 'waits = "unit.sensor"\nat_most = "50 ns"\n'


def model(share, more="", **changes):
    text = ASKED.replace("SHARE", share)
    for old, new in changes.items():
        text = text.replace(old, new)
    return read_model(text + more, "m.toml")


def story(system, end=20_000 * NS, seed=1):
    """(starts, ends, starts of operations that never end) of the sensor, as it is played."""
    records, index = play_whole(system, RunOptions(seed=seed), end)
    return tuple(
        records.time[(records.kind == kind) & (records.index == index.units.index("sensor"))].tolist()
        for kind in (at.UNIT_START, at.UNIT_END, at.UNIT_SILENT)
    )


def test_an_end_that_does_not_come_leaves_the_unit_at_work_until_it_is_begun_anew():
    starts, ends, silent = story(model("50 %"))
    assert len(starts) == 99, "asked each 200 ns from the first on: none is lost"
    assert len(ends) + len(silent) == len(starts)
    assert 30 <= len(silent) <= 70
    answered = [start for start in starts if start not in set(silent)]
    assert all(20 * NS <= end - start <= 30 * NS for start, end in zip(answered, ends, strict=True))


def test_a_step_waits_for_an_answer_until_it_gives_up():
    run = played(model("50 %"), RunOptions(seed=1), 20_000 * NS)
    seen = counted(run.memory, run.index)["step.ask.duration"]
    # most costs: answered after 30 and interrupted for 5, then 10 of its own; else it has given up after 50
    assert (seen.least, seen.most) == (45 * NS, 50 * NS)
    assert losses(run.memory, run.index)["unit.sensor"] == 0


def test_on_paper_nothing_promises_that_an_answer_comes():
    found = bounds(model("90 %", '[need.heard]\nfrom = "step.ask"\nto = "isr.reply.end"\nwithin = "80 ns"\n'))
    assert found.needs["heard"].verdict == "at risk"
    assert "may not answer" in found.needs["heard"].reason
    assert found.steps["ask"].duration.most == 65 * NS, "50 until it gives up, 10 of its own, 5 that interrupt it"
    sure = bounds(model("100 %", '[need.heard]\nfrom = "step.ask"\nto = "isr.reply.end"\nwithin = "80 ns"\n'))
    assert sure.needs["heard"].verdict == "met"
    assert sure.steps["ask"].duration.most == 45 * NS
    endless = bounds(model("90 %", **{WAITING: 'waits = "unit.sensor"\n'}))
    assert endless.steps["ask"].duration.most is None
    assert "may not answer" in endless.steps["ask"].duration.reason
