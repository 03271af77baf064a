"""Boards by chance, each with a model that is right about it, for holding what a check measures against the truth."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass

from tachys.demo.analyser import Analyser, Levels, Recording, busy, pulses, steps, toggles, with_glitches
from tachys.demo.machine import Burns, Hold, Machine, Plan, Routine, Task

US = 10**6
CYCLE = 20_000  # ps: 50 MHz
PULSE = 3 * US


@dataclass(frozen=True, slots=True)
class Trial:
    """A board, the text of its model, what the analyser saw of it and what was true."""

    model: str
    plan: Plan
    recording: Recording


def trial(seed: int, *, glitches: bool = False, length: int = 40_000 * US) -> Trial:
    """A board by chance: three to six routines on one to four levels, a loop, an analyser that begins in mid-course."""
    dice = random.Random(seed)
    levels, nesting = dice.randint(1, 4), dice.random() < 0.8
    entry, exit_ = dice.choice([16, 40]), dice.choice([12, 30])
    chain = dice.choice([8, entry + exit_])
    # runs that follow by a chain can only be told apart where the line is seen low between them
    sample = dice.choice([50_000, 100_000] if chain == 8 else [50_000, 100_000, 250_000])
    analyser = Analyser(sample, dice.randint(-60, 60), dice.randint(2000, 9000) * US + dice.randrange(10**6), length)
    until = analyser.begin + length + 2000 * US
    text = [
        'tachys = 1\ntitle = "trial"\n[core]\nclock = "50 MHz"', f"nesting = {str(nesting).lower()}",
        f'levels = {levels}\nentry = "{entry} cycles"\nexit = "{exit_} cycles"\nchain = "{chain} cycles"',
        '[capture]\ntolerance = "100 ppm"',
    ]  # fmt: skip
    routines: list[Routine] = []
    shown: dict[str, Levels] = {}
    flags: list[str] = []
    for number in range(dice.randint(3, 6)):
        name = f"r{number}"
        routine, lines = _routine(name, dice, until, levels, text)
        routines.append(routine)
        flags += routine.sets
        shown[f"E{number}"] = lines
    works = tuple(_works(dice, flags, levels, text))
    routines.sort(key=lambda routine: routine.level)
    plan = Plan(tuple(routines), works, 40 * CYCLE if works else 0, nesting, entry * CYCLE, exit_ * CYCLE,
                chain * CYCLE)  # fmt: skip
    truth = Machine(plan, seed).run(until)
    lead = dice.choice([0, 2 * CYCLE])
    for routine in routines:
        signal = f"B{routine.name[1:]}"
        shown[signal] = busy(truth, routine.name, lead)
        text.append(f'[probe.{signal}]\nshows = "isr.{routine.name}"\nafter = "{lead} ps"')
    for work in works:
        shown[f"S{work.name[1:]}"] = steps(truth, work.name)
        text.append(f'[probe.S{work.name[1:]}]\nshows = "step.{work.name}"')
    seen: dict[str, Levels] = {name: analyser.sampled(lines) for name, lines in shown.items()}
    if glitches:
        seen = {
            name: with_glitches(lines, max(0, min(3, len(lines) // 400)), analyser.samples, dice)
            for name, lines in seen.items()
        }
    return Trial("\n".join(text) + "\n", plan, Recording(seen, analyser, truth))


def _routine(name: str, dice: random.Random, until: int, levels: int, text: list[str]) -> tuple[Routine, Levels]:
    """A routine and the line that shows its event; its tables go to the text."""
    number, level = name[1:], dice.randrange(levels)
    low = dice.randint(3, 30) * US
    high = low + dice.randint(0, 12) * US
    gap = dice.choice([60, 150, 400]) * US + high
    kind = dice.choice(["sporadic", "sporadic", "periodic", "bursts"])
    if kind == "periodic":
        period = gap // US * 2
        arrivals = list(range(dice.randrange(period * US), until, period * US))
        lines = toggles(arrivals)
        text.append(
            f'[source.{name}]\nevery = "{period} us"\n[probe.E{number}]\nshows = "source.{name}"\nedge = "both"'
        )
    else:
        arrivals = list(_bursts(dice, gap, until) if kind == "bursts" else _at_random(dice, gap, until))
        lines = pulses(arrivals, PULSE)
        least = min(gap, 5 * US) if kind == "bursts" else gap
        text.append(
            f'[source.{name}]\ngap = "{least // US} us"\n[probe.E{number}]\nshows = "source.{name}"\nedge = "rise"'
        )
    holds: tuple[Hold, ...] = ()
    table = [f'[isr.{name}]\non = "source.{name}"\nlevel = {level}\norder = {number}',
             f'cost = ["{low // US} us", "{high // US} us"]']  # fmt: skip
    if level > 0 and dice.random() < 0.3:
        held, at, size = dice.randrange(level), dice.randrange(2) * US, dice.randint(1, 2) * US
        holds = (Hold(held, at, size),)
        table.append(f'guard = {{ level = {held}, at = "{at // US} us", for = "{size // US} us" }}')
    pending, takes_all = dice.choice([(1, False), (1, False), (2, False), (3, True)])
    table.append(f"pending = {pending}" + ('\nserves = "all"' if takes_all else ""))
    sets = (f"f{number}",) if dice.random() < 0.4 else ()
    if sets:
        table.append(f'sets = "f{number}"')
    table.append(f'deadline = "{(high * dice.randint(2, 5)) // US} us"')
    text.append("\n".join(table))
    costs = (low, high)
    return Routine(name, level, arrivals, costs, holds, pending, takes_all, sets), lines


def _works(dice: random.Random, flags: list[str], levels: int, text: list[str]) -> Iterator[Task]:
    if dice.random() < 0.15:
        return
    text.append(f'[loop]\noverhead = "{40} cycles"')
    for number, flag in enumerate([*flags[:2], None]):
        low = dice.randint(5, 60) * US
        high = low + dice.randint(0, 20) * US
        holds: tuple[Hold, ...] = ()
        table = [f'[step.w{number}]\ncost = ["{low // US} us", "{high // US} us"]']
        table.append(f'every = "{dice.choice([900, 2100])} us"' if flag is None else f'polls = "{flag}"')
        if dice.random() < 0.5:
            held, at, size = dice.randrange(levels), dice.randrange(3) * US, dice.randint(1, 2) * US
            holds = (Hold(held, at, size),)
            table.append(f'guard = {{ level = {held}, at = "{at // US} us", for = "{size // US} us" }}')
        text.append("\n".join(table))
        every = int(table[1].split('"')[1].split()[0]) * US if flag is None else None
        yield Task(f"w{number}", (Burns((low, high), holds),), flag or (), every)


def _at_random(dice: random.Random, gap: int, until: int) -> Iterator[int]:
    now = dice.randint(0, gap)
    while now <= until:
        yield now
        now += gap + int(dice.expovariate(1 / gap))


def _bursts(dice: random.Random, gap: int, until: int) -> Iterator[int]:
    """Two or three close together now and then: some of them are lost."""
    now = dice.randint(0, gap)
    while now <= until:
        for _ in range(dice.randint(1, 3)):
            yield now
            now += dice.randint(5 * US, 40 * US)
        now += gap + dice.randint(0, 3 * gap)
