"""Events of a timer that no line shows and that had no run: told where they are sure, never more than the board lost."""

import random
from functools import cache

import numpy as np
import pytest

from calling import tachys
from planted import US
from tachys.capture.vcd import read_vcd
from tachys.checking.board.grid import hidden_grid
from tachys.checking.checking import check
from tachys.demo.analyser import Analyser, Recording, busy, steps, to_vcd
from tachys.demo.machine import Burns, Hold, Machine, Plan, Routine, Task
from tachys.model.loading import read_model
from tachys.needs.verdicts import Verdict

UNTIL = 200_000 * US
MODEL = """
tachys = 1
[core]
clock = "50 MHz"
levels = 2
nesting = {nesting}
entry = "16 cycles"
exit = "10 cycles"
[capture]
tolerance = "60 ppm"
[source.beat]
every = "{period} us"
jitter = "{jitter} us"
tolerance = "60 ppm"
[isr.pulse]
on = "source.beat"
level = 1
cost = ["3 us", "6 us"]
[source.call]
gap = "300 us"
[isr.other]
on = "source.call"
level = 0
cost = ["2 us", "9 us"]
[loop]
overhead = "40 cycles"
[step.write]
every = "9700 us"
cost = ["5 us", "2000 us"]
[need.soon]
from = "source.beat"
to = "isr.pulse.start"
within = "70 us"
[need.kept]
of = "source.beat"
lost = 0
"""


@cache
class Locked:
    """A board whose loop holds interrupts off now and then for some periods of a timer; the model knows no such lock."""

    def __init__(self, seed: int, locks: bool = True) -> None:
        dice = random.Random(seed)
        self.period, self.jitter = dice.choice([40, 100, 250]), dice.choice([0, 0, 3])
        nesting, step = dice.random() < 0.5, dice.choice([62_500, 100_000, 1_000_000])
        true = self.period * US * (10**6 + dice.randint(-50, 50)) // 10**6
        first = dice.randrange(self.period * US)
        pulses = [first + k * true + dice.randint(0, self.jitter * US) for k in range(UNTIL // true)]
        others, now = [], 0
        while now < UNTIL:
            now += 300 * US + int(dice.expovariate(1 / (700 * US)))
            others.append(now)
        long = dice.randint(1, 900) * US
        lock = Hold(0, dice.randint(0, 30) * US, long) if locks else Hold(1, 0, 2 * US)
        write = Task("write", (Burns((long + 40 * US, long + 90 * US), (lock,)),), every=9700 * US)
        routines = (Routine("other", 0, others, (2 * US, 9 * US)), Routine("pulse", 1, pulses, (3 * US, 6 * US)))
        plan = Plan(routines, (write,), 40 * 20_000, nesting, 16 * 20_000, 10 * 20_000, 26 * 20_000)
        self.truth = Machine(plan, seed).run(UNTIL)
        lines = {"pulse": busy(self.truth, "pulse"), "other": busy(self.truth, "other"),
                 "write": steps(self.truth, "write")}  # fmt: skip
        self.analyser = Analyser(step, dice.randint(-40, 40), 15_000 * US, 170_000 * US, 1000)
        shown = {name: self.analyser.sampled(line) for name, line in lines.items()}
        capture = read_vcd([to_vcd(Recording(shown, self.analyser, self.truth)).encode()], "locked.vcd")
        model = MODEL.format(period=self.period, jitter=self.jitter, nesting=str(nesting).lower())
        self.result = check(read_model(model, "locked.toml"), capture)

    def inside(self, at: int) -> bool:
        return 0 < self.analyser.time(at) <= (self.analyser.samples - 1) * self.analyser.sample

    @property
    def lost(self) -> list[int]:
        return [at for name, at in self.truth.lost if name == "pulse" and self.inside(at)]

    @property
    def waited(self) -> list[int]:
        return [run.start - run.event for run in self.truth.served if run.name == "pulse" and self.inside(run.start)]


@pytest.mark.parametrize("seed", range(40))
def test_no_more_are_told_than_were_lost_and_no_wait_is_longer_than_it_was(seed):
    board = Locked(seed)
    told = board.result.isrs["pulse"]
    assert (told.lost or 0) <= len(board.lost)
    if told.latency is not None:
        room = 2 * board.result.capture.known_to + board.jitter * US + max(board.waited) // 10_000
        assert told.latency.most <= max(board.waited) + room
    kept = board.result.needs["kept"]
    assert kept.count == (told.lost or 0)
    assert kept.verdict is not Verdict.MET or not board.lost


def test_most_of_what_was_lost_is_told():
    fine = [board for seed in range(40) if (board := Locked(seed)).analyser.sample < US]  # else two runs look like one
    lost = [(len(board.lost), board.result.isrs["pulse"].lost or 0) for board in fine if len(board.lost) > 20]
    assert len(lost) > 15
    assert sum(told for _, told in lost) > 0.6 * sum(were for were, _ in lost)
    many = max(fine, key=lambda board: board.result.isrs["pulse"].lost or 0).result
    assert (many.needs["kept"].verdict, many.needs["soon"].verdict) == (Verdict.MISSED, Verdict.MISSED)
    assert {miss.causes[0].what for miss in many.needs["kept"].misses} == {"step.write"}


@pytest.mark.parametrize("seed", range(1000, 1020))
def test_a_board_without_a_lock_loses_nothing(seed):
    board = Locked(seed, locks=False)
    assert board.result.isrs["pulse"].lost in (0, None)
    assert board.result.needs["kept"].verdict is Verdict.MET


@pytest.mark.parametrize(
    ("starts", "skipped"),
    [
        # releases at 0, 100, 200, ...: held off from 250 to 540, so that 300 waits, 400 and 500 find it waiting
        ([0, 100, 200, 540, 600, 700, 800, 900, 1000, 1100], [0, 0, 0, 2, 0, 0, 0, 0, 0, 0]),
        # 300 is served at 404, behind the acceptance of which 400 came: both have their run
        ([0, 100, 200, 404, 430, 500, 600, 700, 800, 900], [0, 0, 0, 0, 0, 0, 0, 0, 0, 0]),
    ],
)
def test_releases_without_a_run_by_hand(starts, skipped):
    grid = hidden_grid(np.array(starts, np.int64), 100.0)
    assert grid is not None
    assert grid.skipped.tolist() == skipped


CROWDED = """
tachys = 1
[core]
clock = "8 MHz"
levels = 2
entry = "8 cycles"
exit = "4 cycles"
[source.beat]
timer = {{ clock = "core", width = 16, prescale = 8, count = 2000 }}
[source.call]
gap = "700 us"
[isr.call]
on = "source.call"
level = 0
cost = "5 us"
[isr.beat]
on = "source.beat"
level = 1
cost = "{cost} us"
[probe.beat]
shows = "isr.beat"
[probe.call]
shows = "isr.call"
"""


@pytest.mark.parametrize("cost", [1995, 2000, 2257, 4100])
def test_a_routine_that_runs_on_without_a_pause_says_nothing_of_its_timer(cost, tmp_path):
    """Its releases are lost, or wait, so that its own pace is another one."""
    (tmp_path / "board.toml").write_text(CROWDED.format(cost=cost))
    (tmp_path / "model.toml").write_text(CROWDED.format(cost=260))
    assert tachys(tmp_path, "simulate", "board.toml", "--for", "1 s", "--probes", "-o", "board.vcd").returncode == 0
    told = tachys(tmp_path, "check", "model.toml", "board.vcd", "--figures").stdout
    assert "1. isr.beat: its own running time is longer than modelled" in told
    assert "2. " not in told
    assert "its routine runs on without a pause" in told
