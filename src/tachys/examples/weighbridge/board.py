"""The board at the weighbridge: two telegrams into one ring, and a display that does not answer each time."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
from tachys.demo.arrivals import MS, US, telegrams
from tachys.demo.machine import Burns, Empties, Machine, Plan, Reply, Routine, Store, Task, Waits

ANALYSER = Analyser(250_000, 12, 73_000 * US + 9_131, 3_000 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    dice = random.Random(4)
    scale = list(telegrams(dice, until, (30 * MS, 70 * MS), 14, 260_425_000))
    badge = list(telegrams(dice, until, (300 * MS, 900 * MS), 10, 1_041_700_000))
    answers = [dice.random() < 0.85 for _ in range(until // (50 * MS) + 1)]
    plan = Plan(
        (
            Routine("scale", 0, scale, (2_100_000, 2_900_000), puts="ring"),
            Routine("badge", 1, badge, (3_100_000, 3_900_000), puts="ring"),
        ),
        (
            Task("parse", (Burns((3_100_000, 4_800_000)), Empties("ring", 80, (6_100_000, 7_800_000))), asked="ring"),
            Task("ask", (Waits(None, (12 * MS, 12 * MS), reply="display"), Burns((41 * US, 49 * US))), every=50 * MS),
        ),
        overhead=22_500_000, entry=312_500, exit=250_000, chain=166_700, stores=(Store("ring", 80),),
        replies=(Reply("display", "ask", (2_950 * US, 3_550 * US), answers),),
    )  # fmt: skip
    truth = Machine(plan, 3).run(until)
    shown = {
        "D0": busy(truth, "scale"), "D1": busy(truth, "badge"), "D2": pulses(scale, 60 * US),
        "D3": pulses(badge, 60 * US), "D4": steps(truth, "parse"), "D5": steps(truth, "ask"),
        "D6": pulses([at for _, _, at in truth.answered], 60 * US),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
