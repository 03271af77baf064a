"""Playing a model: one run or many, on one core or several, with what became of its needs."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, replace
from fractions import Fraction
from threading import Event

from tachys.model.system import System
from tachys.needs.takers import share_of
from tachys.simulation.engine import Run, work_of
from tachys.simulation.kernel import play
from tachys.simulation.layout import WAKE_UPS
from tachys.simulation.needs import Watch, became, needs_records, watched, watches
from tachys.simulation.options import RunOptions
from tachys.simulation.result import Simulated
from tachys.simulation.statistics import Counted, cleared, counted, levels, losses, silent, spent, taken
from tachys.simulation.supply import played
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds
from tachys.worstcase.load import surplus

Progress = Callable[[float], None]


@dataclass(slots=True)
class RunPart:
    """What one run has counted up to ``length`` ps."""

    length: int
    whole: bool
    counted: dict[str, Counted]
    lost: dict[str, int]
    cleared: dict[str, int]
    silent: dict[str, int]
    taken: dict[str, int]
    spent: dict[tuple[str, str], int]
    wakes: int
    levels: dict[str, int]
    watches: list[Watch]


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
    run = Run(system, ways, end, record=needs_records(system), compiled=compiled)
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
    return RunPart(
        length, whole, figures, lost, undone, gone, taken(run.memory, run.index, length),
        spent(run.memory, run.index, depths, length), int(run.memory[WAKE_UPS]), deepest, looking,
    )  # fmt: skip


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
        parts = _in_threads(system, ways, end, runs, workers, progress)
    else:
        parts = []
        for number in range(runs):
            told = None if progress is None else _share_of(progress, number, runs)
            parts.append(
                play_part(system, replace(ways, seed=ways.seed + number), end, number, told, compiled=compiled)
            )
            if not parts[-1].whole:
                break
    return joined(paper, parts, complete=len(parts) == runs and all(part.whole for part in parts))


def _share_of(progress: Progress, number: int, runs: int) -> Progress:
    return lambda share: progress((number + share) / runs)


def _in_threads(
    system: System, ways: RunOptions, end: int, runs: int, workers: int, progress: Progress | None
) -> list[RunPart]:
    """Some runs beside each other: the compiled engine lets others go on meanwhile.

    Those that were interrupted are as long as they have come.
    """
    parts: dict[int, RunPart] = {}
    stop = Event()

    def heed(_: float) -> None:
        if stop.is_set():
            raise KeyboardInterrupt

    def play(number: int) -> RunPart | None:
        each = replace(ways, seed=ways.seed + number)
        return None if stop.is_set() else play_part(system, each, end, number, heed, compiled=True)

    with ThreadPoolExecutor(min(workers, runs)) as pool:
        waiting: dict[Future[RunPart | None], int] = {pool.submit(play, number): number for number in range(runs)}
        while waiting:
            try:
                done, _ = wait(waiting, return_when=FIRST_COMPLETED)
            except KeyboardInterrupt:  # whoever plays ends with its slice, and who has not begun does not begin
                stop.set()
                continue
            for future in done:
                number, part = waiting.pop(future), future.result()
                if part is not None:
                    parts[number] = part
            if progress is not None:
                progress(len(parts) / runs)
    if not any(part.length for part in parts.values()):
        raise KeyboardInterrupt
    return [parts[number] for number in sorted(parts)]


def joined(paper: Bounds, parts: list[RunPart], *, complete: bool) -> Simulated:
    """All runs as one result."""
    first = parts[0]
    for part in parts[1:]:
        for name, each in part.counted.items():
            first.counted[name].add(each)
    length = sum(part.length for part in parts)
    lost = {name: sum(part.lost[name] for part in parts) for name in first.lost}
    shares = {name: Fraction(sum(part.taken[name] for part in parts), length or 1) for name in first.taken}
    deepest = {name: max(part.levels[name] for part in parts) for name in first.levels}
    undone = {name: sum(part.cleared[name] for part in parts) for name in first.cleared}
    gone = {name: sum(part.silent[name] for part in parts) for name in first.silent}
    times = {key: sum(part.spent[key] for part in parts) for key in first.spent}
    made = Simulated(paper, length, len(parts), complete, first.counted, lost, shares, levels=deepest, cleared=undone,
                     silent=gone, spent=times, wakes=sum(part.wakes for part in parts))  # fmt: skip
    assert paper.reach is not None
    average = played(made).average
    for number, need in enumerate(paper.needs.values()):
        of, more = need.need.takers, Fraction(0)
        load = share_of(shares, of) if of else made.load
        if need.need.measures == "share":
            more = Fraction(sum(surplus(paper.reach, part.length, of) for part in parts), length or 1)
        found = became(need, [part.watches[number] for part in parts], lost, load, more,
                       None if average is None else average[1])  # fmt: skip
        made.needs[need.need.name] = found
    return made
