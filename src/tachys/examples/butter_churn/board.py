"""The board at the butter churn: the timer of its output counts twice as far as was meant."""

from __future__ import annotations

import random

from tachys.demo.analyser import Analyser, Recording, busy, pulses
from tachys.demo.arrivals import MS, US
from tachys.demo.machine import Machine, Plan, Routine, Store

ANALYSER = Analyser(100_000, -14, 12_300 * US + 4_711, 250 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    control = list(range(37 * US, until, 100 * US))
    period = list(range(11 * US, until, 160 * US))
    dice = random.Random(3)
    sampled = [(at, at + dice.randint(11_200_000, 12_800_000)) for at in range(430 * US, until, 1 * MS)]
    plan = Plan(
        (Routine("control", 0, control, (9_300_000, 11_700_000), puts="duty"),),
        entry=333_333, exit=250_000, chain=187_500,
        stores=(
            Store("duty", 1, sent_in=(20_834, 20_834), sent_at=period, round=True),
            Store("transmit", 2, [end for _, end in sampled for _ in range(2)], sent_in=(173 * US, 174 * US)),
        ),
    )  # fmt: skip
    truth = Machine(plan, 4).run(until)
    shown = {
        "D0": pulses(control, 4 * US), "D1": busy(truth, "control"), "D2": pulses(period, 4 * US),
        "D3": [change for begin, end in sampled for change in ((begin, 1), (end, 0))],
        "D4": pulses([begin for name, begin, _ in truth.sent if name == "transmit"], 20 * US),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
