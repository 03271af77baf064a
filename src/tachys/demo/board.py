"""The row unit's board as it really is, and the logic analyser that looks at it.

Its figures differ a little from the model, its crystal is some ppm off, the analyser samples on a grid with a clock
of its own and begins in the middle of things. One board holds interrupts off far too long while it writes to flash.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass

from tachys.demo.machine import Hold, Machine, Plan, Routine, Served, Truth, Work

US, MS = 10**6, 10**9
SAMPLE = 125_000  # ps of the analyser's clock: 8 MHz
BEGIN, LENGTH = 37_312_345_678, 400 * MS  # ps of the board's time: the analyser is started in the middle of things
BOARD_PPM, ANALYSER_PPM = 23, -14
_PULSE = 30 * US

Levels = list[tuple[int, int]]


@dataclass(frozen=True, slots=True)
class Recording:
    """What the analyser wrote and what was true. Times of ``levels`` in samples, of ``truth`` in board ps."""

    levels: dict[str, Levels]
    samples: int
    truth: Truth

    def late(self, name: str, limit: int) -> list[Served]:
        """The activations of a routine whose first instruction came more than ``limit`` ps after their event."""
        return [run for run in self.truth.served if run.name == name and run.start - run.event > limit]


def analyser_time(board_ps: int) -> int:
    """The analyser's count of ps since it was started, for an instant of the board's time."""
    return (board_ps - BEGIN) * (10**6 + ANALYSER_PPM) // 10**6


def record(*, faulty: bool, seed: int = 7) -> Recording:
    """Run the board and look at it with the analyser."""
    until = BEGIN + LENGTH + 5 * MS
    plan, arrivals = _plan(faulty, random.Random(seed), until)
    truth = Machine(plan, seed).run(until)
    samples = LENGTH // SAMPLE
    shown = {
        "D0": _pulses(arrivals["wheel"]),
        "D1": _busy(truth, "wheel"),
        "D2": _pulses(arrivals["bus_byte"]),
        "D3": _busy(truth, "bus_byte"),
        "D4": _busy(truth, "seed"),
        "D5": [(at, k % 2) for k, at in enumerate(arrivals["pressure"])],
        "D6": _busy(truth, "pressure"),
        "D7": _busy(truth, "tick"),
        "D8": _steps(truth, "log"),
        "D9": _steps(truth, "panel"),
    }
    return Recording({name: _sampled(levels, samples) for name, levels in shown.items()}, samples, truth)


def _plan(faulty: bool, dice: random.Random, until: int) -> tuple[Plan, dict[str, list[int]]]:
    arrivals = {
        "wheel": list(_at_random(dice, until, 189 * US, 620 * US)),
        "bus_byte": list(_frames(dice, until)),
        "seed": list(_at_random(dice, until, 260 * US, 1300 * US)),
        "pressure": list(_regular(250 * US, 61 * US, until)),
        "tick": list(_regular(1000 * US, 0, until)),
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
        Routine(name, level, arrivals[name], (round(low * US), round(high * US)), sets=sets.get(name, ()))
        for name, (level, low, high) in us.items()
    )
    steps = (
        Work("regulate", (31 * US, 37 * US), polls="sample"),
        Work("answer", (5 * US, 8 * US), polls="frame"),
        Work("panel", (1850 * US, 2130 * US), every=50 * MS, holds=(Hold(1, 0, 28 * US),)),
        Work("log", (310 * US, 385 * US), every=20 * MS, holds=(Hold(0, 11 * US, dice.randint(*hold)),)),
        Work("nap", halts=True),
    )
    plan = Plan(
        routines, steps, overhead=38 * cycle, entry=15 * cycle, exit=12 * cycle, chain=8 * cycle, wake=3_700_000
    )
    return plan, arrivals


def _regular(period: int, phase: int, until: int) -> Iterator[int]:
    """Events of a timer that runs on the board's crystal."""
    count = 0
    while (at := phase + count * period * (10**6 + BOARD_PPM) // 10**6) <= until:
        yield at
        count += 1


def _at_random(dice: random.Random, until: int, least: int, most: int) -> Iterator[int]:
    now = dice.randint(0, most)
    while now <= until:
        yield now
        now += dice.randint(least, most)


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


def _pulses(instants: list[int]) -> Levels:
    return [change for at in instants for change in ((at, 1), (at + _PULSE, 0))]


def _busy(truth: Truth, name: str) -> Levels:
    return [change for run in truth.served if run.name == name for change in ((run.start, 1), (run.end, 0))]


def _steps(truth: Truth, name: str) -> Levels:
    return [change for step, start, end in truth.steps if step == name for change in ((start, 1), (end, 0))]


def _sampled(levels: Levels, samples: int) -> Levels:
    """Changes as the analyser sees them: at the first sample at or after each; shorter pulses vanish."""
    first, changes = 0, []
    for at, level in sorted(levels):
        sample = -(-analyser_time(at) // SAMPLE)
        if sample <= 0:
            first = level
        elif sample < samples:
            changes.append((sample, level))
    seen = [(0, first)]
    for place, (sample, level) in enumerate(changes):
        overwritten = place + 1 < len(changes) and changes[place + 1][0] == sample
        if not overwritten and level != seen[-1][1]:
            seen.append((sample, level))
    return seen


def to_vcd(recording: Recording) -> str:
    """The recording as a value change dump that counts nanoseconds."""
    codes = {name: chr(ord("!") + place) for place, name in enumerate(recording.levels)}
    lines = ["$timescale 1 ns $end", "$scope module row_unit $end"]
    lines += [f"$var wire 1 {code} {name} $end" for name, code in codes.items()]
    lines += ["$upscope $end", "$enddefinitions $end"]
    now = -1
    for sample, name, level in _merged(recording):
        if sample != now:
            lines.append(f"#{sample * SAMPLE // 1000}")
            now = sample
        lines.append(f"{level}{codes[name]}")
    lines.append(f"#{recording.samples * SAMPLE // 1000}")
    return "\n".join(lines) + "\n"


def to_csv(recording: Recording) -> str:
    """The recording as changes in seconds, one column a signal."""
    state = dict.fromkeys(recording.levels, 0)
    rows = ["Time [s]," + ",".join(recording.levels)]
    changes = [*_merged(recording), (recording.samples, "", 0)]
    for place, (sample, name, level) in enumerate(changes):
        if name:
            state[name] = level
        if place + 1 == len(changes) or changes[place + 1][0] != sample:
            ns = sample * SAMPLE // 1000
            rows.append(f"{ns // 10**9}.{ns % 10**9:09d}," + ",".join(map(str, state.values())))
    return "\n".join(rows) + "\n"


def _merged(recording: Recording) -> list[tuple[int, str, int]]:
    return sorted((sample, name, level) for name, levels in recording.levels.items() for sample, level in levels)
