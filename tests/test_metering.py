"""A column of the supply current beside the lines: what each state takes, who takes it, what the model has wrong."""

import random
import re

import numpy as np
import pytest
from msgspec.structs import replace

from boards import BOARD, first
from calling import capture_bytes, tachys
from planted import ANALYSER, CYCLE, MS, US, _apart
from tachys.capture.csv import read_csv
from tachys.capture.table import Signal
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.checking.correct.fitting import fit
from tachys.cli.check import figure_row
from tachys.demo.analyser import Recording, busy, pulses, steps, supply, to_vcd
from tachys.demo.machine import Burns, Halts, Machine, Pauses, Plan, Reply, Routine, Task
from tachys.errors import InputError
from tachys.model.loading import read_model

UNTIL = ANALYSER.begin + ANALYSER.length + 5 * MS
TAKES = {"run": 3.2, "wake": 1.0, "sleep": 0.0019, "sensor": 0.7}
NODE = (
    BOARD.replace("[core]\n", "[core]\nCURRENTS\n")
    + """
[sleep.deep]
wake = "30 us"
current = "1.9 uA"
[unit.sensor]
on = "step.ask.start"
takes = ["5 ms", "7 ms"]
current = "700 uA"
[step.ask]
every = "20 ms"
cost = ["2 ms", "2.4 ms"]
[step.nap]
sleep = "deep"
[probe.D2]
shows = "step.ask"
[probe.D3]
shows = "unit.sensor"
[probe.I]
shows = "current"
scale = "1 mA"
zero = "0.1 uA"
tolerance = "0.5 %"
"""
).replace("CURRENTS", 'current = { run = "3.2 mA", spin = "3.2 mA", wake = "1 mA" }')


