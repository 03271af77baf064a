"""The board at the river: woken once a minute by its clock chip and each 10 ms by a tick that nobody needs."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
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
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
