"""Needs while a model is played: what a run shows of them, slice by slice, and what became of each in all runs."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction

import numpy as np
from msgspec import Struct, field

from tachys.model.events import Event, Thing
from tachys.model.nodes import Unit
from tachys.model.system import System
from tachys.needs.kinds import FillNeed, Need, NeedBounds
from tachys.needs.seen import Broken, Delays, Following, Instants, Past, Taken
from tachys.needs.verdicts import verdict_of
from tachys.simulation import layout as at
from tachys.simulation.busy import BusySpans
from tachys.simulation.engine import NOTHING, Records, Run, join
from tachys.simulation.follow import answers, event_times, places
from tachys.simulation.index import Index
from tachys.simulation.memory import histogram_bits
from tachys.simulation.result import NeedSeen, SeenMiss
from tachys.simulation.statistics import Counted, bucket_of, nothing_counted

KEPT = 100  # misses whose instants are kept, of each need


class _Following(Struct):
    """What of a need is carried from slice to slice: its oldest open event came at ``until``, with so many records
    ``before`` it."""

    until: int
    before: int


class PlayedSlice(Struct):
    """A slice of a run as needs see it: to the picosecond, from time zero."""

    system: System
    index: Index
    records: Records
    end: int
    whole: bool
    slack: int = 0
    zero: int | None = 0
    _kept: Records = NOTHING  # with those of earlier slices from the oldest that is still open on
    _before: int = 0  # how many records came before these
    _following: dict[str, _Following] = field(default_factory=dict)
    _causes: dict[Event, int] = field(default_factory=dict)
    _delays: dict[Event, Delays] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._kept = self.records

    def next(self, records: Records, now: int, *, whole: bool) -> None:
        """Go on to the slice up to ``now``."""
        needed = min((each.before for each in self._following.values()), default=self._before + len(self._kept.time))
        kept, self._before = self._kept.since(needed - self._before), needed
        self._kept = join([kept, records]) if len(kept.time) else records
        self.records, self.end, self.whole = records, now, whole
        self._delays.clear()

    def instants(self, event: Event) -> Instants | None:
        """When an event happened."""
        return event_times(self.records, self.index, event)

    def answers(self, need: Following) -> Delays | None:
        """The answers that are new in this slice; those still open are told with the last one."""
        if need.name not in self._following:
            self._following[need.name] = _Following(0, self._before + len(self._kept.time) - len(self.records.time))
        kept = self._following[need.name]
        records = self._kept.since(kept.before - self._before)
        found = answers(records, self.system, self.index, need, whole=self.whole)
        keep = found.at >= kept.until  # others were counted with an earlier slice
        lost, still = found.lost[found.lost >= kept.until], found.open[found.open >= kept.until]
        new = Delays(found.at[keep], found.after[keep], lost, still)
        if self.whole:
            return new
        told = int(records.time[-1]) + 1 if len(records.time) else kept.until  # not of the instant at which it stands
        oldest = int(still.min()) if len(still) else told
        sure = new.at < oldest  # what came after the oldest that is open is told with it, in a later slice
        kept.until, kept.before = oldest, kept.before + int(np.searchsorted(records.time, oldest))
        return Delays(new.at[sure], new.after[sure], lost[lost < oldest])

    def delays(self, event: Event) -> Delays | None:
        """From what causes an event to it: of a step, since it was due or its flag was set; of a source nothing."""
        if event.kind == "source":
            return None
        if event not in self._delays:
            self._delays[event] = self._delays_of(event)
        return self._delays[event]

    def _delays_of(self, event: Event) -> Delays:
        here = places(self.records, self.index, event)
        ends, causes = self.records.time[here], self.records.cause[here]
        if event.kind == "step":
            ends, causes = self._of_step(event, here)
        return Delays(causes, ends - causes)

    def _of_step(self, event: Event, here: at.Ints) -> tuple[at.Ints, at.Ints]:
        starts = places(self.records, self.index, event.thing.start)
        causes = self.records.cause[starts]
        step = self.system.step(event.name)
        if step.asked_by is not None or len(step.polls) > 1:  # it takes several, each with a cause of its own
            return self.records.time[:0], self.records.cause[:0]
        if step.polls and step.every is None:
            causes = self.records.cause[starts - 1]  # of the taking of its flag, which stands right before its start
        if event.moment == "start":
            return self.records.time[starts], causes
        if event in self._causes:
            causes = np.append(np.int64(self._causes.pop(event)), causes)
        if len(causes) > len(here):
            self._causes[event] = int(causes[-1])
        return self.records.time[here], causes[: len(here)]

    def lost(self, thing: Thing) -> tuple[Instants, int] | None:
        """Counters tell, not records."""
        return None

    def beyond(self, buffer: Thing, level: int) -> tuple[Instants, int, int] | None:
        """The :class:`Level` of a watch tells."""
        return None

    def supply(self) -> Fraction | None:
        """Counters of all runs tell."""
        return None

    def load(self, over: int | None, of: tuple[str, ...]) -> Taken | None:
        """Counters tell, or :class:`BusySpans`."""
        return None


class Level(Struct):
    """How many are in a buffer, slice by slice: now, at most so far, and how many puts went ``beyond`` the limit.

    ``at_once``: a unit at rest takes what is put.
    """

    buffer: str
    limit: int
    at_once: bool
    now: int = 0
    deepest: int = 0
    beyond: int = 0

    def take(self, records: Records, index: Index) -> None:
        """Take in a slice; what is lost finds it full, what a unit takes at once has never been in."""
        mine = records.index == index.buffers.index(self.buffer)
        places = np.flatnonzero(mine & np.isin(records.kind, (at.ITEM_IN, at.ITEM_OUT, at.ITEM_OVER, at.ITEM_LOST)))
        kinds = records.kind[places]
        put = kinds == at.ITEM_IN
        levels = self.now + np.cumsum(put.astype(np.int64) - (kinds == at.ITEM_OUT) - (kinds == at.ITEM_OVER))
        if len(levels):
            self.now = int(levels[-1])
            stays = put.copy()
            if self.at_once:
                stays[:-1] &= (kinds[1:] != at.ITEM_OUT) | (np.diff(places) > 1)
            self.deepest = max(self.deepest, int(levels[stays].max(initial=0)))
            self.beyond += int(np.count_nonzero((stays | (kinds == at.ITEM_LOST)) & (levels > self.limit)))


class Watch(Struct):
    """One need of one run, slice by slice. ``busiest``: the most load of any window of a load need."""

    system: System
    need: Need
    run: int
    seen: Counted
    misses: int = 0
    first: list[SeenMiss] = field(default_factory=list)
    still: int | None = None
    held: bool = False
    _past: Past = field(default_factory=Past)
    _busy: BusySpans | None = None
    busiest: Fraction = Fraction(0)
    level: Level | None = None

    def __post_init__(self) -> None:
        if self.need.window is not None:
            self._busy = BusySpans(self.need.window, interrupts_only=bool(self.need.takers))
        if isinstance(self.need, FillNeed):
            drain = self.system.graph.drain[self.need.of.name]
            at_once = isinstance(drain, Unit) and not drain.asked_at
            self.level = Level(self.need.of.name, self.need.most, at_once)

    def look(self, played: PlayedSlice) -> None:
        """Take in a slice."""
        if self.level is not None:
            self.level.take(played.records, played.index)
        if self._busy is not None:
            self._busy.take(played.records, played.index, played.end)
            self.busiest = self._busy.busiest
        look = self.need.look(played, self._past) if self.need.timed else None
        if look is None:
            return
        self._count(look.after)
        self.held |= look.speaks > 0
        self.still = look.still
        for miss in look.broken:
            self._miss(miss)

    def add(self, other: Watch) -> None:
        """Put what another run, which comes later, has seen of the same need with it."""
        self.seen.add(other.seen)
        self.misses += other.misses
        self.first = (self.first + other.first)[:KEPT]
        self.still = max((each for each in (self.still, other.still) if each is not None), default=None)
        self.held |= other.held
        self.busiest = max(self.busiest, other.busiest)
        if self.level is not None and other.level is not None:
            self.level.deepest = max(self.level.deepest, other.level.deepest)
            self.level.beyond += other.level.beyond

    @property
    def worst(self) -> int | None:
        """The worst that was seen, as the limit is given; None where nothing was."""
        values = [] if self.still is None else [self.still]
        values += [self.need.worst(self.seen.least, self.seen.most)] if self.seen.count else []
        return max(values, default=None)

    def _count(self, values: Instants) -> None:
        if not len(values):
            return
        seen = self.seen
        seen.count += len(values)
        seen.total += (int((values >> 32).sum()) << 32) + int((values & 0xFFFFFFFF).sum())  # 64 bits would not do
        seen.least, seen.most = min(seen.least, int(values.min())), max(seen.most, int(values.max()))
        np.add.at(seen.buckets, bucket_of(values, seen.bits), 1)

    def _miss(self, miss: Broken) -> None:
        self.misses += 1
        if len(self.first) < KEPT:
            self.first.append(SeenMiss(self.run, miss.at, miss.value, miss.kind))


def watched(run: Run, looking: list[Watch]) -> Iterator[None]:
    """Play a run to its end, slice by slice, with every watch looking at each."""
    played = None
    for records in run.slices():
        if played is None:
            played = PlayedSlice(run.system, run.index, records, run.now, run.ended)
        else:
            played.next(records, run.now, whole=run.ended)
        for watch in looking:
            watch.look(played)
        yield


def watch_of(system: System, need: Need, run: int = 0) -> Watch:
    """A need as a run begins."""
    return Watch(system, need, run, nothing_counted(histogram_bits(system)))


def watches(system: System, run: int) -> list[Watch]:
    """A watch for every need."""
    return [watch_of(system, need, run) for need in system.needs]


class _AllRuns(Struct, frozen=True):
    """What counters tell of all runs together."""

    counted: dict[str, int]
    taken: Fraction
    busiest: Fraction
    level: Level | None = None
    average: Fraction | None = None
    slack: int = 0
    end: int = 0
    whole: bool = True
    zero: int | None = 0

    def instants(self, event: Event) -> Instants | None:
        """Records tell."""
        return None

    def answers(self, need: Following) -> Delays | None:
        """Records tell."""
        return None

    def delays(self, event: Event) -> Delays | None:
        """Records tell."""
        return None

    def lost(self, thing: Thing) -> tuple[Instants, int] | None:
        """How many were lost: of a source where a line or unit did not take its event."""
        mine = (
            count
            for name, count in self.counted.items()
            if name == thing or (thing.kind == "source" and name.endswith(f"({thing})"))
        )
        return np.zeros(0, np.int64), sum(mine)

    def beyond(self, buffer: Thing, level: int) -> tuple[Instants, int, int] | None:
        """What the watches of all runs have found."""
        assert self.level is not None
        return np.zeros(0, np.int64), self.level.beyond, self.level.deepest

    def supply(self) -> Fraction | None:
        """The average of all runs."""
        return self.average

    def load(self, over: int | None, of: tuple[str, ...]) -> Taken | None:
        """What was taken of the core in all, or in the busiest window."""
        return Taken(self.taken if over is None else self.busiest, 0)


def became(
    paper: NeedBounds,
    watch: Watch,
    lost: dict[str, int],
    load: Fraction,
    surplus: Fraction,
    supply: Fraction | None = None,
) -> NeedSeen:
    """What became of a need in all runs together: ``watch`` is that of all.

    ``load`` and average ``supply`` current over all of them; ``surplus``: how much of the load can be more than in the
    long run, because they end.
    """
    need = paper.need
    if not need.timed:
        total = need.sum_up(_AllRuns(lost, load, watch.busiest, watch.level, supply), surplus)
        if total is None:
            return NeedSeen(need, verdict_of(paper.proof), paper.limit, None, None, 0)
        holds = need.measures == "number"  # a load of what ends somewhere may be below that of the long run
        verdict = verdict_of(paper.proof, seen=holds, held=holds, broken=total.misses > 0)
        return NeedSeen(need, verdict, paper.limit, None, total.value, total.misses)
    verdict = verdict_of(paper.proof, seen=watch.seen.count > 0, held=watch.held, broken=watch.misses > 0)
    return NeedSeen(need, verdict, paper.limit, watch.seen.stats(), watch.worst, watch.misses, tuple(watch.first))
