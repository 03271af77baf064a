"""Needs while a model is played: what is looked at in the records of each slice, and what became of each need."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from tachys.bounds.needs import verdict_of
from tachys.bounds.result import NeedBounds
from tachys.model.events import Event, Thing
from tachys.model.system import (
    FeedNeed,
    JitterNeed,
    LoadNeed,
    LossNeed,
    Need,
    PeriodNeed,
    System,
    WithinNeed,
)
from tachys.simulation import layout as at
from tachys.simulation.busy import BusySpans
from tachys.simulation.engine import Records, join
from tachys.simulation.follow import Answers, answers, empty, event_times, places
from tachys.simulation.index import Index
from tachys.simulation.memory import histogram_bits
from tachys.simulation.result import NeedSeen, SeenMiss
from tachys.simulation.statistics import Counted, bucket_of

KEPT = 100  # misses whose instants are kept, of each need


def needs_records(system: System) -> bool:
    """Whether some need can only be seen in records of what happened."""
    return any(not isinstance(n, LossNeed) and not (isinstance(n, LoadNeed) and n.over is None) for n in system.needs)


@dataclass(slots=True)
class Watch:
    """One need of one run, slice by slice."""

    need: Need
    run: int
    bits: int
    seen: Counted = field(init=False)
    misses: int = 0
    first: list[SeenMiss] = field(default_factory=list)
    _busy: BusySpans | None = None
    _carried: Records | None = None
    _last: int | None = None
    _cause: int | None = None
    _until: int = 0

    def __post_init__(self) -> None:
        self.seen = Counted(0, 0, at.NEVER, -1, np.zeros((at.OCTAVES + 2) << self.bits, np.int64), self.bits)

    def look(self, records: Records, system: System, index: Index, now: int, *, ended: bool) -> None:
        """Take in the records up to ``now``; ``ended``: there will be no more."""
        need = self.need
        if isinstance(need, WithinNeed):
            self._within(need, self._with_carried(records), system, index, now, ended)
        elif isinstance(need, PeriodNeed):
            self._distances(event_times(records, index, need.of), need.every - need.give_or_take,
                            need.every + need.give_or_take)  # fmt: skip
        elif isinstance(need, FeedNeed):
            times, dog = event_times(records, index, need.watchdog.fed_by), need.watchdog
            if self._last is None and len(times):  # the first is due from time zero; the window opens with it
                self._last = 0
                self._distances(times[:1], 0, dog.timeout - 1)
                times = times[1:]
            self._last = self._last or 0
            self._distances(times, dog.not_before, dog.timeout - 1)
            if ended and now - self._last >= need.watchdog.timeout:
                self._miss(self._last, None, "open")
        elif isinstance(need, JitterNeed):
            self._jitter(need, records, system, index)
        elif isinstance(need, LoadNeed) and need.over is not None:
            self._busy = self._busy or BusySpans(need.over)
            self._busy.take(records, index, now)

    @property
    def busiest(self) -> Fraction:
        """The most load of any window of a load need."""
        return Fraction(0) if self._busy is None else self._busy.busiest

    def _with_carried(self, records: Records) -> Records:
        if self._carried is None:
            return records
        return join([self._carried, records])

    def _within(self, need: WithinNeed, records: Records, system: System, index: Index, now: int, ended: bool) -> None:
        found = answers(records, system, index, need)
        # events answered before were counted with an earlier slice
        keep = found.at >= self._until
        found = Answers(found.at[keep], found.after[keep], found.lost[found.lost >= self._until],
                        found.open[found.open >= self._until])  # fmt: skip
        oldest = int(found.open.min()) if len(found.open) else now + 1
        if not ended:  # what came after the oldest that is open is told with it, in a later slice
            sure = found.at < oldest
            found = Answers(found.at[sure], found.after[sure], found.lost[found.lost < oldest], empty())
            self._until = oldest
            self._carried = records.since(oldest)
        self._count(found.after)
        late = found.after > need.within
        for when, value in zip(found.at[late].tolist(), found.after[late].tolist(), strict=True):
            self._miss(when, value, "late")
        for when in found.lost.tolist():
            self._miss(when, None, "lost")
        for when in found.open[now - found.open > need.within].tolist():
            self._miss(when, None, "open")

    def _distances(self, times: at.Ints, least: int, most: int) -> None:
        if self._last is not None:
            times = np.concatenate([[self._last], times])
        if not len(times):
            return
        apart = np.diff(times)
        self._last = int(times[-1])
        self._count(apart)
        wrong = (apart < least) | (apart > most)
        for when, value in zip(times[1:][wrong].tolist(), apart[wrong].tolist(), strict=True):
            self._miss(when, value, "late" if value > most else "early")

    def _jitter(self, need: JitterNeed, records: Records, system: System, index: Index) -> None:
        """A delay is a miss if it lies further than the limit from one that was seen before it."""
        if need.of.kind == "source":
            return
        times, delays = self._delays(need.of, records, system, index)
        if not len(delays):
            return
        known = empty([self.seen.least, self.seen.most] if self.seen.count else None)
        least = np.minimum.accumulate(np.append(known, delays))[len(known) :]
        most = np.maximum.accumulate(np.append(known, delays))[len(known) :]
        self._count(delays)
        wrong = np.maximum(delays - least, most - delays) > need.jitter
        for when, value in zip(times[wrong].tolist(), (most - least)[wrong].tolist(), strict=True):
            self._miss(when, value, "late")

    def _delays(self, event: Event, records: Records, system: System, index: Index) -> tuple[at.Ints, at.Ints]:
        """(instants, delays against what caused it) of an event: of a step, since it was due or its flag was set."""
        here = places(records, index, event)
        if event.kind != "step":
            return records.time[here], records.time[here] - records.cause[here]
        starts = places(records, index, event.thing.start)
        causes = records.cause[starts]
        step = system.step(event.name)
        if step.polls is not None and step.every is None:
            causes = records.cause[starts - 1]  # of the taking of its flag, which stands right before its start
        if event.moment == "start":
            return records.time[starts], records.time[starts] - causes
        causes = np.append(empty([] if self._cause is None else [self._cause]), causes)
        self._cause = int(causes[-1]) if len(causes) > len(here) else None
        return records.time[here], records.time[here] - causes[: len(here)]

    def _count(self, values: at.Ints) -> None:
        if not len(values):
            return
        self.seen.count += len(values)
        self.seen.total += sum(values.tolist())
        self.seen.least, self.seen.most = (
            min(self.seen.least, int(values.min())),
            max(self.seen.most, int(values.max())),
        )
        np.add.at(self.seen.buckets, bucket_of(values, self.bits), 1)

    def _miss(self, when: int, value: int | None, kind: str) -> None:
        self.misses += 1
        if len(self.first) < KEPT:
            self.first.append(SeenMiss(self.run, when, value, kind))


def watches(system: System, run: int) -> list[Watch]:
    """A watch for every need."""
    return [Watch(need, run, histogram_bits(system)) for need in system.needs]


def became(paper: NeedBounds, parts: list[Watch], lost: dict[str, int], load: Fraction, surplus: Fraction) -> NeedSeen:
    """What became of a need in all runs together.

    ``load`` over all of them; ``surplus``: how much of it can be more than in the long run, because they end.
    """
    need = paper.need
    seen, misses = parts[0].seen, sum(part.misses for part in parts)
    for part in parts[1:]:
        seen.add(part.seen)
    first = tuple(miss for part in parts for miss in part.first)[:KEPT]
    value: int | Fraction | None = value_of(need, seen)
    if isinstance(need, LossNeed):
        value = sum(count for name, count in lost.items() if _is_loss_of(name, need.of))
        misses = int(value > need.most)
    elif isinstance(need, LoadNeed):
        value = load if need.over is None else max(part.busiest for part in parts)
        misses = int(value > need.limit + (surplus if need.over is None else 0))
    verdict = verdict_of(
        proved=paper.proved, can_tell=paper.bound is not None or value is not None, seen_beyond=misses > 0
    )
    return NeedSeen(need, verdict, paper.limit, seen.stats(), value, misses, first)


def value_of(need: Need, seen: Counted) -> int | None:
    """The worst that was seen of a need that is a time, as its limit is given, in ps; None where nothing was."""
    if not seen.count:
        return None
    if isinstance(need, JitterNeed):
        return seen.most - seen.least
    return max(seen.most - need.every, need.every - seen.least) if isinstance(need, PeriodNeed) else seen.most


def _is_loss_of(counted: str, thing: Thing) -> bool:
    """Whether a counter of losses belongs to a thing: a source loses where a line or unit does not take its event."""
    return counted == thing or (thing.kind == "source" and counted.endswith(f"({thing})"))
