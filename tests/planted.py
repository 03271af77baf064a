"""A board on which one thing can be wrong at a time: for seeing that a check names what it is, and nothing else."""

from __future__ import annotations

import random
from collections.abc import Iterator

from tachys.demo.analyser import Analyser, Levels, Recording, busy, pulses, steps, toggles
from tachys.demo.machine import Burns, Halts, Hold, Machine, Pauses, Plan, Routine, Task

US, MS = 10**6, 10**9
CYCLE = 20_833  # ps, and a third: 48 MHz
ANALYSER = Analyser(100_000, -11, 41_212_345_678, 400 * MS)
BOARD_PPM = 17

# each fault, what the first finding must be about, and its code
FAULTS = {
    "longer guard": ("step.panel", "guard-longer"),
    "longer routine": ("isr.tick", "cost-longer"),
    "another level": ("isr.wheel", "level-other"),
    "unmodelled routine": ("line.D14", "not-modelled"),
    "unmodelled routine without a line": ("core", "not-modelled"),
    "prescaler not written": ("source.tick", "period-off"),
    "n for n + 1": ("source.sample", "period-off"),
    "storm": ("source.hopper", "gap-closer"),
    "shared line": ("isr.hopper", "runs-unasked"),
    "dropped conversions": ("unit.adc", "takes-longer"),
    "lost wake-up": ("step.nap", "lost-wake-up"),
    "blocking send": ("step.send", "time-longer"),
}

MODEL = """
tachys = 1
title = "Row unit, one thing wrong"
[core]
clock = "48 MHz"
tolerance = "50 ppm"
nesting = true
levels = 3
entry = "16 cycles"
exit = "12 cycles"
chain = "8 cycles"
wake = "2 us"
[clock.bus]
from = "core"
divide = 2
[source.wheel]
gap = "300 us"
[source.sample]
timer = { clock = "bus", width = 16, prescale = 1, reload_register = 5999 }
[source.tick]
timer = { clock = "bus", width = 16, prescale = 24, count = 1000 }
[source.hopper]
gap = "2 ms"
[unit.adc]
on = "source.sample"
takes = ["9 us", "11 us"]
[isr.wheel]
on = "source.wheel"
level = 0
cost = ["6 us", "9 us"]
[isr.adc_done]
on = "unit.adc"
level = 1
cost = ["5 us", "8 us"]
sets = "sample_ready"
[isr.tick]
on = "source.tick"
level = 2
order = 0
cost = ["4 us", "7 us"]
[isr.hopper]
on = "source.hopper"
level = 2
order = 1
cost = ["2 us", "3 us"]
[loop]
overhead = "40 cycles"
[step.regulate]
polls = "sample_ready"
cost = ["20 us", "26 us"]
[step.send]
every = "20 ms"
cost = ["8 us", "12 us"]
pause = "25 us"
[step.panel]
every = "50 ms"
cost = ["1.8 ms", "2.2 ms"]
guard = { level = 1, for = "25 us" }
[step.nap]
sleep = { unless = ["sample_ready"] }
[need.release]
from = "source.wheel"
to = "isr.wheel.start"
within = "40 us"
[need.sampled]
from = "source.sample"
to = "isr.adc_done.end"
within = "120 us"
[need.kept]
of = "unit.adc"
lost = 0
[need.room]
load = "70 %"
[capture]
tolerance = "50 ppm"
[probe.D0]
shows = "source.wheel"
edge = "rise"
[probe.D1]
shows = "isr.wheel"
[probe.D2]
shows = "source.sample"
edge = "toggle"
[probe.D3]
shows = "unit.adc"
[probe.D4]
shows = "isr.adc_done"
[probe.D5]
shows = "isr.tick"
[probe.D6]
shows = "source.hopper"
edge = "rise"
[probe.D7]
shows = "isr.hopper"
[probe.D8]
shows = "step.regulate"
[probe.D9]
shows = "step.send"
[probe.D10]
shows = "step.panel"
"""


