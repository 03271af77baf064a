"""The board at the river: woken once a minute by its clock chip and each 10 ms by a tick that nobody needs."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps, supply
from tachys.demo.arrivals import MS, US
from tachys.demo.machine import Burns, Halts, Machine, Pauses, Plan, Routine, Task

ANALYSER = Analyser(1_000_000, -14, 7_000 * MS, 130_000 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 100 * MS
    dice = random.Random(3)
    tick = list(range(3 * MS, until, 10 * MS))
    minute = list(range(20_000 * MS + dice.randint(0, MS), until, 60_000 * MS + 400 * US))
    plan = Plan(
        (
            Routine("minute", 0, minute, (21 * US, 24 * US), sets=("due",)),
            Routine("tick", 1, tick, (4_200_000, 5_800_000)),
        ),
        (
            Task("gauge", (Burns((92 * MS, 108 * MS)), Pauses((18_000 * MS,) * 2)), polls="due"),
            Task("nap", (Halts(("due",)),)),
        ),
        overhead=10_010_000, entry=2_000_000, exit=1_500_000, chain=3_500_000, wake=12 * US,
    )  # fmt: skip
    truth = Machine(plan, 4).run(until)
    radio = [(end, end + dice.randint(65 * MS, 75 * MS)) for name, _, end in truth.steps if name == "gauge"]
    shown = {
        "D0": busy(truth, "minute"), "D1": busy(truth, "tick"), "D2": steps(truth, "gauge"),
        "D3": [change for begin, end in radio for change in ((begin, 1), (end, 0))], "D4": pulses(minute, 2 * MS),
    }  # fmt: skip
    gauge = [(end - 18_000 * MS, end) for name, _, end in truth.steps if name == "gauge"]
    instants = range(ANALYSER.begin + MS, ANALYSER.begin + ANALYSER.length, 2 * MS)
    takes = {"run": 1.2, "spin": 1.1, "wake": 0.8, "sleep": 0.21}
    meter = supply(truth, takes, instants, 0.004, dice, gauge, [(*each, 11.0) for each in radio])
    column = [(ANALYSER.time(at) // ANALYSER.sample, round(milliamperes, 3)) for at, milliamperes in meter]
    levels = {name: ANALYSER.sampled(lines) for name, lines in shown.items()}
    return Recording(levels, ANALYSER, truth, ("I", [(int(sample), each) for sample, each in column]))
