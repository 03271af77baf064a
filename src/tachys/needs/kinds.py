"""The kinds of needs: what each asks for, its bound on paper, and what of that which was seen breaks it."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable
from fractions import Fraction
from typing import ClassVar, Literal, cast

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from tachys.figures import Figure, Part, summed
from tachys.frames import PS
from tachys.model.events import Event, Thing
from tachys.model.nodes import Battery
from tachys.model.quantities import time_in_words
from tachys.needs.paper import Paper
from tachys.needs.seen import Broken, Instants, Look, Observation, Past, Total, distances_of, from_last
from tachys.needs.verdicts import Proof, Verdict, verdict_of

Amount = int | Fraction
Measures = Literal["time", "share", "number", "current", "life"]
LOOP = Thing("loop")


class NeedBounds(Struct, frozen=True):
    """One need on paper. ``bound`` and ``limit`` in ps, a share for a load, a number for losses; None: none known.

    ``figure`` takes the bound apart where it is a time. ``least``: what it is at least, whatever happens.
    """

    need: Need
    limit: Amount
    bound: Amount | None
    proved: bool
    reason: str = ""
    figure: Figure | None = None
    least: Amount = 0

    @property
    def proof(self) -> Proof:
        """What verdicts rest on."""
        return Proof(self.proved, self.bound is not None or self.may_break, self.least > self.limit)

    @property
    def may_break(self) -> bool:
        """Whether it is known that it may be broken, though no number says by how much."""
        return self.bound is None and bool(self.figure or self.need.measures in ("share", "number"))

    @property
    def verdict(self) -> Verdict:
        """What paper alone says."""
        return verdict_of(self.proof)


class Need(Struct, frozen=True):
    """Something that must hold. Limits and values are in ps, a share of one, a number, or amperes (``measures``)."""

    measures: ClassVar[Measures] = "time"
    timed: ClassVar[bool] = True
    bound_is_wait: ClassVar[bool] = False  # the parts of the bound are what a single wait is made of
    _limit: ClassVar[str]  # the field that holds the limit
    _events: ClassVar[tuple[str, ...]] = ()  # those that hold events
    name: str

    @property
    def limit(self) -> Amount:
        """What it may be at most."""
        return cast(Amount, getattr(self, self._limit))

    @property
    def events(self) -> tuple[Event, ...]:
        """The events that it is about."""
        return tuple(Event(getattr(self, name)) for name in self._events)

    @property
    def waits(self) -> Thing:
        """What waits where it is broken."""
        return LOOP

    @property
    def follows(self) -> WithinNeed | None:
        """Itself, where it follows events to their answers."""
        return None

    @property
    def feeds(self) -> Watchdog | None:
        """The watchdog that must be fed."""
        return None

    @property
    def takers(self) -> tuple[str, ...]:
        """Whose load it is about; empty: everybody's."""
        return ()

    @property
    def window(self) -> int | None:
        """The length of the windows that it looks at, in ps."""
        return None

    @property
    def of_records(self) -> bool:
        """Whether only records of what happened can tell; else counters can."""
        return self.timed or self.window is not None

    @abstractmethod
    def bound(self, paper: Paper) -> NeedBounds:
        """What can happen at worst."""

    def look(self, seen: Observation, past: Past) -> Look | None:
        """What was seen of a need that is a time, slice by slice; None where nothing shows it."""
        raise NotImplementedError

    def sum_up(self, seen: Observation, surplus: Fraction = Fraction(0)) -> Total | None:
        """What was seen in all of a need that is no time; None where nothing shows it.

        ``surplus``: how much more than in the long run a load can be, since what was seen ends somewhere.
        """
        raise NotImplementedError

    def worst(self, least: int, most: int) -> int:
        """What counts against the limit, of times from ``least`` to ``most`` ps."""
        return most

    def badness(self, after: Instants) -> Instants | None:
        """How much each single time counts against the limit; None where only all of them together do."""
        return after

    def given(self, value: Amount | None) -> float | None:
        """A limit, bound or value as programs read it: seconds, a share of one, a number, amperes."""
        if value is None:
            return None
        if self.measures == "number":
            return int(value)
        return float(value / PS if self.measures == "time" else value)

    @abstractmethod
    def words(self, time: Callable[[int], str]) -> str:
        """What must hold, in the model's words; ``time`` writes a time in ps."""

    def _of_figure(self, figure: Figure, lost: str = "", least: Amount = 0) -> NeedBounds:
        proved = figure.most is not None and figure.most <= self.limit and not lost
        return NeedBounds(self, self.limit, figure.most, proved, figure.reason or lost, figure, least)


