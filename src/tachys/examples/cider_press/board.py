"""The board at the cider press: samples that a channel moves, a routine for each half, a page that holds it off."""

from __future__ import annotations

from tachys.demo.analyser import Analyser, Recording, busy, pulses, steps
from tachys.demo.arrivals import MS, US
from tachys.demo.machine import Burns, Empties, Hold, Machine, Plan, Routine, Store, Task

ANALYSER = Analyser(250_000, 17, 23_000 * US + 4_111, 1200 * MS)


def record() -> Recording:
    """What the analyser saw."""
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    samples = list(range(40 * US, until, 40 * US))
    periods = list(range(211 * US, until, 500 * US))
    halves = Empties("samples", 32, (1_850_000, 2_150_000))
    page = Hold(0, 120 * US, 1_700 * US)
    plan = Plan(
        (Routine("half", 0, (), (5_200_000, 6_700_000), asked="samples", empties=halves, puts="duty"),),
        (
            Task("panel", (Burns((310 * US, 405 * US)),), every=20 * MS),
            Task("protocol", (Burns((2_050 * US, 2_500 * US), (page,)),), every=170 * MS),
        ),
        overhead=1_400_000, entry=218_750, exit=187_500, chain=93_750,
        stores=(
            Store("samples", 64, samples, None, laps=32, round=True),
            Store("duty", 1, sent_in=(15_625, 15_625), sent_at=periods, round=True),
        ),
    )  # fmt: skip
    truth = Machine(plan, 5).run(until)
    shown = {
        "D0": busy(truth, "half"), "D1": pulses(samples, 9 * US), "D2": pulses(periods, 250 * US),
        "D3": steps(truth, "protocol"), "D4": steps(truth, "panel"),
    }  # fmt: skip
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)