def recorded(seed=1, noise=0.02, takes=TAKES, every=100 * US, averaged=False):
    """A capture of the board with a column of its current, in milliamperes."""
    dice = random.Random(seed)
    wheel = list(_apart(dice, UNTIL, 1310 * US, 2900 * US))
    tasks = (
        Task("send", (Burns((8_300_000, 11_600_000)), Pauses((25 * US, 25 * US))), every=20 * MS),
        Task("ask", (Burns((2_030 * US, 2_370 * US)),), every=20 * MS),
        Task("nap", (Halts(wake=30 * US),)),
    )
    plan = Plan((Routine("wheel", 0, wheel, (6_400_000, 8_600_000)),), tasks, 38 * CYCLE, True, 15 * CYCLE, 12 * CYCLE,
                27 * CYCLE, replies=(Reply("sensor", "ask", (5_100 * US, 6_900 * US)),))  # fmt: skip
    truth = Machine(plan, seed).run(UNTIL)
    lines = {"D0": pulses(wheel, 30 * US), "D1": busy(truth, "wheel"), "D5": steps(truth, "send"),
             "D2": steps(truth, "ask"),
             "D3": [change for _, begin, end in truth.answered for change in ((begin, 1), (end, 0))]}  # fmt: skip
    seen = Recording({name: ANALYSER.sampled(levels) for name, levels in lines.items()}, ANALYSER, truth)
    capture = read_vcd([to_vcd(seen).encode()], "board.vcd")
    fine = every // 20 if averaged else every
    on_top = [(begin, end, takes["sensor"]) for _, begin, end in truth.answered]
    column = supply(truth, takes, range(0, UNTIL, fine), 0 if averaged else noise, dice, on_top=on_top)
    value = np.array([each for _, each in column])
    at = np.array([ANALYSER.time(each) for each, _ in column], np.int64)
    if averaged:  # each value is the mean of the step behind it
        value = value[: len(value) // 20 * 20].reshape(-1, 20).mean(axis=1)
        value, at = value + np.array([dice.gauss(0, noise) for _ in value]), at[::20][: len(value)]
    inside = (at >= capture.begin) & (at < capture.end)
    shown = Signal("I", 64, at[inside], value[inside].view(np.int64), np.ones(int(inside.sum()), np.bool_), real=True)
    return replace(capture, signals=capture.signals | {"I": shown.without_repeats()})


def result_of(model=NODE, **how):
    return check(read_model(model, "m.toml"), recorded(**how))


@pytest.mark.parametrize("averaged", [False, True])
@pytest.mark.parametrize("seed", range(4))
def test_what_each_state_takes_lies_within_what_is_stated_and_a_right_model_is_not_blamed(seed, averaged):
    result = result_of(seed=seed, averaged=averaged)
    assert not result.findings
    states = result.board.metered.states
    truth = {"run": 3.2e-3, "sleep.deep": 1.9e-6, "unit.sensor": 0.7e-3}
    assert set(states) == set(truth)
    for name, amperes in truth.items():
        assert abs(states[name].mean - amperes) <= states[name].off, name
        assert states[name].off < 0.02 * amperes + 8e-6, name
    rows = [figure_row(each, result.bounds.system.core) for each in result.figures if "current" in each.key]
    assert next(row[:3] for row in rows) == ["core", "current.run", "3.200 mA"]
    assert all(row[-1] in ("agrees", "not shown") for row in rows)


def test_the_charge_is_that_of_all_who_were_on_top():
    metered = result_of().board.metered
    assert sum(charge for _, charge in metered.causes.values()) == pytest.approx(metered.charge)
    assert sum(share for share, _ in metered.causes.values()) == pytest.approx(1)
    assert metered.causes["step.ask"][0] == pytest.approx(0.11, rel=0.05)
    assert float(metered.average) == pytest.approx(metered.charge / 0.4, rel=1e-3)


@pytest.mark.parametrize(
    ("takes", "found"),
    [
        (TAKES | {"sleep": 0.06}, ("sleep.deep", "current-more")),
        (TAKES | {"sensor": 1.4}, ("unit.sensor", "current-more")),
        (TAKES | {"run": 2.6}, ("core", "current-less")),
    ],
)
@pytest.mark.parametrize("seed", range(2))
def test_a_current_that_the_model_has_wrong_is_named_first_and_written(takes, found, seed):
    result = result_of(takes=takes, seed=seed)
    assert first(result) == [found]
    again = fit(NODE, "m.toml", [result.capture], "today")
    assert not check(read_model(again.text, "m.toml"), result.capture).findings


VALVE = (
    NODE.replace('current = "700 uA"', 'pins = { valve = ["high", { does = "low", at = "end" }] }')
    .replace('shows = "unit.sensor"', 'shows = "pin.valve"') + '[pin.valve]\ncurrent = "700 uA"\n'
)  # fmt: skip


@pytest.mark.parametrize("seed", range(2))
def test_a_pin_that_is_high_takes_its_current_on_top(seed):
    result = result_of(VALVE, seed=seed)
    assert not result.findings
    state = result.board.metered.states["pin.valve"]
    assert abs(state.mean - 0.7e-3) <= state.off < 0.02e-3
    wrong = result_of(VALVE, seed=seed, takes=TAKES | {"sensor": 1.4})
    assert first(wrong) == [("pin.valve", "current-more")]
    again = fit(VALVE, "m.toml", [wrong.capture], "today")
    assert not check(read_model(again.text, "m.toml"), wrong.capture).findings
    hidden = result_of(VALVE.replace('[probe.D3]\nshows = "pin.valve"\n', ""))
    assert not hidden.board.metered.states
    assert any("pin.valve takes a current of its own, and no line" in each.why for each in hidden.figures)


def test_it_is_read_from_files_too():
    capture = recorded()
    for form, read in (("a.vcd", read_vcd), ("a.csv", read_csv)):
        found = read([capture_bytes(capture, form)], form)
        metered = check(read_model(NODE, "m.toml"), found).board.metered
        assert metered.states["run"].mean == pytest.approx(3.2e-3, rel=0.01)


def test_a_unit_without_a_line_makes_states_unknown_and_it_is_said():
    result = result_of(NODE.replace('[probe.D3]\nshows = "unit.sensor"\n', ""))
    assert not result.board.metered.states
    assert any("no line shows it" in each.why for each in result.figures if "current" in each.key)


@pytest.mark.parametrize(
    ("old", "new", "what"),
    [
        ('scale = "1 mA"\n', "", "what a 1 in that column is"),
        ('zero = "0.1 uA"\n', "", "how far off a 0 may be"),
        ('scale = "1 mA"', 'scale = "1 mA"\nedge = "rise"', "does not go with"),
        ('shows = "step.ask"', 'shows = "step.ask"\nzero = "1 uA"', 'goes with shows = "current"'),
    ],
)
def test_what_does_not_go_together_is_said(old, new, what):
    with pytest.raises(InputError, match=what):
        read_model(NODE.replace(old, new), "m.toml")


def test_the_page_and_the_screen_show_it_to_the_digits_that_are_known(tmp_path):
    (tmp_path / "model.toml").write_text(NODE + '[battery]\ncapacity = "220 mAh"\n')
    (tmp_path / "board.vcd").write_bytes(capture_bytes(recorded(noise=0.3), "board.vcd"))
    told = tachys(tmp_path, "energy", "model.toml", "board.vcd", "--for", "200 ms", "--no-savings")
    assert told.returncode == 0
    assert re.search(r"unit\.sensor +700\.0 uA +[5-9]\d\d uA +± 1\d\d uA", told.stdout)
    assert re.search(r"measured in board\.vcd +\d", told.stdout)
    assert tachys(tmp_path, "report", "model.toml", "board.vcd", "-o", "r.html").returncode == 0
    page = (tmp_path / "r.html").read_text()
    assert "Supply current" in page
    assert "measured in board.vcd" in page
    assert "the supply current" in page
