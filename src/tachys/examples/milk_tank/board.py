"""The board at the milk tank: a ring that the loop empties, a receiver with a FIFO, a printer that is waited for."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
from tachys.demo.arrivals import MS, US, telegrams
from tachys.demo.machine import Burns, Empties, Fills, Machine, Plan, Routine, Store, Task

ANALYSER = Analyser(250_000, -21, 51_000 * US + 13_777, 1200 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    dice = random.Random(2)
    flow = list(telegrams(dice, until, (60 * MS, 140 * MS), 120, 260_425_000))
    probe = list(telegrams(dice, until, (20 * MS, 70 * MS), 9, 86_810_000))
    copies = Empties("fifo", 16, (820_000, 1_080_000))
    plan = Plan(
        (
            Routine("flow", 0, flow, (2_100_000, 2_900_000), puts="ring"),
            Routine("probe", 1, (), (3_100_000, 4_800_000), asked="fifo", empties=copies),
        ),
        (
            Task("litres", (Burns((3_100_000, 4_800_000)), Empties("ring", 32, (5_100_000, 6_800_000))), asked="ring"),
            Task("ticket", (Burns((155 * US, 195 * US)), Fills("line", (70, 80))), every=150 * MS),
        ),
        overhead=1_250_000, entry=312_500, exit=250_000, chain=166_700,
        stores=(
            Store("ring", 32), Store("fifo", 16, probe, 8, (345 * US, 350 * US)),
            Store("line", 64, sent_in=(1_040 * US, 1_043 * US)),
        ),
    )  # fmt: skip
    truth = Machine(plan, 3).run(until)
    shown = {
        "D0": busy(truth, "flow"), "D1": busy(truth, "probe"), "D2": pulses(probe, 20 * US),
        "D3": steps(truth, "litres"), "D4": steps(truth, "ticket"), "D5": pulses(flow, 60 * US),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