def planted(fault: str | None, seed: int = 1) -> Recording:
    """A capture of the board with that fault; None: of its sound twin."""
    dice = random.Random(seed)
    until = ANALYSER.begin + ANALYSER.length + 5 * MS
    count = 6001 if fault == "n for n + 1" else 6000
    sample = _timer(count * 10**12, 24_000_000, 61 * US, until)
    prescale = 1 if fault == "prescaler not written" else 24
    tick = _timer(prescale * 1000 * 10**12, 24_000_000, 0, until)
    wheel = list(_apart(dice, until, 310 * US, 900 * US))
    hopper = list(_apart(dice, until, 2100 * US, 9 * MS))
    if fault == "storm":
        hopper = sorted([*hopper, *(at + k * 30 * US for at in hopper[::4] for k in range(1, 6))])
    unseen = list(_apart(dice, until, 3 * MS, 9 * MS)) if fault == "shared line" else []
    conversions, dropped = _convert(dice, sample, (258 * US, 268 * US) if fault == "dropped conversions" else
                                    (9200_000, 10_800_000))  # fmt: skip
    routines = [
        Routine("wheel", 2 if fault == "another level" else 0, wheel, (6400_000, 8600_000)),
        Routine("adc_done", 1, [end for _, end in conversions], (5200_000, 7800_000), sets=("ready",)),
        Routine("tick", 2, tick, (28 * US, 33 * US) if fault == "longer routine" else (4300_000, 6800_000)),
        Routine("hopper", 2, sorted([*hopper, *unseen]), (2100_000, 2900_000)),
    ]
    if fault is not None and fault.startswith("unmodelled"):
        routines.insert(0, Routine("ghost", 0, list(_apart(dice, until, 400 * US, 900 * US)), (21 * US, 29 * US)))
    held = (190 * US, 230 * US) if fault == "longer guard" else (22 * US, 24 * US)
    works = (
        Task("regulate", (Burns((20_500_000, 25_500_000)),), polls="ready"),
        Task("send", (Burns((8300_000, 11_600_000)),
                      Pauses((2 * MS, 3 * MS) if fault == "blocking send" else (25 * US, 25 * US))), every=20 * MS),
        Task("panel", (Burns((1850 * US, 2130 * US), (Hold(1, 0, dice.randint(*held)),)),), every=50 * MS),
        Task("nap", (Burns((0, 0)), Halts(() if fault == "lost wake-up" else ("ready",)))),
    )  # fmt: skip
    plan = Plan(tuple(routines), works, 38 * CYCLE, True, 15 * CYCLE, 12 * CYCLE, 8 * CYCLE, 1_900_000)
    truth = Machine(plan, seed).run(until)
    shown: dict[str, Levels] = {
        "D0": pulses(wheel, 30 * US), "D1": busy(truth, "wheel"), "D2": toggles(sample),
        "D3": [change for begin, end in conversions for change in ((begin, 1), (end, 0))],
        "D4": busy(truth, "adc_done"), "D5": busy(truth, "tick"), "D6": pulses(hopper, 10 * US),
        "D7": busy(truth, "hopper"), "D8": steps(truth, "regulate"), "D9": steps(truth, "send"),
        "D10": steps(truth, "panel"),
    }  # fmt: skip
    if fault == "unmodelled routine":
        shown["D14"] = busy(truth, "ghost")
    truth.lost += [("adc", at) for at in dropped]
    return Recording({name: ANALYSER.sampled(levels) for name, levels in shown.items()}, ANALYSER, truth)


def _timer(numerator: int, hertz: int, phase: int, until: int) -> list[int]:
    """Events of a timer on the board's crystal, every ``numerator / hertz`` ps of it."""
    found, count = list[int](), 0
    while (at := phase + count * numerator * (10**6 + BOARD_PPM) // (hertz * 10**6)) <= until:
        found.append(at)
        count += 1
    return found


def _apart(dice: random.Random, until: int, least: int, most: int) -> Iterator[int]:
    now = dice.randint(0, most)
    while now <= until:
        yield now
        now += dice.randint(least, most)


def _convert(dice: random.Random, starts: list[int], takes: tuple[int, int]) -> tuple[list[tuple[int, int]], list[int]]:
    """(begin and end of every conversion, starts that found the converter busy and were dropped)."""
    found, dropped, free = list[tuple[int, int]](), list[int](), 0
    for start in starts:
        if start < free:
            dropped.append(start)
            continue
        free = start + dice.randint(*takes)
        found.append((start, free))
    return found, dropped
