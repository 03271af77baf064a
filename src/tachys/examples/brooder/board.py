"""The board in the brooder, from its reset on: the start-up tests the memory for longer than was meant."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, pulses, steps
from tachys.demo.arrivals import MS, US
from tachys.demo.machine import Burns, Fills, Hold, Latch, Machine, Plan, Routine, Store, Task, Waits

ANALYSER = Analyser(200_000, 17, -4 * MS, 1_500 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    tick = list(range(7 * MS, until, 10 * MS))
    dice = random.Random(5)
    sampled = [(at, at + dice.randint(92 * US, 108 * US)) for at in range(4_300 * US, until, 15 * MS)]
    bus, limit = Fills("bus", (1, 1)), (1 * MS, 1 * MS)
    plan = Plan(
        (Routine("tick", 0, tick, (2_100_000, 2_900_000), sets=("lamp_due",)),),
        (
            Task("lamp", (Burns((41 * US, 54 * US)),), polls="lamp_due", sets=("lamp_alive",)),
            Task("humidity", (Burns((12_300_000, 15_800_000)), bus, Waits(None, limit, "bus"),
                              Burns((8_200_000, 10_700_000)), bus, Waits(None, limit, "bus"),
                              Burns((61 * US, 74 * US))), every=200 * MS),
            Task("panel", (Burns((305 * US, 415 * US)),), every=25 * MS, sets=("panel_alive",)),
            Task("feed", (Burns((3 * US, 3 * US)),), polls=("lamp_alive", "air_alive", "panel_alive"), all_of=True),
            Task("startup", (Burns((30_600 * US, 30_900 * US), (Hold(0, 0, 2_900 * US),)),), once=True),
        ),
        overhead=1_250_000, entry=333_333, exit=250_000, chain=187_500,
        latches=(Latch("air_alive", [end for _, end in sampled]),),
        stores=(Store("bus", 1, sent_in=(385 * US, 425 * US)),),
    )  # fmt: skip
    truth = Machine(plan, 6).run(until)
    shown = {
        "D0": steps(truth, "startup"), "D1": pulses(tick, 40 * US), "D2": steps(truth, "lamp"),
        "D3": [change for begin, end in sampled for change in ((begin, 1), (end, 0))],
        "D4": steps(truth, "panel"), "D5": steps(truth, "feed"), "D6": steps(truth, "humidity"),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
