"""The board at the lane of eggs: while the scale still swings, its routine leaves the flap as it is."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
from tachys.demo.arrivals import MS, US
from tachys.demo.machine import Burns, Empties, Machine, Plan, Routine, Store, Tally, Task

ANALYSER = Analyser(1_000_000, 21, 310_000 * US + 5_113, 20_000 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 60 * MS
    dice = random.Random(7)
    eggs, cracks, notches = list[int](), list[int](), list[int]()
    at = 20 * MS
    while at < until:
        eggs.append(at)
        if dice.random() < 0.15 and (not cracks or at + 42 * MS - cracks[-1] > 155 * MS):
            cracks.append(at + dice.randint(41 * MS, 60 * MS))
        at += dice.randint(112 * MS, 190 * MS)
    at = 0
    while at < until:
        at += dice.randint(2_010 * US, 2_300 * US)
        notches.append(at)
    plan = Plan(
        (
            Routine("crack", 0, cracks, (14_500_000, 17_500_000)),
            Routine("egg", 1, eggs, (29 * US, 35 * US)),
            Routine("notch", 2, notches, (4_200_000, 5_800_000)),
        ),
        (Task("print", (Burns((245 * US, 305 * US)), Empties("due", 1)), asked="due"),),
        overhead=3 * US, entry=750_000, exit=625_000, chain=1_375_000,
        stores=(Store("due", 1000),), tallies=(Tally("forty", "notch", 40, repeats=True, puts="due"),),
    )  # fmt: skip
    truth = Machine(plan, 5).run(until)
    flap, shut = list[tuple[int, int]](), list[tuple[int, int]]()
    for run in (each for each in truth.served if each.name == "egg"):
        end = run.end + dice.randint(38_300 * US, 39_700 * US)
        shut += [(run.end, 1), (end, 0)]
        if dice.random() > 0.08:
            flap += [(run.start + 6 * US, 1), (end, 0)]
    jet = [
        change for run in truth.served if run.name == "crack" for change in ((run.start, 1), (run.start + 9 * MS, 0))
    ]
    shown = {
        "D0": pulses(eggs, 3 * MS), "D1": busy(truth, "egg"), "D2": flap, "D3": busy(truth, "crack"), "D4": jet,
        "D5": steps(truth, "print"), "D6": pulses(notches, 400 * US), "D7": shut, "D8": pulses(cracks, 2 * MS),
        "D9": busy(truth, "notch"),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
