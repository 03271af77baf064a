"""A routine that another interrupts although it is more urgent, or as urgent, by the model: its level is another one."""

import random
from itertools import permutations

import numpy as np
import pytest

from calling import tachys
from planted import MODEL, MS, US, planted
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps, to_vcd
from tachys.demo.machine import Burns, Machine, Plan, Routine, Task
from tachys.model.loading import read_model
from tachys.needs.verdicts import Verdict

UNTIL = 200 * MS


class Board:
    """Four routines of random levels, all lines seen or only those of the bodies; which of them ran within which."""

    def __init__(self, seed: int) -> None:
        dice = random.Random(seed)
        self.dice, self.seed = dice, seed
        self.nesting = dice.random() < 0.8
        self.levels = [dice.randrange(4) if self.nesting else 0 for _ in range(4)]
        self.costs = [(least * US, (least + dice.randint(0, 9)) * US) for least in dice.sample(range(4, 60, 4), 4)]
        self.gaps = [dice.choice([300, 500, 900]) * US for _ in range(4)]
        self.entry, self.exit = (0, 0) if seed % 4 == 3 else (300_000, 200_000)
        come = [self._come(gap) for gap in self.gaps]
        names = "abcd"
        routines = tuple(
            Routine(names[k], self.levels[k], come[k], self.costs[k])
            for k in sorted(range(4), key=self.levels.__getitem__)
        )
        plan = Plan(routines, (Task("work", (Burns((200 * US, 300 * US)),), every=5 * MS),), 2 * US, self.nesting,
                    self.entry, self.exit, self.entry + self.exit)  # fmt: skip
        truth = Machine(plan, seed).run(UNTIL)
        self.step = dice.choice([20_000, 100_000, 500_000])
        analyser = Analyser(self.step, dice.randint(-40, 40), 3 * MS, UNTIL - 10 * MS)
        shown = {name: busy(truth, name) for name in names} | {"step.work": steps(truth, "work")}
        if seed % 2:
            shown |= {f"D{k}": pulses(each, 40 * US) for k, each in enumerate(come)}
        recording = Recording({name: analyser.sampled(line) for name, line in shown.items()}, analyser, truth)
        self.capture = read_vcd([to_vcd(recording).encode()], "levels.vcd")
        edges = {name: np.array([at for at, _ in busy(truth, name)]) for name in names}
        bodies = {name: (at[: len(at) // 2 * 2 : 2], at[1::2]) for name, at in edges.items()}
        begin, end = analyser.begin + US, analyser.begin + analyser.length - 100 * US

        def inside(room: int) -> set[tuple[str, str]]:
            found = set()
            for one, other in permutations(names, 2):
                (a, b), (c, d) = bodies[one], bodies[other]
                last = np.maximum(np.searchsorted(c, a - room) - 1, 0)
                seen = (c[last] > begin) & (c[last] < end) & (c[last] + room < a) & (b + room < d[last])
                found |= {(one, other)} if seen.any() else set()
            return found

        self.within, self.hardly = inside(4 * self.step), inside(0)

    def _come(self, gap: int) -> list[int]:
        found, now = [], 0
        while now < UNTIL:
            now += gap + int(self.dice.expovariate(1 / (400 * US)))
            found.append(now)
        return found

    def told(self, levels: list[int], nesting: bool) -> object:
        text = f"""tachys = 1
[core]
clock = "50 MHz"
levels = 4
nesting = {str(nesting).lower()}
entry = "{self.entry // 1000} ns"
exit = "{self.exit // 1000} ns"
[capture]
tolerance = "60 ppm"
[loop]
overhead = "2 us"
[step.work]
every = "5 ms"
cost = ["200 us", "300 us"]
[need.kept]
of = "source.a"
lost = 0
"""
        for k, name in enumerate("abcd"):
            least, most = (each // US for each in self.costs[k])
            text += f'[source.{name}]\ngap = "{self.gaps[k] // US} us"\n[isr.{name}]\non = "source.{name}"\n'
            text += f'level = {levels[k]}\ncost = ["{least} us", "{most} us"]\ndeadline = "900 us"\n'
            text += f'[probe.{name}]\nshows = "isr.{name}"\n'
            if self.seed % 2:
                text += f'[probe.D{k}]\nshows = "source.{name}"\nedge = "rise"\n'
        return check(read_model(text, "levels.toml"), self.capture)


@pytest.mark.parametrize("seed", range(8))
def test_right_levels_are_not_blamed(seed):
    board = Board(seed)
    result = board.told(board.levels, board.nesting)
    assert result.findings == ()
    assert result.needs["kept"].verdict is not Verdict.MISSED


@pytest.mark.parametrize("seed", range(30))
def test_another_level_is_named_where_one_ran_within_another_that_it_must_wait_for(seed):
    board = Board(seed)
    wrong = list(board.levels)
    board.dice.shuffle(wrong)
    nesting = board.nesting and board.dice.random() < 0.8
    level = dict(zip("abcd", wrong, strict=True))
    against = {(one, other) for one, other in board.within if not nesting or level[one] >= level[other]}
    result = board.told(wrong, nesting)
    about = [each.about.name for each in result.findings if each.code == "level-other"]
    flat = bool(board.within) and not nesting
    assert flat == any(each.code == "nests" for each in result.findings)
    if not against:
        assert not about
        return
    assert result.findings[0].code == ("nests" if flat else "level-other")
    against = {(one, other) for one, other in against if level[one] >= level[other] + flat}
    assert {name for pair in board.hardly for name in pair} >= set(about)
    told = [bool(set(pair) & set(about)) for pair in against]
    assert all(told) if board.entry else any(told) or not told  # with no gap two runs of the other may look like one
    # what follows from it is told by nothing else: no body is longer than it is, no event is lost
    assert not [each for each in result.findings if each.code.startswith(("cost", "runs", "lost"))]
    assert all(need.verdict is not Verdict.MET for need in result.needs.values())


def test_what_a_wrong_level_makes_of_other_commands(tmp_path):
    """No probe is called wrong for it, and a fit leaves it to who knows the register."""
    (tmp_path / "m.toml").write_text(MODEL)
    (tmp_path / "b.vcd").write_text(to_vcd(planted("another level")))
    probes = tachys(tmp_path, "probes", "m.toml", "b.vcd")
    assert (probes.returncode, "does not show" in probes.stdout) == (0, False)
    fit = tachys(tmp_path, "fit", "m.toml", "b.vcd")
    assert "Left to you: isr.wheel: its level is another one than modelled" in " ".join(fit.stdout.split())
    explained = tachys(tmp_path, "explain", "m.toml", "b.vcd", "1")
    assert "isr.adc_done interrupted it" in " ".join(explained.stdout.split())
    assert "isr.adc_done runs" in explained.stdout