class WithinNeed(Need, frozen=True):
    """From every event of ``begins`` to its answer ``ends`` at most ``within`` ps; ``age``: from the last cause.

    It must not come sooner than after ``not_before`` ps either.
    """

    bound_is_wait: ClassVar[bool] = True
    _limit: ClassVar[str] = "within"
    _events: ClassVar[tuple[str, ...]] = ("begins", "ends")
    name: str
    begins: Event
    ends: Event
    within: int
    age: bool = False
    not_before: int = 0

    @property
    def waits(self) -> Thing:
        """What waits where it is broken."""
        return self.ends.thing

    @property
    def follows(self) -> WithinNeed | None:
        """Itself."""
        return self

    def bound(self, paper: Paper) -> NeedBounds:
        """The sum of the ways from cause to cause; where no chain leads there, the time to whichever comes next."""
        found = paper.way(self.begins, self.ends, age=self.age)
        if found is not None:
            figure, lost = found
            made = self._of_figure(figure, lost, figure.least)
            return made if figure.least >= self.not_before else self._too_soon(made, figure.least)
        gap = paper.gap(self.ends)
        if gap is None:
            reason = f"no chain of causes leads from {self.begins} to {self.ends}, and nothing makes it come"
            return NeedBounds(self, self.within, None, False, reason)
        part = Part("longest time to the next", self.ends, 1, gap)
        made = self._of_figure(Figure(0, gap, (part,)))
        return self._too_soon(made, 0) if self.not_before else made

    def _too_soon(self, made: NeedBounds, least: int) -> NeedBounds:
        reason = made.reason or f"it can already come after {time_in_words(least)}"
        return replace(made, proved=False, reason=reason)

    def look(self, seen: Observation, past: Past) -> Look | None:
        """Too early, late beyond the limit, lost on the way, or not answered although the limit is over."""
        found = seen.answers(self)
        if found is None:
            return None
        beyond = self.within + seen.slack
        late = found.after > beyond
        pairs = zip(found.at[late].tolist(), found.after[late].tolist(), strict=True)
        broken = [Broken(at, after, "late", at, at + after) for at, after in pairs]
        if not found.relative:  # else each is known but for what all have in common
            early = found.after < self.not_before - seen.slack
            pairs = zip(found.at[early].tolist(), found.after[early].tolist(), strict=True)
            broken += [Broken(at, after, "early", at, at + after) for at, after in pairs]
        broken += [Broken(at, None, "lost", at, at + self.within) for at in found.lost.tolist()]
        still = found.open[seen.end - found.open > beyond]
        broken += [Broken(at, None, "open", at, seen.end) for at in still.tolist()]
        return Look(found.at, found.after, broken, relative=found.relative)

    def words(self, time: Callable[[int], str]) -> str:
        """What must hold."""
        age = " (age)" if self.age else ""
        after = f", not before {time(self.not_before)}" if self.not_before else ""
        return f"{self.begins.removeprefix('source.')} → {self.ends}{age}{after}"


