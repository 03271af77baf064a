"""The board in the mushroom house: a door contact that bounces, and a timer of the mist that counts one tick less."""

from __future__ import annotations

import random
from collections.abc import Iterator

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
from tachys.demo.arrivals import MS, US, at_random, telegrams
from tachys.demo.machine import Burns, Empties, Machine, Plan, Routine, Store, Tally, Task

ANALYSER = Analyser(250_000, 12, 31_000 * US + 4_407, 3_000 * MS)


def bounces(dice: random.Random, until: int) -> Iterator[int]:
    """A door that opens and shuts."""
    for begin in at_random(dice, until, 320 * MS, 700 * MS):
        at = begin
        for _ in range(dice.randint(3, 12)):
            yield at
            at += dice.randint(110 * US, 330 * US)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    dice = random.Random(7)
    tick = list(range(600 * US, until, 1_003 * US))
    door = list(bounces(dice, until))
    air = list(telegrams(dice, until, (24 * MS, 60 * MS), 10, 2_083_300_000))
    plan = Plan(
        (
            Routine("tick", 0, tick, (2_100_000, 2_900_000)),
            Routine("door", 1, door, (4_200_000, 5_700_000), sets=("door_moved",), spins=(5 * MS,) * 2, forgets=True),
            Routine("air", 1, air, (3_100_000, 3_900_000)),
        ),
        (
            Task("mist", (Empties("mist", 1), Burns((2_150 * US, 2_550 * US))), asked="mist"),
            Task("lamp", (Burns((32 * US, 44 * US)),), polls="door_moved"),
        ),
        overhead=22_500_000, entry=312_500, exit=250_000, chain=166_700,
        stores=(Store("mist", 16),), tallies=(Tally("mist", "tick", 199, repeats=True, puts="mist"),),
    )  # fmt: skip
    truth = Machine(plan, 3).run(until)
    shown = {
        "D0": busy(truth, "tick"), "D1": busy(truth, "door"), "D2": busy(truth, "air"), "D3": pulses(air, 60 * US),
        "D4": steps(truth, "mist"), "D5": steps(truth, "lamp"), "D6": pulses(door, 40 * US),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
