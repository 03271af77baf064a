"""The board at the gate of the lift: frames come through a transfer channel, the motor's steps by interrupt."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, steps
from tachys.demo.arrivals import MS, US, at_random, regular
from tachys.demo.machine import Burns, Machine, Plan, Routine, Task

ANALYSER = Analyser(250_000, -21, 51_000 * US + 13_777, 900 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    dice = random.Random(5)
    frames = list(at_random(dice, until, 48 * MS, 160 * MS))
    transfers = [(at, at + dice.randint(2_765 * US, 2_795 * US)) for at in frames]
    motor = list(regular(200 * US, 43 * US, until, ppm=-17))
    plan = Plan(
        (
            Routine("motor", 0, motor, (7_400_000, 9_500_000)),
            Routine("frame", 1, [end for _, end in transfers], (6_300_000, 8_400_000), sets=("ticket",)),
        ),
        (
            Task("judge", (Burns((420 * US, 570 * US)),), polls="ticket"),
            Task("lamp", (Burns((95 * US, 114 * US)),), every=25 * MS),
        ),
        overhead=1_200_000, entry=460_000, exit=375_000, chain=250_000,
    )  # fmt: skip
    truth = Machine(plan, 3).run(until)
    shown = {
        "D0": [change for begin, end in transfers for change in ((begin, 1), (end, 0))],
        "D1": busy(truth, "frame"), "D2": busy(truth, "motor"), "D3": steps(truth, "judge"),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
