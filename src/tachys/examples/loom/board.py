"""The board of the loom: the register of the weft's timer holds the factor itself, so it counts one too many."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, steps, toggles
from tachys.demo.arrivals import MS, US, at_random, regular
from tachys.demo.machine import Burns, Machine, Plan, Routine, Task

ANALYSER = Analyser(250_000, -9, 71_000 * US + 31_313, 400 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    warp = list(regular(250 * US, 0, until, ppm=18))
    weft = list(regular(600_400_000, 90 * US, until, ppm=18))
    breaks = list(at_random(random.Random(8), until, 21 * MS, 90 * MS))
    plan = Plan(
        (
            Routine("thread", 0, breaks, (9_300_000, 11_600_000)),
            Routine("warp", 0, warp, (18_600_000, 23_100_000)),
            Routine("weft", 0, weft, (41_200_000, 50_700_000)),
        ),
        (Task("pattern", (Burns((1120 * US, 1370 * US)),), every=20 * MS),),
        overhead=2_500_000, nesting=False, entry=450_000, exit=400_000, chain=850_000,
    )  # fmt: skip
    truth = Machine(plan, 6).run(until)
    shown = {
        "D0": sorted([*busy(truth, "warp"), *busy(truth, "weft")]), "D1": toggles(weft),
        "D2": [change for at in breaks for change in ((at - 6 * MS, 1), (at, 0))], "D3": busy(truth, "thread"),
        "D4": toggles(warp), "D5": steps(truth, "pattern"),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
