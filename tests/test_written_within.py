"""Pins that are written some time after the first and before the last instruction, with something on top in between."""

import random
import re
from functools import cache

import pytest

from calling import tachys
from planted import US
from tachys.capture.vcd import read_vcd
from tachys.checking.board.measuring import measure
from tachys.checking.checking import check
from tachys.checking.compare.compared import Agreement
from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps, to_vcd
from tachys.demo.machine import Burns, Machine, Plan, Routine, Task
from tachys.model.loading import read_model
from tachys.worstcase.analysis import bounds

UNTIL = 150_000 * US
NS = 1000
MODEL = """
tachys = 1
[core]
clock = "50 MHz"
levels = 3
entry = "{entry} cycles"
exit = "8 cycles"
chain = "{chain} ns"
[capture]
tolerance = "60 ppm"
[source.edge]
gap = "60 us"
[source.byte]
gap = "75 us"
[source.slot]
every = "170 us"
tolerance = "60 ppm"
{events}
[isr.edge]
on = "source.edge"
level = 0
cost = "9 us"
[isr.byte]
on = "source.byte"
level = 1
cost = "6 us"
[isr.slot]
on = "source.slot"
level = 2
cost = "30 us"
[loop]
overhead = "1 us"
[step.show]
every = "2 ms"
cost = "80 us"
[probe.EDGE]
shows = "isr.edge"
[probe.BYTE]
shows = "isr.byte"
after = "2 us"
before_end = "1 us"
[probe.SLOT]
shows = "isr.slot"
after = "{lead} us"
before_end = "{trail} us"
[probe.SHOW]
shows = "step.show"
"""
EVENTS = '[probe.EV{k}]\nshows = "source.{name}"\nedge = "rise"\n'


@cache
class Board:
    """Three routines on three levels each with a pin that it writes itself, and a step."""

    def __init__(self, seed: int, entry: int = 12, said: int = 12) -> None:
        dice = random.Random(seed)
        self.lead, self.trail, shown = dice.choice([1, 3, 8]), dice.choice([1, 3, 8]), dice.random() < 0.5 or entry < 12
        chain = dice.choice([400, 300])
        arrivals = {}
        for name, gap in (("edge", 60 * US), ("byte", 75 * US)):
            now, each = 0, []
            while now < UNTIL:
                now += gap + int(dice.expovariate(1 / (0.3 * gap)))
                each.append(now)
            arrivals[name] = each
        arrivals["slot"] = list(range(dice.randrange(170 * US), UNTIL, 170 * US))
        within = {"edge": (0, 9), "byte": (2, 5), "slot": (self.lead, 30 - self.trail)}
        costs = {"edge": 9, "byte": 6, "slot": 30}
        routines = tuple(
            Routine(name, level, arrivals[name], (costs[name] * US, costs[name] * US),
                    marks=(("on", (on * US, on * US)), ("off", (off * US, off * US))))
            for level, (name, (on, off)) in enumerate(within.items())
        )  # fmt: skip
        task = Task("show", (Burns((80 * US, 80 * US)),), every=2000 * US)
        plan = Plan(routines, (task,), US, True, entry * 20 * NS, 160 * NS, chain * NS)
        self.truth = Machine(plan, seed).run(UNTIL)
        self.analyser = Analyser(50_000, 0, 12_000 * US, 120_000 * US, 1000)
        lines = {name.upper(): self.pin(name) for name in within}
        if shown:
            lines |= {f"EV{k}": pulses(arrivals[name], 3 * US) for k, name in enumerate(("edge", "byte", "slot"))}
        lines["SHOW"] = steps(self.truth, "show")
        text = (
            "".join(EVENTS.format(k=k, name=name) for k, name in enumerate(("edge", "byte", "slot"))) if shown else ""
        )
        seen = {name: self.analyser.sampled(line) for name, line in lines.items()}
        self.capture = read_vcd([to_vcd(Recording(seen, self.analyser, self.truth)).encode()], "pins.vcd")
        self.text = MODEL.format(lead=self.lead, trail=self.trail, chain=chain, events=text, entry=said)
        self.system = read_model(self.text, "pins.toml")

    def pin(self, name):
        if name == "edge":
            return busy(self.truth, name)
        at = {
            which: [instant for mark, instant in self.truth.marks if mark == f"{name}.{which}"]
            for which in ("on", "off")
        }
        return [change for on, off in zip(at["on"], at["off"], strict=False) for change in ((on, 1), (off, 0))]


