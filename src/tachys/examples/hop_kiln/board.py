"""The board at the hop kiln: a transmitter at half its rate, so that a report keeps the loop for twice as long."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
from tachys.demo.arrivals import MS, US, at_random
from tachys.demo.machine import Burns, Empties, Fills, Machine, Plan, Routine, Store, Task

ANALYSER = Analyser(500_000, 31, 47_000 * US + 3_331, 6_000 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    flame = list(at_random(random.Random(8), until, 16 * MS, 44 * MS))
    plan = Plan(
        (
            Routine("flame", 0, flame, (3_200_000, 4_800_000), sets=("flicker",)),
            Routine("send", 1, (), (2_100_000, 2_900_000), moves="register", asked="ring",
                    empties=Empties("ring", 1), waits=True),
        ),
        (
            Task("burner", (Burns((83 * US, 116 * US)),), polls="flicker"),
            Task("report", (Burns((155 * US, 210 * US)), Fills("ring", (72, 90))), every=500 * MS),
        ),
        overhead=1_458_000, entry=312_500, exit=250_000, chain=166_667,
        stores=(Store("ring", 64), Store("register", 1, sent_in=(1_040 * US, 1_043 * US))),
    )  # fmt: skip
    truth = Machine(plan, 11).run(until)
    shown = {
        "D0": pulses(flame, 40 * US), "D1": steps(truth, "burner"), "D2": steps(truth, "report"),
        "D3": busy(truth, "send"), "D4": pulses([begin for _, begin, _ in truth.sent], 60 * US),
        "D5": pulses([end for _, _, end in truth.sent], 60 * US),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
