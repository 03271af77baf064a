"""The logic analyser that looks at a stand-in board: a grid of samples, a clock of its own, a start in mid-course."""

from __future__ import annotations

import random
from collections.abc import Iterable, Mapping, Sequence
from fractions import Fraction

from msgspec import Struct

from tachys.demo.machine import Served, Truth

Levels = list[tuple[int, int]]


class Analyser(Struct, frozen=True):
    """It samples every ``sample`` ps of its own clock, which is ``ppm`` fast, from ``begin`` of the board's time on.

    ``digit`` is what the last digit of its files stands for, in ps: times are rounded to it.
    """

    sample: int | Fraction
    ppm: int
    begin: int
    length: int
    digit: int = 1000

    @property
    def samples(self) -> int:
        """How many samples it takes."""
        return int(self.length // self.sample)

    def printed(self, sample: int) -> int:
        """The instant of a sample as it writes it, in units of its last digit."""
        return int(sample * self.sample / Fraction(self.digit) + Fraction(1, 2))

    def time(self, board_ps: int) -> int:
        """Its count of ps since it was started, for an instant of the board's time."""
        return (board_ps - self.begin) * (10**6 + self.ppm) // 10**6

    def sampled(self, levels: Levels) -> Levels:
        """Changes as it sees them: at the first sample at or after each; shorter pulses vanish."""
        first, changes = 0, []
        for at, level in sorted(levels):
            sample = -(-self.time(at) // self.sample)
            if sample <= 0:
                first = level
            elif sample < self.samples:
                changes.append((sample, level))
        seen = [(0, first)]
        for place, (sample, level) in enumerate(changes):
            overwritten = place + 1 < len(changes) and changes[place + 1][0] == sample
            if not overwritten and level != seen[-1][1]:
                seen.append((sample, level))
        return seen


class Recording(Struct, frozen=True):
    """What the analyser wrote and what was true. Times of ``levels`` in samples, of ``truth`` in board ps.

    ``meter``: the name of a column of numbers, and those, with the samples at which each is known.
    """

    levels: dict[str, Levels]
    analyser: Analyser
    truth: Truth
    meter: tuple[str, list[tuple[int, float]]] | None = None

    def late(self, name: str, limit: int) -> list[Served]:
        """The activations of a routine whose first instruction came more than ``limit`` ps after their event."""
        return [run for run in self.truth.served if run.name == name and run.start - run.event > limit]


def pulses(instants: Iterable[int], width: int) -> Levels:
    """A pulse at each instant."""
    return [change for at in instants for change in ((at, 1), (at + width, 0))]


def toggles(instants: Iterable[int]) -> Levels:
    """An edge at each instant."""
    return [(at, (k + 1) % 2) for k, at in enumerate(instants)]


def busy(truth: Truth, name: str, lead: int = 0, trail: int = 0) -> Levels:
    """High while a routine runs, from ``lead`` after its first instruction to ``trail`` before its last."""
    runs = [run for run in truth.served if run.name == name]
    return [change for run in runs for change in ((run.start + lead, 1), (run.end - trail, 0))]


def steps(truth: Truth, name: str) -> Levels:
    """High while a step of the loop runs."""
    return [change for step, start, end in truth.steps if step == name for change in ((start, 1), (end, 0))]


def supply(
    truth: Truth, takes: Mapping[str, float], instants: Iterable[int], noise: float, dice: random.Random,
    spins: Sequence[tuple[int, int]] = (), on_top: Sequence[tuple[int, int, float]] = (),
) -> list[tuple[int, float]]:  # fmt: skip
    """What a meter shows of the supply current at some instants: what ``takes`` says of "run", "wake" and "sleep".

    ``spins``: (from, to) where awake it is "spin"; ``on_top``: (from, to, current) of units that take their own.
    """
    found, place = list[tuple[int, float]](), 0
    for at in instants:
        while place < len(truth.slept) and truth.slept[place][2] <= at:
            place += 1
        halted, woken, _ = truth.slept[place] if place < len(truth.slept) else (at + 1, at, at)
        awake = "spin" if any(begin <= at < end for begin, end in spins) else "run"
        state = awake if at < halted else "sleep" if at < woken else "wake"
        more = sum(each for begin, end, each in on_top if begin <= at < end)
        found.append((at, takes[state] + more + dice.gauss(0, noise)))
    return found


def with_glitches(levels: Levels, count: int, samples: int, dice: random.Random) -> Levels:
    """Sampled changes with pulses of one sample here and there while the line is low, far from its edges."""
    found = list(levels)
    for _ in range(count):
        at = dice.randint(1, max(1, samples - 2))
        place = max(k for k, (sample, _) in enumerate(levels) if sample <= at)
        near = [abs(sample - at) for sample, _ in found[1:]]
        if min(near, default=99) > 12 and levels[place][1] == 0:
            found += [(at, 1), (at + 1, 0)]
            found.sort()
    return found


def to_vcd(recording: Recording) -> str:
    """The recording as a value change dump, in units of the analyser's last digit."""
    analyser = recording.analyser
    tick = {1: "1 ps", 100: "100 ps", 1000: "1 ns", 10_000: "10 ns", 100_000: "100 ns", 10**6: "1 us"}[analyser.digit]
    codes = {name: chr(ord("!") + place) for place, name in enumerate(recording.levels)}
    lines = [f"$timescale {tick} $end", "$scope module row_unit $end"]
    lines += [f"$var wire 1 {code} {name} $end" for name, code in codes.items()]
    changes: list[tuple[int, str, int | str]] = list(_merged(recording))
    if recording.meter is not None:
        name, values = recording.meter
        codes[name] = "~"
        lines.append(f"$var real 64 ~ {name} $end")
        numbers = [(sample, name, f"r{value:.6g} ") for sample, value in values]
        changes = sorted([*changes, *numbers], key=lambda change: change[0])
    lines += ["$upscope $end", "$enddefinitions $end"]
    now = -1
    for sample, name, level in changes:
        if sample != now:
            lines.append(f"#{analyser.printed(sample)}")
            now = sample
        lines.append(f"{level}{codes[name]}")
    lines.append(f"#{analyser.printed(analyser.samples)}")
    return "\n".join(lines) + "\n"


def to_csv(recording: Recording) -> str:
    """The recording as changes in seconds, one column a signal."""
    state = dict.fromkeys(recording.levels, 0)
    rows, places = ["Time [s]," + ",".join(recording.levels)], 12 - len(str(recording.analyser.digit)) + 1
    changes = [*_merged(recording), (recording.analyser.samples, "", 0)]
    for place, (sample, name, level) in enumerate(changes):
        if name:
            state[name] = level
        if place + 1 == len(changes) or changes[place + 1][0] != sample:
            at = recording.analyser.printed(sample)
            rows.append(f"{at // 10**places}.{at % 10**places:0{places}d}," + ",".join(map(str, state.values())))
    return "\n".join(rows) + "\n"


def _merged(recording: Recording) -> list[tuple[int, str, int]]:
    return sorted((sample, name, level) for name, levels in recording.levels.items() for sample, level in levels)
