"""The run that makes one figure as large as possible: start as the bound says, then vary.

The bound's own worst case has everything that goes before arrive together and as densely as it can, with one blocker
just begun. So every source begins at one instant, all costs are at their most, and then the sources are moved against
each other: each in turn to a little before and after what it meets, keeping whatever makes the figure larger. Where
the theory is exact the first run reaches the bound.
"""

from __future__ import annotations

import random

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from tachys.model.nodes import Source
from tachys.model.system import System
from tachys.needs.kinds import Need
from tachys.needs.seen import Past
from tachys.simulation import layout as at
from tachys.simulation.engine import Records, Run
from tachys.simulation.needs import PlayedSlice, watch_of, watched
from tachys.simulation.options import Costs, RunOptions
from tachys.simulation.statistics import counted
from tachys.worstcase.bounds import Bounds

MOST_TRIED = 400
SHORTEST, LONGEST = 10**6, 10**12


class Worst(Struct, frozen=True):
    """The largest value that was found, in ps, how it was played, and from when to when it lasted.

    ``value`` None: in none of the runs did it happen at all. ``placed``: it lies between ``begin`` and ``at``; else it
    lies somewhere in that run, or is the width of all of it.
    """

    figure: str
    value: int | None
    bound: int | None
    ways: RunOptions
    begin: int
    at: int
    tried: int
    placed: bool = True


def measured_figures(paper: Bounds) -> dict[str, int | None]:
    """The bound in ps of every figure that a run measures, by its name; a routine's own name stands for its latency."""
    found: dict[str, int | None] = {}
    for measure, name, figure in paper.figures():
        found[measure.name(name)] = figure.most
    return found | {name: isr.latency.most for name, isr in paper.isrs.items()}


def goals(paper: Bounds) -> dict[str, int | None]:
    """What can be searched for, with its bound in ps: every figure that a run measures, every need that is a time."""
    found: dict[str, int | None] = {}
    for name, need in paper.needs.items():
        if need.need.timed:
            assert need.bound is None or isinstance(need.bound, int)
            found[name] = found[f"need.{name}"] = need.bound
    return found | measured_figures(paper)


def search(paper: Bounds, name: str, *, tries: int = MOST_TRIED, seed: int = 1) -> Worst:
    """Look for the run in which a figure of :func:`goals` is largest.

    Raises:
        KeyError: there is no such figure.
    """
    bound = goals(paper)[name]
    full = f"isr.{name}.latency" if name in paper.isrs else name
    need = None if full in measured_figures(paper) else paper.needs[name.removeprefix("need.")]
    hunt = _Hunt(paper.system, full, need.need if need else None, bound, random.Random(seed), tries)
    return hunt.run()