@pytest.mark.parametrize("seed", range(10))
def test_what_ran_between_an_instruction_and_its_pin_is_taken_off(seed):
    board = Board(seed)
    found = measure(board.system, bounds(board.system), board.capture)
    for name in ("byte", "slot"):
        bodies = found.shown.bodies[f"isr.{name}"]
        whole = bodies.whole
        runs = [run for run in board.truth.served if run.name == name]
        starts, ends = [board.analyser.time(run.start) for run in runs], [board.analyser.time(run.end) for run in runs]
        # what was accepted just before the other, and began behind it, may as well have begun before
        starts += [
            board.analyser.time(run.start - 240 * NS)
            for run in board.truth.served
            if run.name in {"edge", "byte"} - {name}
        ]
        off = 2 * board.capture.known_to + 2 * NS
        assert all(min(abs(start - each) for each in starts) <= off for start in bodies.start[whole].tolist())
        assert all(min(abs(end - each) for each in ends) <= off for end in bodies.end[whole].tolist())


@pytest.mark.parametrize("seed", range(10))
def test_a_right_model_of_such_a_board_is_not_blamed(seed):
    board = Board(seed)
    result = check(board.system, board.capture)
    assert [(each.code, each.about, each.text) for each in result.findings] == []
    assert [each.about for each in result.figures if each.state is Agreement.REFUTES] == []


@pytest.mark.parametrize("seed", range(10))
def test_an_entry_that_is_shorter_than_a_sample_leaves_each_run_its_event(seed):
    board = Board(seed, 2, 2)
    result = check(board.system, board.capture)
    assert [(each.code, each.about, each.text) for each in result.findings] == []
    assert sum(each.lost or 0 for each in result.isrs.values()) == 0


@pytest.mark.parametrize("seed", range(10))
def test_an_entry_that_is_modelled_too_long_is_called_so_and_nothing_is_lost_or_late(seed):
    board = Board(seed, 2, 12)
    result = check(board.system, board.capture)
    assert ("entry-shorter", "core") in {(each.code, each.about) for each in result.findings}
    (entry,) = [each for each in result.figures if (each.about, each.key) == ("core", "entry")]
    assert entry.state is Agreement.REFUTES
    assert not any(each.about.startswith("isr.") for each in result.findings)
    assert sum(each.lost or 0 for each in result.isrs.values()) == 0


@pytest.mark.parametrize("seed", range(10))
def test_a_pin_that_is_taken_to_be_written_too_late_is_called_so_and_nothing_is_lost_or_late(seed):
    """Runs seem to begin before their events then: how long they waited, and whether any is lost, cannot be told."""
    board = Board(seed, 2, 2)
    text = board.text.replace('after = "2 us"', 'after = "2.4 us"').replace(
        'before_end = "1 us"', 'before_end = "0.6 us"'
    )
    result = check(read_model(text, "pins.toml"), board.capture)
    assert any("isr.byte would begin" in each and "after of [probe.BYTE]" in each for each in result.remarks)
    told = {each.code for each in result.findings if each.about == "isr.byte"}
    assert told <= {"latency-below-bound", "cost-longer", "cost-shorter"}
    assert not result.isrs["byte"].lost


def test_an_entry_that_is_modelled_too_long_is_called_so_beside_a_line_that_is_not_modelled():
    board = Board(1, 2, 12)
    text = re.sub(r"\[(source|isr)\.edge\]\n(.+\n)+?(?=\[)", "", board.text)
    text = re.sub(r"\[probe\.(EDGE|EV0)\]\nshows = .*\n(edge = .*\n)?", "", text)
    told = {(each.code, each.about) for each in check(read_model(text, "pins.toml"), board.capture).findings}
    assert {("not-modelled", "line.EDGE"), ("entry-shorter", "core")} <= told


@pytest.mark.parametrize(("lead", "trail"), [(1, 3), (12, 14)])  # of the longer ones a whole routine finds room before
def test_a_play_writes_its_pins_as_a_board_does(lead, trail, tmp_path):
    (tmp_path / "pins.toml").write_text(MODEL.format(lead=lead, trail=trail, chain=400, events="", entry=12))
    played = tachys(tmp_path, "simulate", "pins.toml", "--for", "300 ms", "--probes", "-o", "played.vcd")
    assert played.returncode == 0, played.stderr
    assert "nothing refuted" in tachys(tmp_path, "check", "pins.toml", "played.vcd").stdout
