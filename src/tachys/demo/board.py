"""The row unit's board as it really is, and the logic analyser that looks at it.

Its figures differ a little from the model, its crystal is some ppm off, the analyser samples on a grid with a clock
of its own and begins in the middle of things. One board holds interrupts off far too long while it writes to flash.
"""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping, Sequence

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
from tachys.demo.arrivals import MS, US, at_random, regular
from tachys.demo.machine import Burns, Halts, Hold, Machine, Plan, Routine, Task, Truth

SAMPLE = 125_000  # ps of the analyser's clock: 8 MHz
BEGIN, LENGTH = 37_312_345_678, 400 * MS  # ps of the board's time: the analyser is started in the middle of things
BOARD_PPM, ANALYSER_PPM = 23, -14
_PULSE = 30 * US

ANALYSER = Analyser(SAMPLE, ANALYSER_PPM, BEGIN, LENGTH)


def record(*, faulty: bool, seed: int = 7) -> Recording:
    """Run the board and look at it with the analyser."""
    until = BEGIN + LENGTH + 5 * MS
    plan, arrivals = board(faulty, random.Random(seed), until)
    truth = Machine(plan, seed).run(until)
    return look(truth, arrivals)


def look(truth: Truth, arrivals: Mapping[str, Sequence[int]]) -> Recording:
    """What the analyser writes of what happened on the board."""
    shown = {
        "D0": pulses(arrivals["wheel"], _PULSE),
        "D1": busy(truth, "wheel"),
        "D2": pulses(arrivals["bus_byte"], _PULSE),
        "D3": busy(truth, "bus_byte"),
        "D4": busy(truth, "seed"),
        "D5": [(at, k % 2) for k, at in enumerate(arrivals["pressure"])],
        "D6": busy(truth, "pressure"),
        "D7": busy(truth, "tick"),
        "D8": steps(truth, "log"),
        "D9": steps(truth, "panel"),
    }
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)


def board(faulty: bool, dice: random.Random, until: int, mark: int = 0) -> tuple[Plan, dict[str, list[int]]]:
    """What the board does, and when its events come; every body makes two marks of so many ps."""
    arrivals = {
        "wheel": list(at_random(dice, until, 189 * US, 620 * US)),
        "bus_byte": list(_frames(dice, until)),
        "seed": list(at_random(dice, until, 260 * US, 1300 * US)),
        "pressure": list(regular(250 * US, 61 * US, until, ppm=BOARD_PPM)),
        "tick": list(regular(1000 * US, 0, until, ppm=BOARD_PPM)),
        "hopper": list(_bounces(dice, until)),
    }
    hold = (212 * US, 258 * US) if faulty else (19 * US, 21 * US)
    cycle = 1_000_000 // 48 + 1
    us = {  # level and true cost of each routine
        "wheel": (0, 6.4, 8.6), "bus_byte": (1, 3.3, 5.6), "seed": (1, 3.2, 4.7),
        "pressure": (2, 8.3, 10.6), "tick": (3, 4.4, 6.5), "hopper": (3, 1.6, 2.3),
    }  # fmt: skip
    sets = {"bus_byte": ("frame",), "pressure": ("sample",)}
    routines = tuple(
        Routine(
            name,
            level,
            arrivals[name],
            (round(low * US) + 2 * mark, round(high * US) + 2 * mark),
            sets=sets.get(name, ()),
        )
        for name, (level, low, high) in us.items()
    )
    steps = (
        Task("regulate", (_burns(31, 37, mark),), polls="sample"),
        Task("answer", (_burns(5, 8, mark),), polls="frame"),
        Task("panel", (_burns(1850, 2130, mark, Hold(1, mark, 28 * US)),), every=50 * MS),
        Task("log", (_burns(310, 385, mark, Hold(0, 11 * US + mark, dice.randint(*hold))),), every=20 * MS),
        Task("nap", (_burns(0, 0, mark), Halts())),
    )
    plan = Plan(
        routines, steps, overhead=38 * cycle, entry=15 * cycle, exit=12 * cycle, chain=8 * cycle, wake=3_700_000
    )
    return plan, arrivals


def _burns(least: int, most: int, mark: int, *holds: Hold) -> Burns:
    """So many us of work, and two marks."""
    return Burns((least * US + 2 * mark, most * US + 2 * mark), holds)


def _frames(dice: random.Random, until: int) -> Iterator[int]:
    """Frames of eight bytes back to back, then a pause."""
    now = dice.randint(0, MS)
    while now <= until:
        for byte in range(8):
            yield now + byte * 86_806_000
        now += 8 * 86_806_000 + dice.randint(700 * US, 2500 * US)


def _bounces(dice: random.Random, until: int) -> Iterator[int]:
    now = dice.randint(0, 40 * MS)
    while now <= until:
        for _ in range(dice.randint(2, 6)):
            yield now
            now += dice.randint(95 * US, 400 * US)
        now += dice.randint(30 * MS, 90 * MS)
