"""The board of the rain gauge: it halts without another look at its flags."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
from tachys.demo.arrivals import MS, US, at_random, regular
from tachys.demo.machine import Burns, Halts, Machine, Plan, Routine, Task

ANALYSER = Analyser(1_000_000, 8, 111_000 * US + 451_000, 9000 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    tips = list(at_random(random.Random(21), until, 75 * MS, 460 * MS))
    seconds = list(regular(250 * MS, 17 * MS, until, ppm=12))
    plan = Plan(
        (
            Routine("tip", 0, tips, (12_700_000, 17_100_000), sets=("tipped",)),
            Routine("second", 1, seconds, (21 * US, 28 * US), sets=("due",)),
        ),
        (
            Task("count", (Burns((210 * US, 250 * US)),), polls="tipped"),
            Task("send", (Burns((16_300 * US, 18_500 * US)),), polls="due"),
            Task("sleep", (Burns((0, 0)), Halts())),
        ),
        overhead=3_125_000, entry=2_000_000, exit=1_500_000, chain=1_250_000, wake=34 * US,
    )  # fmt: skip
    truth = Machine(plan, 9).run(until)
    shown = {
        "tip": pulses(tips, 4 * MS), "isr_tip": busy(truth, "tip"), "isr_second": busy(truth, "second"),
        "count": steps(truth, "count"), "send": steps(truth, "send"), "asleep": steps(truth, "sleep"),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
