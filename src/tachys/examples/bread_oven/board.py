"""The board of the bread oven: the display holds the loop up while samples come."""

from __future__ import annotations

from tachys.demo.analyser import Analyser, Recording, busy, steps, toggles
from tachys.demo.arrivals import MS, US, regular
from tachys.demo.machine import Burns, Machine, Plan, Routine, Task

ANALYSER = Analyser(500_000, 12, 33_400 * US + 77_123, 320 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    samples = list(regular(1000 * US, 0, until, ppm=31))
    ends = [at + 108_000_000 for at in samples]
    plan = Plan(
        (Routine("converted", 0, ends, (5_300_000, 6_600_000), sets=("sample",)),),
        (
            Task("control", (Burns((63 * US, 77 * US)),), polls="sample"),
            Task("display", (Burns((4250 * US, 4530 * US)),), every=100 * MS),
        ),
        overhead=1_800_000, nesting=False, entry=437_500, exit=375_000, chain=875_000,
    )  # fmt: skip
    truth = Machine(plan, 11).run(until)
    shown = {
        "D0": toggles(samples), "D1": busy(truth, "converted"), "D2": steps(truth, "control"),
        "D3": steps(truth, "display"),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
