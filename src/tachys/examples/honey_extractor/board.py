"""The board at the honey extractor: a control routine that copies a block each eighth time, not each sixteenth."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps, toggles
from tachys.demo.arrivals import MS, US, at_random
from tachys.demo.machine import Burns, Machine, More, Plan, Routine, Tally, Task

ANALYSER = Analyser(100_000, -23, 31_000 * US + 2_617, 600 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    periods = list(range(37 * US, until, 100 * US))
    converted = [at + 2_100_000 for at in periods]
    scale = list(at_random(random.Random(3), until, 710 * US, 1_900 * US))
    more = More(8, 3, (9_200_000, 10_700_000), ("block",))
    plan = Plan(
        (
            Routine("scale", 0, scale, (12_300_000, 17_600_000)),
            Routine("control", 1, converted, (22_300_000, 26_500_000), more=more,
                    marks=(("duty", (11_200_000, 12_700_000)),)),
        ),
        (
            Task("log", (Burns((153 * US, 184 * US)),), polls="block"),
            Task("screen", (Burns((310 * US, 350 * US)),), polls="due"),
        ),
        overhead=1_250_000, entry=218_750, exit=187_500, chain=93_750,
        tallies=(Tally("quarter", "control", 2500, repeats=True, sets=("due",)),),
    )  # fmt: skip
    truth = Machine(plan, 7).run(until)
    shown = {
        "D0": busy(truth, "control"), "D1": toggles([at for name, at in truth.marks if name == "control.duty"]),
        "D2": pulses(periods, 20 * US), "D3": busy(truth, "scale"), "D4": steps(truth, "log"),
        "D5": steps(truth, "screen"),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
