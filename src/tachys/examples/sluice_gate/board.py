"""The board of the sluice gate: its gate task makes up for what a page of the record has cost it."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
from tachys.demo.arrivals import MS, US, at_random
from tachys.demo.machine import Burns, Machine, Plan, Routine, Task

ANALYSER = Analyser(500_000, 5, 203_000 * US + 99_001, 1400 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    water = list(at_random(random.Random(2), until, 1_600 * US, 12 * MS))
    plan = Plan(
        (Routine("level", 0, water, (10_600_000, 13_500_000)),),
        (
            Task("gate", (Burns((320 * US, 430 * US)),), every=10 * MS),
            Task("record", (Burns((21_500 * US, 23_600 * US)),), every=500 * MS),
        ),
        overhead=2_500_000, entry=660_000, exit=500_000, chain=1_160_000,
    )  # fmt: skip
    truth = Machine(plan, 4).run(until)
    shown = {
        "D0": pulses(water, 300 * US), "D1": busy(truth, "level"), "D2": steps(truth, "gate"),
        "D3": steps(truth, "record"),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
