"""Units that do not always answer: by hand, both machines, on paper, a sensor that is asked and stays silent."""

import random

import pytest

from boards import BOARD, first, on_board
from planted import MS, US
from playing import played
from tachys.checking.checking import check
from tachys.checking.correct.fitting import fit
from tachys.cli.check import figure_row
from tachys.demo.analyser import busy, pulses, steps
from tachys.demo.machine import Burns, Reply, Routine, Task, Waits
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted, losses
from tachys.worstcase.analysis import bounds
from two_machines import assert_agreement

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
    _, records, index = play_whole(system, RunOptions(seed=seed), end)
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
    run = played(model("50 %"), RunOptions(seed=1, costs="most"), 20_000 * NS)
    seen = counted(run.memory, run.index)["step.ask.duration"]
    # most costs: answered after 30 and interrupted for 5, then 10 of its own; else it has given up after 50
    assert (seen.least, seen.most) == (45 * NS, 50 * NS)
    assert losses(run.memory, run.index)["unit.sensor"] == 0


def test_on_paper_nothing_promises_that_an_answer_comes():
    found = bounds(model("90 %", '[need.heard]\nfrom = "step.ask.start"\nto = "isr.reply.end"\nwithin = "80 ns"\n'))
    assert found.needs["heard"].verdict == "at risk"
    assert "may not answer" in found.needs["heard"].reason
    assert found.steps["ask"].duration.most == 65 * NS, "50 until it gives up, 10 of its own, 5 that interrupt it"
    sure = bounds(model("100 %", '[need.heard]\nfrom = "step.ask.start"\nto = "isr.reply.end"\nwithin = "80 ns"\n'))
    assert sure.needs["heard"].verdict == "met"
    assert sure.steps["ask"].duration.most == 45 * NS
    endless = bounds(model("90 %", **{WAITING: 'waits = "unit.sensor"\n'}))
    assert endless.steps["ask"].duration.most is None
    assert "may not answer" in endless.steps["ask"].duration.reason


@pytest.mark.parametrize("seed", range(12))
def test_both_machines_do_the_same(seed):
    dice = random.Random(seed)
    anew, gives_up = dice.choice(["drop", "restart"]), dice.choice(['at_most = "25 ns"\n', 'at_most = "90 ns"\n'])
    system = model(f"{dice.choice([10, 50, 90])} %", 'sets = ["heard"]\n[step.hear]\npolls = "heard"\ncost = "7 ns"\n',
                   **{'at_most = "50 ns"\n': gives_up, '"200 ns"': f'"{dice.choice([15, 40, 70, 200])} ns"',
                      'answers =': f'busy = "{anew}"\nanswers =', 'cost = "10 ns"\n': 'cost = "10 ns"\n'})  # fmt: skip
    assert_agreement(system, RunOptions(seed=seed, costs="most"), 20_000 * NS)


def test_what_cannot_stay_silent_is_said():
    for more, what in [('busy = "queue"\n', "not yet beside a queue"), ('answers = "0 %"\n', "how many of its")]:
        text = ASKED.replace('answers = "SHARE"\n', ('answers = "90 %"\n' if "busy" in more else "") + more)
        with pytest.raises(InputError, match=what):
            read_model(text, "m.toml")


# --- a sensor on a bus, asked each 20 ms -----------------------------------------------------------------------------

SENSOR = (
    BOARD
    + """
[unit.sensor]
on = "step.ask.start"
takes = ["3 ms", "4 ms"]
answers = "SHARE"
[isr.reply]
on = "unit.sensor"
level = 1
cost = ["20 us", "30 us"]
[step.ask]
every = "20 ms"
waits = "unit.sensor"
at_most = "6 ms"
cost = ["50 us", "60 us"]
[probe.D2]
shows = "step.ask"
[probe.D3]
shows = "unit.sensor.end"
edge = "rise"
[probe.D4]
shows = "isr.reply"
[need.heard]
from = "step.ask.start"
to = "isr.reply.end"
within = "5 ms"
"""
)


def asked(share, seed, modelled):
    """What a check says of a board whose sensor answers so often."""
    dice = random.Random(seed)
    reply = Reply("sensor", "ask", (3_100_000_000, 3_900_000_000), [dice.random() < share for _ in range(400)])
    task = Task("ask", (Waits(None, (6 * MS, 6 * MS), reply="sensor"), Burns((52 * US, 58 * US))), every=20 * MS)
    routine = Routine("reply", 1, (), (22 * US, 28 * US), reply="sensor")

    def lines(truth):
        ends = [at for _, _, at in truth.answered]
        return {"D2": steps(truth, "ask"), "D3": pulses(ends, 30 * US), "D4": busy(truth, "reply")}

    board = SENSOR.removeprefix(BOARD).replace('answers = "SHARE"\n', modelled and f'answers = "{modelled}"\n')
    return on_board(board, seed, False, (task,), lines, routines=(routine,), replies=(reply,))[0]


@pytest.mark.parametrize(("share", "modelled"), [(0.9, "90 %"), (0.5, "40 %"), (1, ""), (1, "99 %"), (0, "1 %")])
def test_a_right_model_is_not_blamed(share, modelled):
    result = asked(share, 3, modelled)
    assert not result.findings
    assert (result.needs["heard"].count > 0) == (share < 1)
    rows = [figure_row(each, result.bounds.system.core) for each in result.figures if each.key == "answers"]
    assert all(row[2] == modelled and row[3].endswith(" %") for row in rows)


@pytest.mark.parametrize(("share", "modelled"), [(0.9, ""), (0.4, "90 %"), (0.95, "20 %"), (0.97, "")])
def test_how_often_it_really_answers_is_named_first_and_written(share, modelled):
    result = asked(share, 3, modelled)
    assert first(result) == [("unit.sensor", "answers-off")]
    fitted = fit(SENSOR.replace('answers = "SHARE"\n', modelled and f'answers = "{modelled}"\n'), "m.toml",
                 [result.capture], "today")  # fmt: skip
    again = check(read_model(fitted.text, "m.toml"), result.capture)
    assert not again.findings
