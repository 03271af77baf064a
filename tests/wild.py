"""Boards by chance that are hard to read, each with a model that is right about it: coarse and odd sampling steps that
are printed to few digits, timers and routines without a line, events that stray, guards nobody sees, bodies that follow
each other within a sample.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction

from tachys.capture.csv import read_csv
from tachys.capture.table import Capture
from tachys.capture.vcd import read_vcd
from tachys.demo.analyser import Analyser, Levels, Recording, busy, pulses, steps, to_csv, to_vcd, toggles
from tachys.demo.machine import Burns, Halts, Hold, Latch, Machine, More, Pauses, Plan, Routine, Task

US, CYCLE = 10**6, 20_000
RATES = ["2", "4", "8", "11.0592", "16", "24", "27.12", "48", "100", "125"]  # MHz
PPM = 100
INSIDE = 1_000_000  # the boards from here on have routines that do more each n-th time, and moments
MEETS = 2_000_000  # and from here on steps that poll several flags, some of them set by hardware


@dataclass(frozen=True, slots=True)
class Wild:
    """A board, the text of its right model, and what the analyser saw."""

    model: str
    plan: Plan
    recording: Recording
    form: str

    def capture(self) -> Capture:
        """The capture, read."""
        made = to_vcd if self.form == "vcd" else to_csv
        read: Callable[..., Capture] = read_vcd if self.form == "vcd" else read_csv
        return read([made(self.recording).encode()], f"wild.{self.form}")

    def inside(self, *instants: int) -> bool:
        """Whether the analyser was on at all of these instants of the board's time."""
        analyser = self.recording.analyser
        return all(0 < analyser.time(at) <= (analyser.samples - 1) * analyser.sample for at in instants)

    def lost(self, name: str) -> list[tuple[str, int]]:
        """The events of a routine that were lost while the analyser was on."""
        return [each for each in self.recording.truth.lost if each[0] == name and self.inside(each[1])]