class LoadNeed(Need, frozen=True):
    """The share of time that the core works, at most; ``over`` ps of any window, None: in the long run.

    ``of``: what these alone take, "interrupts" or routines and steps with what belongs to them; empty: everything.
    """

    measures: ClassVar[Measures] = "share"
    timed: ClassVar[bool] = False
    _limit: ClassVar[str] = "share"
    name: str
    share: Fraction
    over: int | None = None
    of: tuple[str, ...] = ()

    @property
    def takers(self) -> tuple[str, ...]:
        """Those named in it."""
        return self.of

    @property
    def window(self) -> int | None:
        """The length of the windows that it looks at, in ps."""
        return self.over

    def bound(self, paper: Paper) -> NeedBounds:
        """The load of the bounds."""
        least, most, reason = paper.load(self.over, self.of)
        proved = most <= self.share
        return NeedBounds(self, self.share, most, proved, "" if proved else reason, least=least)

    def sum_up(self, seen: Observation, surplus: Fraction = Fraction(0)) -> Total | None:
        """More than the limit in any window, or in all."""
        found = seen.load(self.over, self.of)
        if found is None:
            return None
        more = surplus if self.over is None else Fraction(0)
        over = found.share - found.slack > self.share + more
        broken = [Broken(found.at, None, "late", found.at, found.at)] if over else []
        return Total(found.share, broken, int(over), found.by, found.slack)

    def words(self, time: Callable[[int], str]) -> str:
        """What must hold."""
        whose = f"load of {', '.join(self.of)}" if self.of else "load"
        return whose if self.over is None else f"{whose} in any {time(self.over)}"


class CurrentNeed(Need, frozen=True):
    """The average supply current in amperes, at most; only paper judges that, since all that is seen ends somewhere."""

    measures: ClassVar[Measures] = "current"
    timed: ClassVar[bool] = False
    _limit: ClassVar[str] = "most"
    name: str
    most: Fraction

    def bound(self, paper: Paper) -> NeedBounds:
        """The most of the long run."""
        average, reason = paper.supply()
        if average is None:
            return NeedBounds(self, self.most, None, False, reason)
        return NeedBounds(self, self.most, average[1], average[1] <= self.most, "", least=average[0])

    def sum_up(self, seen: Observation, surplus: Fraction = Fraction(0)) -> Total | None:
        """What was seen, which breaks nothing."""
        average = seen.supply()
        return None if average is None else Total(average, [], 0)

    def words(self, time: Callable[[int], str]) -> str:
        """What must hold."""
        return "average current"


class LifeNeed(CurrentNeed, frozen=True):
    """The battery lasts so long: the average current is no more than that allows."""

    measures: ClassVar[Measures] = "life"
    battery: Battery

    def given(self, value: Amount | None) -> float | None:
        """A life in seconds; without end as None."""
        lasts = None if value is None else self.battery.lasts(Fraction(value))
        return None if lasts is None else float(lasts)

    def words(self, time: Callable[[int], str]) -> str:
        """What must hold."""
        return "battery lasts"


class NumberNeed(Need, frozen=True):
    """At most ``most`` of something at the thing ``of``."""

    measures: ClassVar[Measures] = "number"
    timed: ClassVar[bool] = False
    _limit: ClassVar[str] = "most"
    _events: ClassVar[tuple[str, ...]] = ("of",)
    name: str
    of: Thing
    most: int

    @property
    def waits(self) -> Thing:
        """What waits where it is broken."""
        return self.of


class LossNeed(NumberNeed, frozen=True):
    """At most ``most`` events of ``of`` (a source, unit, routine or flag.NAME) are lost."""

    def bound(self, paper: Paper) -> NeedBounds:
        """None is lost, or any number may be."""
        why = paper.loses(self.of)
        if why is None:
            return NeedBounds(self, self.most, 0, True)
        most = paper.lost_in_all(self.of)
        return NeedBounds(self, self.most, most, most is not None and most <= self.most, f"may be lost: {why}")

    def sum_up(self, seen: Observation, surplus: Fraction = Fraction(0)) -> Total | None:
        """Each loss beyond those that are allowed."""
        found = seen.lost(self.of)
        if found is None:
            return None
        instants, count = found
        broken = [Broken(at, None, "lost", at, at) for at in instants[self.most :].tolist()]
        return Total(count, broken, max(0, count - self.most))

    def words(self, time: Callable[[int], str]) -> str:
        """What must hold."""
        return f"lost of {self.of}"