class _Hunt:
    def __init__(
        self, system: System, name: str, need: Need | None, bound: int | None, dice: random.Random, tries: int
    ) -> None:
        self.system = system
        self.name = name
        self.need = need
        self.bound = bound
        self.dice = dice
        self.tries = tries
        self.tried = 0
        self.best = -1
        self.ways = RunOptions()
        self.length = self._length()
        self.moves = self._moves()

    def run(self) -> Worst:
        """Try what the bound suggests, then move sources against each other."""
        for jitter in ("first-late", "none", "drawn"):
            for phases in ("together", "drawn"):
                self._try(RunOptions("most", phases, "gap", jitter, seed=1))
        for instant in (self.length // 2, self._first_meeting()):
            self._try(RunOptions("most", "together", "gap", "first-late", begin=self._meeting(instant)))
        while self.tried < self.tries and self.best != self.bound:
            self._try(self._varied())
        found = self._moment() if self.best >= 0 else (0, 0)
        begin, end = found or (0, self.length)
        best = None if self.best < 0 else self.best
        return Worst(self.name, best, self.bound, self.ways, begin, end, self.tried, found is not None)

    def _meeting(self, instant: int) -> dict[str, int]:
        """Every source that may begin when it likes, so that all come at one instant."""
        free = [source for source in self.system.sources if source.offset is None]
        return {source.name: self._allowed(source, instant) for source in free}

    def _first_meeting(self) -> int:
        """The last instant that lies in the first period of all of them, where jitter makes the first late."""
        return min([int(source.period) - 1 for source in self.system.sources if source.period], default=0)

    def _allowed(self, source: Source, begin: int) -> int:
        """The same instants of a periodic source, with the first of them in its first period: it begins no later."""
        return max(0, begin) if source.period is None else begin % int(source.period)

    def _length(self) -> int:
        """Long enough for the slowest source to come twice, and short enough to be tried often."""
        periods = [int(source.period or source.mean or source.gap) for source in self.system.sources]
        timers = [int(step.every.nominal) for step in self.system.steps if step.every is not None]
        return max(SHORTEST, min(LONGEST, 3 * max([*periods, *timers, 1])))

    def _moves(self) -> list[int]:
        """Distances worth moving a source by: costs, guards and gaps, and what lies just beside them."""
        times = {1, 1000}
        for isr in self.system.isrs:
            times |= {isr.cost.most, isr.cost.most // 2}
            times |= {guard.length.most for guard in isr.guards if guard.length is not None}
        for step in self.system.steps:
            times |= {step.cost.most, step.cost.most // 2}
            times |= {guard.at.most for guard in step.guards}
        core = self.system.core
        times |= {core.entry.most, core.exit.most, core.chain.most}
        return sorted(time for time in times if time > 0)

    def _varied(self) -> RunOptions:
        """The best way so far, with some sources moved."""
        begin = dict(self.ways.begin) or self._meeting(self.length // 2)
        free = [source for source in self.system.sources if source.name in begin]
        for source in self.dice.sample(free, min(len(free), self.dice.randint(1, 2))):
            now = begin[source.name]
            way = self.dice.random()
            if way < 0.4:
                now += self.dice.choice((-1, 1)) * self.dice.choice(self.moves)
            elif way < 0.7:
                other = self.dice.choice(self.system.sources)
                now = begin.get(other.name, now) + self.dice.choice((-1, 0, 1)) * self.dice.choice(self.moves)
            else:
                now = self.dice.randrange(self.length)
            begin[source.name] = self._allowed(source, now)
        costs: Costs = "most" if self.dice.random() < 0.8 else "drawn"
        return replace(self.ways, costs=costs, begin=begin, seed=self.dice.randrange(2**31))

    def _try(self, ways: RunOptions) -> None:
        self.tried += 1
        needs = [] if self.need is None else [self.need]
        run = Run(self.system, ways, self.length, record=True, needs=needs)
        watch = None if self.need is None else watch_of(self.system, self.need)
        for _ in watched(run, [] if watch is None else [watch]):
            pass
        if watch is None:
            most = counted(run.memory, run.index)[self.name].most
        else:
            most = -1 if watch.worst is None else watch.worst
        if most > self.best:
            self.best, self.ways = most, ways

    def _moment(self) -> tuple[int, int] | None:
        """When the largest value began and ended, from a recorded run; None where records do not place it."""
        run = Run(self.system, self.ways, self.length, record=True)
        records = run.play()
        if self.need is not None:
            return _moment_of(self.need, records, run)
        kind, _, rest = self.name.partition(".")
        name, _, what = rest.rpartition(".")
        if kind == "isr":
            told = at.START if what == "latency" else at.LAST
            rows = [number for number, (isr, _) in enumerate(run.index.rows) if isr == name]
            mask = (records.kind == told) & np.isin(records.index, rows)
            if what == "span":
                starts = (records.kind == at.START) & np.isin(records.index, rows)
                return _longest(records.time[starts][: int(mask.sum())], records.time[mask])
        elif kind == "unit":
            mask = (records.kind == at.UNIT_END) & (records.index == run.index.units.index(name))
        elif kind == "flag":
            mask = (records.kind == at.FLAG_TAKEN) & (records.index == run.index.flags.index(rest))
        elif kind == "step":
            told = at.STEP_END if what == "duration" else at.STEP_START
            mask = (records.kind == told) & (records.index == run.index.steps.index(name))
            if what == "interval":
                times = records.time[mask]
                return _longest(times[:-1], times[1:])
        else:
            return None
        return _longest(records.cause[mask], records.time[mask])


def _longest(begins: at.Ints, ends: at.Ints) -> tuple[int, int]:
    if not len(ends):
        return 0, 0
    place = int(np.argmax(ends - begins[: len(ends)]))
    return int(begins[place]), int(ends[place])


def _moment_of(need: Need, records: Records, run: Run) -> tuple[int, int] | None:
    """From when to when the worst of a need lasted; None where it is no single stretch."""
    look = need.look(PlayedSlice(run.system, run.index, records, run.end, whole=True), Past())
    bad = None if look is None else need.badness(look.after)
    if look is None or bad is None:
        return None
    if not len(bad):
        return 0, 0
    place = int(np.argmax(bad))
    return int(look.at[place]), int(look.at[place] + look.after[place])