class _Maker:
    def __init__(self, seed: int) -> None:
        dice = self.dice = random.Random(seed)
        self.inside, self.meets = seed >= INSIDE, seed >= MEETS
        self.latches: list[Latch] = []
        self.levels = dice.randint(1, 4)
        step = Fraction(10**6) / Fraction(dice.choice(RATES))
        digit = dice.choice([1000, 1000, 10_000, 100_000] if step >= 100_000 else [1000, 1000, 10_000])
        self.analyser = Analyser(step, dice.randint(-90, 90), dice.randint(2000, 9000) * US + dice.randrange(US),
                                 40_000 * US, digit)  # fmt: skip
        self.until = self.analyser.begin + self.analyser.length + 2000 * US
        self.text: list[str] = []
        self.shown: dict[str, Levels] = {}
        self.lines: list[tuple[str, str]] = []  # (signal, what it shows) of bodies
        self.marked: list[int] = []  # routines whose moment has a line

    def routine(self, number: int) -> Routine:
        """A routine with its source; lines for neither, either or both."""
        dice, name, level = self.dice, f"r{number}", self.dice.randrange(self.levels)
        low = dice.randint(3, 30) * US
        high = low + dice.randint(0, 12) * US
        gap = dice.choice([60, 150, 400]) * US + high
        arrivals, text, edge = self._arrivals(gap)
        seen = dice.random() < (0.5 if "every" in text else 0.85)
        self.text.append(f"[source.{name}]\n{text}")
        if seen:
            self.shown[f"E{number}"] = toggles(arrivals) if edge == "both" else pulses(arrivals, 3 * US)
            self.text.append(f'[probe.E{number}]\nshows = "source.{name}"\nedge = "{edge}"')
        holds, table = self._holds(level, low)
        pending, takes_all = dice.choice([(1, False), (1, False), (2, False), (3, True)])
        sets = (f"f{number}",) if dice.random() < (0.7 if self.meets else 0.4) else ()
        if self.meets and dice.random() < 0.3:
            self.latches.append(Latch(f"h{number}", tuple(arrivals)))
            self.text.append(f'[flag.h{number}]\nset_by = "source.{name}"')
        more, marks, inside = self._inside(number, low) if self.inside else (None, (), "")
        self.text.append(
            f'[isr.{name}]\non = "source.{name}"\nlevel = {level}\norder = {number}\n'
            f'cost = ["{low // US} us", "{high // US} us"]\npending = {pending}\n{table}'
            + inside + ('serves = "all"\n' if takes_all else "") + (f'sets = "{sets[0]}"\n' if sets else "")
            + f'deadline = "{(high * dice.randint(2, 5)) // US} us"'
        )  # fmt: skip
        if dice.random() < 0.3:
            self.text.append(f'[need.kept{number}]\nof = "isr.{name}"\nlost = 0')
        if dice.random() < 0.85:
            self.lines.append((f"B{number}", f"isr.{name}"))
        return Routine(name, level, arrivals, (low, high), holds, pending, takes_all, sets, more=more, marks=marks)

    def _inside(self, number: int, low: int) -> tuple[More | None, tuple[tuple[str, tuple[int, int]], ...], str]:
        """What each n-th run does more, and a moment within it."""
        dice, more, marks, text = self.dice, None, (), ""
        if dice.random() < 0.7:
            n, least = dice.choice([1, 2, 3, 4, 8, 16]), dice.choice([0, 1, 5, 20]) * US
            most, first = least + dice.choice([0, 1, 9]) * US, dice.randint(1, n)
            more = More(n, first, (least, most))
            known = f"first = {first}, " if dice.random() < 0.5 else ""
            text += f'nth = {{ n = {n}, {known}cost = ["{least // US} us", "{most // US} us"] }}\n'
        if dice.random() < 0.6:
            at = dice.choice([0, low, dice.randint(0, low // US) * US])
            marks = (("mark", (max(0, at - dice.choice([0, 1]) * US), at)),)
            text += f'moments = {{ mark = ["{marks[0][1][0] // US} us", "{at // US} us"] }}\n'
            if dice.random() < 0.8:
                self.marked.append(number)
        return more, marks, text

    def _arrivals(self, gap: int) -> tuple[list[int], str, str]:
        dice, until = self.dice, self.until
        kind = dice.choice(["sporadic", "periodic", "periodic", "bursts"])
        if kind == "periodic":
            period = gap // US * 2 * US
            jitter = dice.choice([0, 0, period // 20 // US * US, period // 6 // US * US])
            true = period * (10**6 + dice.choice([0, 50, -50])) // 10**6
            first = dice.randrange(period)
            arrivals = [first + k * true + dice.randint(0, jitter) for k in range((until - first) // true)]
            tolerance = 'tolerance = "60 ppm"\n'
            return arrivals, f'every = "{period // US} us"\njitter = "{jitter // US} us"\n{tolerance}', "both"
        arrivals, now = [], dice.randint(0, gap)
        while now <= until:
            for _ in range(dice.randint(1, 3) if kind == "bursts" else 1):
                arrivals.append(now)
                now += dice.randint(5 * US, 40 * US) if kind == "bursts" else gap
            now += int(dice.expovariate(1 / gap)) + (gap if kind == "bursts" else 0)
        return arrivals, f'gap = "{(min(gap, 5 * US) if kind == "bursts" else gap) // US} us"', "rise"

    def _holds(self, level: int, low: int) -> tuple[tuple[Hold, ...], str]:
        if not level or self.dice.random() < 0.5:
            return (), ""
        held, at = self.dice.randrange(level), self.dice.randrange(2) * US
        size = self.dice.randint(1, max(1, low // US - 1 - at // US)) * US
        most = max(0, low // US - (at + size) // US)
        later = random.Random(low + at + size).randint(0, most) * US  # of its own, so that boards stay as they were
        begins = f'["{at // US} us", "{(at + later) // US} us"]'
        table = f'guard = {{ level = {held}, at = {begins}, for = "{size // US} us" }}\n'
        return (Hold(held, at, size, later),), table

    def tasks(self, flags: list[str]) -> Iterator[Task]:
        """The steps of the loop."""
        dice = self.dice
        gates: list[tuple[str, ...]] = [*((flag,) for flag in flags[:2]), ()]
        if self.meets and len(flags) > 2:  # one step for two of them
            gates = [(flags[0],), (flags[1], flags[2]), ()] if dice.random() < 0.5 else [(flags[0], flags[1]), ()]
        elif self.meets and len(flags) > 1:
            gates = [(flags[0], flags[1]), ()]
        for number, polled in enumerate(gates):
            low = dice.randint(5, 60) * US
            high = low + dice.randint(0, 20) * US
            holds, table = self._holds(self.levels, low)
            every = None if polled else dice.choice([900, 2100]) * US
            named = ", ".join(f'"{flag}"' for flag in polled)
            together = len(polled) > 1 and dice.random() < 0.5
            gate = f"polls = {{ all = [{named}] }}" if together else f"polls = [{named}]"
            pause = dice.choice([0, 0, 20]) * US
            self.text.append(
                f'[step.w{number}]\ncost = ["{low // US} us", "{high // US} us"]\n{table}'
                + (gate if every is None else f'every = "{every // US} us"')
                + (f'\npause = "{pause // US} us"' if pause else "")
            )  # fmt: skip
            if dice.random() < 0.8:
                self.lines.append((f"S{number}", f"step.w{number}"))
            parts = (Burns((low, high), holds), *([Pauses((pause, pause))] if pause else []))
            yield Task(f"w{number}", parts, polled, every, all_of=together)
        if dice.random() < 0.3:
            unless = tuple(flags[:2])
            named = ", ".join(f'"{flag}"' for flag in unless)
            self.text.append(f"[step.nap]\nsleep = {{ unless = [{named}] }}" if unless else "[step.nap]\nsleep = true")
            yield Task("nap", (Halts(unless),))


def wild(seed: int) -> Wild:
    """The board of that number."""
    made = _Maker(seed)
    dice = made.dice
    nesting, entry, exit_ = dice.random() < 0.8, dice.choice([16, 40]), dice.choice([12, 30])
    chain = dice.choice([8, entry + exit_])
    routines = [made.routine(number) for number in range(dice.randint(3, 6))]
    flags = [flag for each in routines for flag in each.sets] + [each.flag for each in made.latches]
    tasks = tuple(made.tasks(flags)) if dice.random() < 0.85 else ()
    plan = Plan(tuple(sorted(routines, key=lambda each: each.level)), tasks, 40 * CYCLE if tasks else 0, nesting,
                entry * CYCLE, exit_ * CYCLE, chain * CYCLE, 2 * US, latches=tuple(made.latches))  # fmt: skip
    truth = Machine(plan, seed).run(made.until)
    for signal, what in made.lines:
        kind, name = what.split(".")
        made.shown[signal] = busy(truth, name) if kind == "isr" else steps(truth, name)
        made.text.append(f'[probe.{signal}]\nshows = "{what}"')
    for number in made.marked:
        at = [time for mark, time in truth.marks if mark == f"r{number}.mark"]
        made.shown[f"M{number}"] = toggles(at)
        made.text.append(f'[probe.M{number}]\nshows = "isr.r{number}.mark"\nedge = "both"')
    head = [
        f'tachys = 1\ntitle = "wild {seed}"\n[core]\nclock = "50 MHz"\ntolerance = "60 ppm"\n'
        f'nesting = {str(nesting).lower()}\nlevels = {made.levels}\nentry = "{entry} cycles"\n'
        f'exit = "{exit_} cycles"\nchain = "{chain} cycles"\nwake = "2 us"\n[capture]\ntolerance = "100 ppm"'
    ] + (['[loop]\noverhead = "40 cycles"'] if tasks else []) + ['[need.room]\nload = "95 %"']  # fmt: skip
    seen: dict[str, Levels] = {name: made.analyser.sampled(lines) for name, lines in made.shown.items()}
    text = "\n".join([*head, *made.text]) + "\n"
    return Wild(text, plan, Recording(seen, made.analyser, truth), dice.choice(["vcd", "csv"]))