class FillNeed(NumberNeed, frozen=True):
    """At most ``most`` items are in the buffer ``of`` at once; each put beyond that is a miss."""

    of_records: ClassVar[bool] = True

    def bound(self, paper: Paper) -> NeedBounds:
        """The most that can be in."""
        level = paper.level(self.of)
        reason = "" if level <= self.most else f"up to {level} can be in before they are taken"
        return NeedBounds(self, self.most, level, level <= self.most, reason)

    def sum_up(self, seen: Observation, surplus: Fraction = Fraction(0)) -> Total | None:
        """Each put with which more are in."""
        found = seen.beyond(self.of, self.most)
        if found is None:
            return None
        instants, count, deepest = found
        return Total(deepest, [Broken(at, None, "full", at, at) for at in instants.tolist()], count)

    def words(self, time: Callable[[int], str]) -> str:
        """What must hold."""
        return f"items in {self.of}"


class PeriodNeed(Need, frozen=True):
    """Every single distance between neighbouring events ``of`` lies within ``every`` ± ``give_or_take`` ps."""

    _limit: ClassVar[str] = "give_or_take"
    _events: ClassVar[tuple[str, ...]] = ("of",)
    name: str
    of: Event
    every: int
    give_or_take: int

    def bound(self, paper: Paper) -> NeedBounds:
        """How far a distance can be from ``every``, either way."""
        least, most = paper.distances(self.of)
        if most.most is None:
            return self._of_figure(Figure(0, None, reason=most.reason), least=max(0, least - self.every))
        if most.most - self.every >= self.every - least:
            parts = [*most.parts, Part("wanted", self.of, 1, -self.every)]
        else:
            parts = [Part("wanted", self.of, 1, self.every), Part("least distance", self.of, 1, -least)]
        certain = max(0, least - self.every, self.every - most.most)
        return self._of_figure(summed(0, parts), least=certain)

    def look(self, seen: Observation, past: Past) -> Look | None:
        """Every distance."""
        times = seen.instants(self.of)
        if times is None or (seen.whole and past.last is None and len(times) < 2):
            return None
        return distances_of(
            from_last(times, past), self.every - self.give_or_take, self.every + self.give_or_take, seen.slack
        )

    def worst(self, least: int, most: int) -> int:
        """How far the distances were from ``every``."""
        return max(most - self.every, self.every - least)

    def badness(self, after: Instants) -> Instants | None:
        """How far each distance was from ``every``."""
        return np.abs(after - self.every)

    def words(self, time: Callable[[int], str]) -> str:
        """What must hold."""
        return f"{self.of} every {time(self.every)}, ±"


class JitterNeed(Need, frozen=True):
    """Latest minus earliest delay of event ``of`` against what causes it, at most ``jitter`` ps."""

    _limit: ClassVar[str] = "jitter"
    _events: ClassVar[tuple[str, ...]] = ("of",)
    name: str
    of: Event
    jitter: int

    @property
    def waits(self) -> Thing:
        """What waits where it is broken."""
        return self.of.thing

    def bound(self, paper: Paper) -> NeedBounds:
        """The most of the delay less its least."""
        figure = paper.delay(self.of)
        if figure.most is None:
            return self._of_figure(figure)
        return self._of_figure(summed(0, [*figure.parts, Part("the least of it", self.of, 1, -figure.least)]))

    def look(self, seen: Observation, past: Past) -> Look | None:
        """A delay is a miss if it lies further than the limit from one that was seen before it."""
        found = seen.delays(self.of)
        if found is None or (seen.whole and past.least is None and not len(found.after)):
            return None
        if not len(found.after):
            return Look()
        known = np.array([each for each in (past.least, past.most) if each is not None], np.int64)
        least = np.minimum.accumulate(np.append(known, found.after))[len(known) :]
        most = np.maximum.accumulate(np.append(known, found.after))[len(known) :]
        past.least, past.most = int(least[-1]), int(most[-1])
        wrong = np.flatnonzero(np.maximum(found.after - least, most - found.after) > self.jitter + seen.slack)
        broken = []
        for k in wrong.tolist():
            at, after = int(found.at[k]), int(found.after[k])
            kind = "late" if after - int(least[k]) > self.jitter + seen.slack else "early"
            broken.append(Broken(at + after, int(most[k] - least[k]), kind, at, at + after))
        return Look(found.at, found.after, broken, relative=found.relative)

    def worst(self, least: int, most: int) -> int:
        """How far apart the delays were."""
        return most - least

    def badness(self, after: Instants) -> Instants | None:
        """A width is that of all of them."""
        return None

    def words(self, time: Callable[[int], str]) -> str:
        """What must hold."""
        return f"jitter of {self.of}"


