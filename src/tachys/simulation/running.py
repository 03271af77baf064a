"""Playing a model: one run or many, on one core or several, with what became of its needs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from fractions import Fraction
from itertools import islice
from threading import Event

from msgspec import Struct
from msgspec.structs import replace

from tachys.model.system import System
from tachys.needs.takers import share_of
from tachys.simulation.engine import Run, work_of
from tachys.simulation.kernel import play
from tachys.simulation.layout import WAKE_UPS
from tachys.simulation.needs import Watch, became, watched, watches
from tachys.simulation.options import RunOptions
from tachys.simulation.result import Simulated
from tachys.simulation.statistics import (
    Counted,
    CounterPlayed,
    PinPlayed,
    cleared,
    counted,
    counters,
    levels,
    losses,
    pins,
    silent,
    spent,
    taken,
)
from tachys.simulation.supply import played
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds
from tachys.worstcase.load import surplus

Progress = Callable[[float], None]
_AHEAD = 4  # runs a thread that are begun, or wait for their turn to be added up


class RunPart(Struct):
    """What one run, or several together, have counted. ``lengths``: how many were so long (ps), ``whole`` all."""

    lengths: Counter[int]
    whole: bool
    counted: dict[str, Counted]
    lost: Counter[str]
    cleared: Counter[str]
    silent: Counter[str]
    taken: Counter[str]
    spent: Counter[tuple[str, str]]
    wakes: int
    levels: dict[str, int]
    watches: list[Watch]
    pins: dict[str, PinPlayed]
    counters: dict[str, CounterPlayed]

    @property
    def length(self) -> int:
        """How long all of it is, in ps."""
        return sum(length * count for length, count in self.lengths.items())

    def add(self, other: RunPart) -> None:
        """Put what comes behind with it."""
        self.whole &= other.whole
        self.wakes += other.wakes
        for name, each in other.counted.items():
            self.counted[name].add(each)
        for name, pin in other.pins.items():
            self.pins[name].add(pin)
        for name, counter in other.counters.items():
            self.counters[name].add(counter)
        for name, level in other.levels.items():
            self.levels[name] = max(self.levels[name], level)
        for watch, more in zip(self.watches, other.watches, strict=True):
            watch.add(more)
        for key in ("lengths", "lost", "cleared", "silent", "taken", "spent"):
            getattr(self, key).update(getattr(other, key))


def play_part(
    system: System,
    ways: RunOptions,
    end: int,
    number: int,
    progress: Progress | None = None,
    *,
    compiled: bool | None = None,
) -> RunPart:
    """One run. KeyboardInterrupt between slices leaves what was counted up to there."""
    run = Run(system, ways, end, record=True, needs=system.needs, compiled=compiled)
    looking = watches(system, number)
    whole = False
    try:
        for _ in watched(run, looking):
            if progress is not None:
                progress(run.now / end)
        whole = True
    except KeyboardInterrupt:
        pass
    length = end if whole else run.now
    figures = {
        name: replace(each, buckets=each.buckets.copy()) for name, each in counted(run.memory, run.index).items()
    }
    lost, deepest = losses(run.memory, run.index), levels(run.memory, run.index)
    undone, gone = cleared(run.memory, run.index), silent(run.memory, run.index)
    depths = {step.name: step.halt.states for step in system.steps if step.halt is not None}
    took, states = taken(run.memory, run.index, length), spent(run.memory, run.index, depths, length)
    return RunPart(Counter([length]), whole, figures, Counter(lost), Counter(undone), Counter(gone), Counter(took),
                   Counter(states), int(run.memory[WAKE_UPS]), deepest, looking, pins(run.memory, run.index, length),
                   counters(run.memory, run.index))  # fmt: skip


def simulate(
    system: System,
    end: int,
    ways: RunOptions | None = None,
    *,
    runs: int = 1,
    workers: int = 1,
    bounds: Bounds | None = None,
    progress: Progress | None = None,
    compiled: bool | None = None,
) -> Simulated:
    """Play a model for ``end`` ps, ``runs`` times with seeds that follow each other, and say what was seen.

    Interrupted by the keyboard, the result is of what was played until then, and not ``complete``.

    Raises:
        InputError: the model needs more room than the engine has, or a chain of events takes no time.
        ValueError: ``end`` or ``runs`` is not positive.
    """
    if end <= 0 or runs <= 0:
        raise ValueError("the time to play and the number of runs must be positive")
    ways = ways or RunOptions()
    paper = bounds or bounds_of(system)
    if compiled is None:
        compiled = not play.is_short(runs * work_of(system, end))
    if workers > 1 and runs > 1 and compiled:
        return together(paper, _in_threads(system, ways, end, runs, workers, progress), runs)
    return together(paper, _one_by_one(system, ways, end, runs, progress, compiled=compiled), runs)


def _one_by_one(
    system: System, ways: RunOptions, end: int, runs: int, progress: Progress | None, *, compiled: bool
) -> Iterator[RunPart]:
    for number in range(runs):
        told = None if progress is None else _share_of(progress, number, runs)
        part = play_part(system, replace(ways, seed=ways.seed + number), end, number, told, compiled=compiled)
        yield part
        if not part.whole:
            return


def _share_of(progress: Progress, number: int, runs: int) -> Progress:
    return lambda share: progress((number + share) / runs)


def _in_threads(
    system: System, ways: RunOptions, end: int, runs: int, workers: int, progress: Progress | None
) -> Iterator[RunPart]:
    """Some runs beside each other, in their order: the compiled engine lets others go on meanwhile.

    Those that were interrupted are as long as they have come.
    """
    stop = Event()

    def heed(_: float) -> None:
        if stop.is_set():
            raise KeyboardInterrupt

    def play(number: int) -> RunPart | None:
        each = replace(ways, seed=ways.seed + number)
        return None if stop.is_set() else play_part(system, each, end, number, heed, compiled=True)

    left, due = iter(range(runs)), 0
    parts: dict[int, RunPart] = {}
    waiting: dict[Future[RunPart | None], int] = {}
    with ThreadPoolExecutor(min(workers, runs)) as pool:
        try:
            while True:
                room = 0 if stop.is_set() else _AHEAD * workers - len(waiting) - len(parts)
                waiting |= {pool.submit(play, number): number for number in islice(left, room)}
                if not waiting:
                    break
                try:
                    done, _ = wait(waiting, return_when=FIRST_COMPLETED)
                except KeyboardInterrupt:  # whoever plays ends with its slice, and who has not begun does not begin
                    stop.set()
                    continue
                for future in done:
                    number, part = waiting.pop(future), future.result()
                    if part is not None:
                        parts[number] = part
                while due in parts:
                    yield parts.pop(due)
                    due += 1
                    if progress is not None:
                        progress(due / runs)
        finally:
            stop.set()
    for number in sorted(parts):
        yield parts[number]


def folded(parts: Iterable[RunPart]) -> RunPart | None:
    """All runs together, in the order they come; what was there when the keyboard interrupted it."""
    whole: RunPart | None = None
    try:
        for part in parts:
            if whole is None:
                whole = part
            else:
                whole.add(part)
    except KeyboardInterrupt:
        pass
    return whole


def together(paper: Bounds, parts: Iterable[RunPart], runs: int) -> Simulated:
    """All runs as one result; ``runs``: how many were asked for."""
    all_of = folded(parts)
    if all_of is None or not all_of.length:
        raise KeyboardInterrupt
    length, played_runs = all_of.length, all_of.lengths.total()
    shares = {name: Fraction(time, length) for name, time in all_of.taken.items()}
    made = Simulated(paper, length, played_runs, played_runs == runs and all_of.whole, all_of.counted,
                     dict(all_of.lost), shares, levels=all_of.levels, cleared=dict(all_of.cleared),
                     silent=dict(all_of.silent), spent=dict(all_of.spent), wakes=all_of.wakes, pins=all_of.pins,
                     counters=all_of.counters)  # fmt: skip
    reach = paper.reach
    assert reach is not None
    average = played(made).average
    for need, watch in zip(paper.needs.values(), all_of.watches, strict=True):
        of, more = need.need.takers, Fraction(0)
        load = share_of(shares, of) if of else made.load
        if need.need.measures == "share":
            over = sum(count * surplus(reach, each, of) for each, count in all_of.lengths.items())
            more = Fraction(over, length)
        found = became(need, watch, made.lost, load, more, None if average is None else average[1])
        made.needs[need.need.name] = found
    return made