class Watchdog(Struct, frozen=True):
    """Fed by an event at intervals below ``timeout`` and, with a window, not below ``not_before`` ps.

    Both already at the unfavourable end of the tolerance.
    """

    fed_by: Event
    timeout: int
    not_before: int = 0


class FeedNeed(Need, frozen=True):
    """The watchdog is always fed in time."""

    _limit: ClassVar[str] = "timeout"
    _events: ClassVar[tuple[str, ...]] = ("fed_by",)
    name: str
    watchdog: Watchdog

    @property
    def timeout(self) -> int:
        """What the time between two feeds must be less than, in ps."""
        return self.watchdog.timeout

    @property
    def fed_by(self) -> Event:
        """What feeds it."""
        return self.watchdog.fed_by

    @property
    def feeds(self) -> Watchdog | None:
        """The watchdog."""
        return self.watchdog

    def bound(self, paper: Paper) -> NeedBounds:
        """The longest time to the next feed; fed exactly as it is up is too late."""
        dog = self.watchdog
        gap = paper.gap(dog.fed_by)
        least, most = paper.distances(dog.fed_by)
        if gap is None:
            return self._of_figure(Figure(0, None, reason=most.reason or "nothing is sure to feed it"))
        figure = most if most.most is not None and most.most >= gap else Figure(
            0, gap, (Part("longest time to the next feed", dog.fed_by, 1, gap),)
        )  # fmt: skip
        assert figure.most is not None
        early = least < dog.not_before
        reason = "it can be fed again before its window opens" if early else ""
        proved = figure.most < dog.timeout and not early
        certain = dog.timeout + 1 if least >= dog.timeout else least
        return NeedBounds(self, dog.timeout, figure.most, proved, reason, figure, certain)

    def look(self, seen: Observation, past: Past) -> Look | None:
        """Every distance; the first is due from time zero, and its window opens with it."""
        times, dog = seen.instants(self.watchdog.fed_by), self.watchdog
        if times is None or (seen.whole and past.last is None and not len(times) and seen.zero is None):
            return None
        first = Look()
        if past.last is None and seen.zero is not None:
            if len(times):
                first = distances_of(np.append(np.int64(seen.zero), times[:1]), 0, dog.timeout - 1, seen.slack)
                times = times[1:]
                past.last = int(first.at[0] + first.after[0])
            elif seen.whole:
                past.last = seen.zero
        found = distances_of(from_last(times, past), dog.not_before, dog.timeout - 1, seen.slack)
        look = Look(np.append(first.at, found.at), np.append(first.after, found.after), first.broken + found.broken)
        look.unruled = len(first.at)  # from time zero to the first feed is no distance between two
        if seen.whole and past.last is not None and seen.end - past.last >= dog.timeout + seen.slack:
            look.still = seen.end - past.last
            look.broken.append(Broken(past.last, None, "open", past.last, seen.end))
        return look

    def words(self, time: Callable[[int], str]) -> str:
        """What must hold."""
        window = f"after {time(self.watchdog.not_before)}, " if self.watchdog.not_before else ""
        return f"{self.watchdog.fed_by} feeds {window}within"
