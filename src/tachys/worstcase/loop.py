"""The polling loop: how long a pass, a step and a reaction can take.

A window of the loop begins at an instant at which the loop itself runs outside any guard (a look, a start of a step
or pass), so that no routine waits: whatever can be accepted has been accepted before. From there to the same look of
the next pass the loop has its own work to do, each step at most once, and the routines take what all their arrivals
in the half-open window ask for:

    t = own + sum over all lines of arrivals([0, t))·T

What the loop itself raises, it can raise at that very instant, right after the look: such lines count in the closed
window [0, t]. So does everything in a window that begins with an arrival, and not with a look (the reaction to a
flag): acceptance goes before the look with which the window ends.

Pauses, waits and halts pass by the clock on the wall, and interrupts only fill them. Counting both in full is safe. So
is this: cut such times out, and what is left is one piece more than there were of them, in each of which a busy window
of its own begins, at the last instant before its beginning at which no routine ran or waited. All pieces together last
as long as the loop works and routines interrupt it in them; of each row no more can come than in closed windows of that
length together. The fewer of both count. In a halt nothing comes but what ends it. A halt lasts at most until the next
event of some line that is sure to come, plus the time to wake. A flag is set
inside a routine; its window begins at the last instant before, at which no routine ran or waited, when the loop stood
anywhere in its pass or was halted. (The polling loop as the least urgent task of a fixed-priority system; the window
argument is that of M. Joseph, P. Pandya, "Finding response times in a real-time system", Computer Journal 29, 1986.)
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from fractions import Fraction
from operator import attrgetter

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from tachys.figures import Figure, Part, summed, total_of
from tachys.model.acts import Act, Drain, Halt, Put, Wait
from tachys.model.events import Event
from tachys.model.nodes import Loop, Step
from tachys.model.system import System
from tachys.worstcase.arrivals import NoBound, Staircase
from tachys.worstcase.errands import Errand
from tachys.worstcase.events import Events
from tachys.worstcase.laws import law_of
from tachys.worstcase.result import IsrBounds, StepBounds
from tachys.worstcase.rounds import least_round, own_least
from tachys.worstcase.window import isr_bounds
from tachys.worstcase.workload import Workload


def raised_by_loop(system: System) -> frozenset[Event]:
    """The events that steps raise, and what follows from them at once: they can come at the instant of a look.

    A unit that they start begins at that instant, and a routine may begin and end at it where that takes no time; the
    end of a unit takes some.
    """
    raised = {event for step in system.steps for event in (step.start, step.end)}
    bodies = [({isr.start, isr.end}, isr.on) for isr in system.isrs]
    bodies += [({unit.start}, system.graph.causes[unit.thing]) for unit in system.units]
    for unit in system.units:
        if unit.counts is not None:
            bodies.append(({unit.start, unit.end}, (*unit.on, unit.counts.of)))
    bodies += [({event}, (isr.start, isr.end)) for isr in system.isrs for event in isr.inner]
    bodies += [({buffer.event}, system.graph.causes[buffer.thing]) for buffer in system.buffers]
    grown = True
    while grown:
        grown = False
        for events, causes in bodies:
            if raised.intersection(causes) and not events <= raised:
                raised |= events
                grown = True
    return frozenset(raised)


Counts = NDArray[np.int64]
_rank = attrgetter("rank")
NOTHING = Figure(0, 0)
MOST_ROUNDS = 200  # in a row, in which a step makes up for what it has missed


class _Waker(Struct, frozen=True):
    """A line whose event is sure to come, and how long that can take."""

    who: str
    within: int


class _Pieces(Struct, frozen=True):
    """How much of a window passes by the clock, in ps, and into how many pieces that divides the rest of it."""

    clock: int
    count: int


class LoopWindows:
    """Windows of the loop of a system, for given lines and events."""

    def __init__(self, system: System, loop: Loop, load: Workload, events: Events) -> None:
        self.system = system
        self.loop = loop
        self.load = load
        self.events = events
        self._gaps = events.hardware_gaps()
        self._wakers = self._sure_wakers()
        raised = raised_by_loop(system)
        self._passed = [step for step in system.steps if not step.once]
        self._before_loop = _before_loop(system) if system.startup is not None else frozenset()
        self._own_raised = np.array(
            [
                not raised.isdisjoint([each.event] if each.event or line is None else line.isr.on)
                for line, each in load.rows
            ],
            np.bool_,
        )
        self._all = np.ones_like(self._own_raised)
        self._found: dict[tuple[int, _Pieces, bool, Step | None], Counts] = {}
        self._errands: dict[str, list[Part] | str] = {}
        self._late: dict[str, Figure] = {}

    def pass_(self) -> Figure:
        """One round, the overhead first."""
        return self.stretch(least_round(self.system), self._round())

    def round_of(self, step: Step) -> Figure:
        """From a look of a step to its next look, the step itself run between them."""
        return self.stretch(least_round(self.system, step), self._round())

    def duration(self, step: Step) -> Figure:
        """From the start of a step to its end."""
        return self.stretch(own_least(step), self._own(step), within=step)

    def overhead(self) -> Figure:
        """From the beginning of a pass to its first look."""
        return self.stretch(0, [Part("overhead of a pass", "loop", 1, self.loop.overhead.most)])

    def until_paid(self, step: Step) -> Figure:
        """From the start of a step to the end of its cost."""
        last = max((place for place, act in enumerate(step.acts) if act.burns), default=-1)
        return self.until(step, step.acts[: last + 1])

    def until(self, step: Step, acts: Sequence[Act]) -> Figure:
        """From the start of a step to the end of these, its first acts."""
        return self.stretch(sum(act.takes.least for act in acts), self._own(step, acts=acts), within=step)

    def looks(
        self, step: Step, rounds: int, more: Sequence[Act] = (), *, found: bool = True, fewer: Figure = NOTHING
    ) -> Figure:
        """From a look of a step at its buffer, or time zero, to that so many rounds later, and through ``more`` acts.

        Of one that goes on until nothing is in, from its last look on. ``found``: whether the first may have found
        something. ``fewer``: the same for fewer rounds. With a timer: from one of its runs. From time zero on only if
        something can be put in before the loop runs.
        """
        assert step.drains is not None
        then = self._own(step, acts=more)
        first = self._starting() if self.may_come_first(f"buffer.{step.drains.buffer}") else []
        if step.every is not None:
            late, last = self.late(step), self.stretch(0, then, closed=True)
            if late.most is None or last.most is None:
                return late if late.most is None else last
            period, turns = -int(-step.every.most // 1), 1 if step.rearm == "grid" else rounds
            again = [replace(part, count=part.count * turns) for part in late.parts]
            began = self.stretch(0, first, closed=True).parts if first else ()
            return summed(0, [*began, Part("period", step.thing, rounds, period), *again, *last.parts])
        own = {each: self._own(each) if found or each is not step else [] for each in self._passed}
        if found and step.drains.until_empty:
            own[step] = self._own(step, acts=step.acts[step.acts.index(step.drains) + 1 :])
        why = next((parts for parts in (*own.values(), then) if isinstance(parts, str)), None)
        if why is not None:
            return Figure(0, None, reason=why)
        paces = {each: None if each is step or rounds == 1 else self._pace(each) for each in own}
        known = {each: parts for each, parts in own.items() if not isinstance(parts, str)}
        return self._rounds(known, paces, rounds, fewer, [*first, *(then if isinstance(then, list) else [])])

    def looks_further_apart(self, step: Step, period: Fraction) -> bool:
        """Whether a step looks at its buffer less often than each ``period`` ps, in the longest of many rounds."""
        if step.every is not None:
            return step.every.least > period
        return self._fills(period, *self._each_round(step))

    def late(self, step: Step) -> Figure:
        """From the instant at which a software timer is due to the start of its step; worked out once."""
        if step.name not in self._late:
            self._late[step.name] = self._lateness(step)
        return self._late[step.name]

    def _lateness(self, step: Step) -> Figure:
        assert step.every is not None
        if step.polls:
            return Figure(0, None, reason=f"it also waits for {_looked_at(step)}")
        whole = self.round_of(step)
        if whole.most is None:
            return Figure(0, None, reason=whole.reason)
        if whole.most <= step.every.least:
            return self._since_zero(self.stretch(0, self._round(without=step)), step)
        if step.rearm == "grid":
            return self._behind(step)
        return self._since_zero(Figure(0, whole.most, whole.parts), step)

    def _behind(self, step: Step) -> Figure:
        """How late a step can be that makes up for every turn of its grid, where a pass can last longer than that.

        Take a run that is late, and back from it the first of a row of runs each of which was due already at the look
        before its own, n in all with that first. It was not due at the look before, so its release lies behind that
        look, and the last release n - 1 periods later. From that look, at which the step may have run, to the last
        start are n rounds, in which each step runs once a round at most, or as often as its own timer lets it. So the
        last run is late by less than

            the longest time for n rounds, less n - 1 periods,

        and the row goes on only if that reaches a whole period. Where time begins, nothing was looked at before: the
        windows are closed, as for what comes at time zero at once.
        """
        assert step.every is not None
        endless = Figure(
            0, None, reason="a pass can last longer than its period: it may fall further and further behind"
        )
        period = Fraction(int(step.every.least))
        own, paces = self._each_round(step)
        if self._fills(period, own, paces):  # no row of them ends
            return endless
        worst = figure = NOTHING
        for rounds in range(1, MOST_ROUNDS + 1):
            figure = self._rounds(own, paces, rounds, figure)
            if figure.most is None:
                return figure
            turns = [Part("its turns meanwhile", step.thing, rounds - 1, -int(period))] if rounds > 1 else []
            late = summed(0, [*figure.parts, *turns])
            assert late.most is not None
            assert worst.most is not None
            worst = late if late.most > worst.most else worst
            if late.most <= period:
                return worst
        return endless

    def _each_round(self, step: Step) -> tuple[dict[Step, list[Part]], dict[Step, Staircase | None]]:
        """What each step itself has to do, and how often its timer lets it begin, in rounds in which ``step`` runs."""
        own = {each: parts for each in self._passed if not isinstance(parts := self._own(each), str)}
        return own, {each: None if each is step else self._pace(each) for each in own}

    def _rounds(
        self,
        own: Mapping[Step, list[Part]],
        paces: Mapping[Step, Staircase | None],
        rounds: int,
        fewer: Figure,
        then: Sequence[Part] = (),
    ) -> Figure:
        """The longest time for so many rounds, in each of which a step has its ``own`` to do; ``fewer``: one less.

        ``then``: what the loop does after them.
        """
        figure, counts = fewer, dict[Step, int]()
        while True:
            length = figure.most or 0
            now = {
                each: rounds if pace is None else min(rounds, pace.most_within(length)) for each, pace in paces.items()
            }
            if now == counts or figure.most is None:
                return figure
            counts = now
            parts = [Part("overhead of a pass", "loop", rounds, self.loop.overhead.most)]
            for each, some in own.items():
                parts += [replace(part, count=part.count * counts[each]) for part in some if counts[each]]
            parts += then
            figure = self.stretch(0, parts, closed=True, begun=length)

    def _fills(self, period: Fraction, own: Mapping[Step, list[Part]], paces: Mapping[Step, Staircase | None]) -> bool:
        """Whether rounds of many last more than ``period`` each, however many, if all comes as densely as it may.

        What a round that lasts t asks for is concave in t and not negative at 0: more than t at the period means more
        than t everywhere below it.
        """
        each_round, paced = self.loop.overhead.most, Fraction(0)
        for each, parts in own.items():
            takes, pace = total_of(parts), paces[each]
            if pace is None:
                each_round += takes
            else:
                paced += takes * min(Fraction(1), period * pace.rate())
        share = self.load.share(len(self.load.lines) - 1) if self.load.lines else Fraction(0)
        return each_round >= period or share is None or each_round + paced + share * period > period

    def _pace(self, step: Step) -> Staircase | None:
        """How often the timer of a step lets it begin; None: in every round."""
        if step.every is None:
            return None
        period = int(step.every.least)
        if step.rearm == "now":
            return Staircase(Fraction(period))
        if step.rearm == "skip":  # in each turn of the grid once
            return Staircase(Fraction(period), period)
        whole = self.round_of(step)
        if whole.most is None or whole.most > period or step.polls:
            return None
        return Staircase(Fraction(period), whole.most)  # late by less than a round

    def _since_zero(self, late: Figure, step: Step) -> Figure:
        """``late``, or how late the first run can be, if that is more: what comes at time zero delays its look.

        Of a loop that is started up that is the end of it, as which timers are set, and at which nothing waits either.
        """
        assert step.every is not None
        first = self.stretch(0, self._round(without=step), closed=True)
        if late.most is None or first.most is None:
            return first if first.most is None else late
        due = int(step.every.least)
        if first.most - due <= late.most:
            return late
        return summed(0, [*first.parts, Part("first due", step.thing, 1, -due)])

    def _starting(self) -> list[Part]:
        """The start-up."""
        startup = self.system.startup
        return [] if startup is None else [Part("start-up", startup.thing, 1, startup.cost.most)]

    def _first_round(self, step: Step, known: str | None = None) -> list[Part] | str:
        """What the loop does from time zero to the first look of a step."""
        parts = self._round(without=step, known=known)
        return parts if isinstance(parts, str) else [*self._starting(), *parts]

    def gap(self, step: Step, *, passing: bool = False) -> int | None:
        """The longest time in ps from any instant to the next start of a step that polls nothing.

        Time zero is one, unless ``passing``: the start-up is over.
        """
        if step.once:
            return None
        waits = self.system.startup is not None and not passing
        if step.every is None:
            ways = [self._round(), *([self._first_round(step)] if waits else [])]
            return max((self.stretch(0, way, closed=True) for way in ways), key=_rank).most
        late, began = self.late(step).most, self.stretch(0, self._starting(), closed=True).most if waits else 0
        return None if late is None or began is None else began - int(-step.every.most // 1) + late

    def interval(self, step: Step, late: Figure | None) -> Figure:
        """From start to next start; without a bound for a polled step (see :meth:`reaction`)."""
        least = least_round(self.system, step)
        if step.once:
            return Figure(least, None, reason="it runs once")
        if step.polls:
            return Figure(self._timed_least(step, least, None), None, reason=f"it waits for {_looked_at(step)}")
        if step.every is None:
            return self.round_of(step)
        assert late is not None
        least = self._timed_least(step, least, late.most)
        if late.most is None:
            return Figure(least, None, reason=late.reason)
        period = -int(-step.every.most // 1)
        return Figure(least, period + late.most, (Part("period", step.thing, 1, period), *late.parts))

    def _timed_least(self, step: Step, least: int, late: int | None) -> int:
        if step.every is None:
            return least
        if step.rearm == "now":
            return max(least, int(step.every.least))
        if step.rearm == "grid" and late is not None:
            return max(least, int(step.every.least) - late)
        return least

    def reaction(self, step: Step, flag: str, set_after: int, *, again: bool = True, passing: bool = False) -> Figure:
        """From the set of a flag to the step that takes it; it is set at least ``set_after`` ps into the window.

        ``again``: the step may be at work for an earlier set meanwhile; ``passing``: the start-up is over.
        """
        setters = self.system.graph.sets_of(flag)
        if flag in step.polls and step.every is None and all(event.kind == "step" for event in setters):
            ways = [self.stretch(0, self._between(self.system.step(each.name), step, flag)) for each in setters]
            return max(ways, key=_rank)
        timer = []
        if step.every is not None:
            timer = [Part("until its timer is due", step.thing, 1, -int(-step.every.most // 1))]
        rounds = [self._round(known=flag, without=None if again else step)]
        if self.may_come_first(flag) and not passing:
            rounds.append(self._first_round(step, known=flag))
        figure = max(
            (self.stretch(0, parts if isinstance(parts, str) else [*timer, *parts], closed=True) for parts in rounds),
            key=_rank,
        )
        return figure if figure.most is None else self._since_set(figure, flag, set_after)

    def may_come_first(self, flag: str) -> bool:
        """Whether a flag can be set, or something be put into a "buffer.NAME", before the loop's first pass."""
        return not self._before_loop.isdisjoint(self.system.graph.sets_of(flag))

    def answer(self, errand: Errand, set_after: int) -> Figure:
        """From the set of a flag to the end of the wait for it: what lies before the wait, where it has not begun."""
        if errand.begins is not errand.waits:
            return self.reaction(errand.waits, errand.waits_for, set_after, again=False)
        figure = self.stretch(0, self._own(errand.waits, acts=errand.ahead), closed=True)
        return figure if figure.most is None else self._since_set(figure, errand.waits_for, set_after)

    def _since_set(self, figure: Figure, flag: str, set_after: int) -> Figure:
        assert figure.most is not None
        cut = min(set_after, figure.most)
        return summed(0, [*figure.parts, Part("before the flag was set", f"flag.{flag}", 1, -cut)])

    def stretch(
        self, least: int, own: list[Part] | str, *, closed: bool = False, within: Step | None = None, begun: int = 0
    ) -> Figure:
        """The figure of a window in which the loop has ``own`` to do (or cannot be bounded, for a reason).

        ``closed``: it begins with an arrival, so that what comes at both its ends is in it. ``within``: it lies between
        the start and the end of that step. ``begun``: a length that it has in any case.
        """
        if isinstance(own, str):
            return Figure(least, None, reason=own)
        base = total_of(own)
        clock = [part for part in own if part.by_clock and part.total]
        pieces = _Pieces(total_of(clock), 1 + sum(part.count for part in clock))
        try:
            over = self.load.parts("interrupted by", self._interrupted(base, pieces, closed, within, begun))
        except NoBound as error:
            return Figure(least, None, reason=str(error))
        return summed(least, [*own, *over])

    def _interrupted(self, base: int, pieces: _Pieces, closed: bool, within: Step | None, begun: int) -> Counts:
        """The most activations of each row in a window in which the loop has ``base`` ps to do; worked out once.

        While a step has the only token of its ring, none of the routines in that ring comes.

        Raises:
            NoBound: the window has no end.
        """
        holder = within if within is not None and self.events.rings.passes_end(within.thing) else None
        key = base, pieces, closed, holder
        if key not in self._found:
            self.load.refuse_overload(len(self.load.lines) - 1, delayed=True, what="the routines")
            rows, end = self._all if closed else self._own_raised, len(self.load.rows)
            absent = None
            if holder is not None:
                ring = self.events.rings.turns[holder.thing]
                absent = np.array([line is not None and line.isr.thing in ring for line, _ in self.load.rows])
            length = self.load.close(base, end, rows if rows.any() else None, begun, absent)
            counts = self.load.arrivals(length, end, rows, absent)
            if pieces.clock and not self.events.rings.plain:
                counts = self.load.in_pieces(base - pieces.clock, pieces.count, counts)
            self._found[key] = counts
        return self._found[key]

    def _round(self, without: Step | None = None, known: str | None = None) -> list[Part] | str:
        """What the loop itself does in one round; ``known``: the flag that is set all the while."""
        return self._in_turn([step for step in self._passed if step is not without], known, passes=1)

    def _between(self, ended: Step, looks: Step, known: str) -> list[Part] | str:
        """What the loop itself does from the end of a step, which sets a flag, to the next look of another."""
        if ended.once:
            return self._round(without=looks, known=known)
        steps = self._passed
        after, before = steps.index(ended) + 1, steps.index(looks)
        if after <= before:
            return self._in_turn(steps[after:before], known, passes=0)
        return self._in_turn([*steps[after:], *steps[:before]], known, passes=1)

    def _in_turn(self, steps: Sequence[Step], known: str | None, *, passes: int) -> list[Part] | str:
        parts = [Part("overhead of a pass", "loop", passes, self.loop.overhead.most)]
        for step in steps:
            own = self._own(step, known)
            if isinstance(own, str):
                return own
            parts += own
        return parts

    def _own(self, step: Step, known: str | None = None, acts: Sequence[Act] | None = None) -> list[Part] | str:
        """What a step does itself, or of it these acts; or why that has no end."""
        parts: list[Part] = []
        for act in step.acts if acts is None else acts:
            longest: list[Part] | str = []
            if isinstance(act, Wait):
                longest = self._longest_wait(step, act, known)
            elif isinstance(act, Halt):
                longest = self._longest_halt(step, act, known)
            elif isinstance(act, Drain) and act.endless:
                longest = act.why_endless(step.thing)
            if isinstance(longest, str):
                return longest
            parts += [*longest, Part(act.part, step.thing, 1, act.takes.most, by_clock=act.by_clock)]
        return parts

    def away(self) -> int | None:
        """The longest time in ps for which interrupts keep the loop from a look; None: without end."""
        return self.stretch(0, [], closed=True).most

    def dry(self, lasts: int, sends: int) -> int:
        """How long a line stands still in all while a step puts what takes ``sends`` ps to be sent.

        It has nothing to send where interrupts keep the loop from looking for room for longer than a full buffer
        ``lasts``. The look before left that full, so of each such stretch s the line stands still for s - lasts at
        most, which is no more than the share 1 - lasts / L of it, L being the longest.
        """
        longest, whole = self.away(), self.stretch(0, [Part("", "", 1, sends)], closed=True)
        if longest is None or whole.most is None or longest <= lasts:
            return 0  # without an end nothing of the loop has one
        length, end = whole.most, len(self.load.rows)
        while True:
            taken = self.load.work(length, end)
            sooner = sends - -taken * (longest - lasts) // longest
            if sooner >= length:
                return length - sends
            length = sooner

    def _longest_halt(self, step: Step, halt: Halt, known: str | None) -> list[Part] | str:
        if known is not None and known in halt.unless and not self.system.graph.is_set_by_hardware(known):
            return []
        waker = min([*self._wakers, *self._ring_wakers(step, halt)], key=lambda each: each.within, default=None)
        if waker is None:
            return f"{step.thing} sleeps, and no interrupt is sure to wake it: all their sources are sporadic"
        return [Part(f"asleep until {waker.who}", step.thing, 1, waker.within, by_clock=True)]

    def _ring_wakers(self, step: Step, halt: Halt) -> Iterator[_Waker]:
        """The routines of rings whose only token is in hardware when this halt begins, and how long it can be there.

        No routine runs or waits then; the step itself does not hold the token, and a flag that could holds the halt
        off. A unit that the token leaves at its start may still work when it comes back, and drop it.
        """
        rings = self.events.rings
        if rings.plain:
            return
        for ring in {id(ring): ring for ring in rings.turns.values()}.values():
            isrs = [body for body in ring if body.kind == "isr"]
            holds = [self.system.step(body.name) for body in ring if body.kind == "step"]
            units = [self.system.unit(body.name) for body in ring if body.kind == "unit"]
            firm = not any(ring[unit.thing] == "start" and unit.busy == "drop" for unit in units)
            firm = firm and not any(self.system.graph.is_set_by_hardware(flag) for each in holds for flag in each.polls)
            if isrs and firm and not any(each is step or not set(each.polls) <= set(halt.unless) for each in holds):
                yield _Waker(isrs[0], sum(self.events.wait(unit) + unit.takes.most for unit in units))

    def _longest_wait(self, step: Step, wait: Wait, known: str | None) -> list[Part] | str:
        """The longest wait in ps, interrupts apart."""
        if known is not None and wait.flag == known:
            return []
        errand = self.events.rings.errands.get(wait.flag or "")
        if errand is not None:
            if errand.waits_for not in self._errands:
                self._errands[errand.waits_for] = self._errand(errand)
            return self._errands[errand.waits_for]
        limits = [] if wait.at_most is None else [wait.at_most.most]
        if wait.next:
            unit = self.system.unit(wait.on.name)
            limits += [self._gaps.within[unit.end]] if unit.end in self._gaps.within else []
            limits += [unit.takes.most] if self._surely_ends(step, wait) else []
        elif wait.on.kind == "unit":
            unit = self.system.unit(wait.on.name)
            alone = all(event.kind == "step" for event in self.system.graph.causes[unit.thing])
            if alone and unit.counts is None and unit.surely_ends:
                limits.append(self.events.wait(unit) + unit.takes.most)
        if limits:
            return [Part(wait.part, step.thing, 1, min(limits), by_clock=True)]
        silent = law_of(self.system, wait.on).silent if wait.on.kind == "unit" else None
        if silent is not None:
            why = silent
        elif wait.next:
            why = f"nothing makes sure that {wait.on} ends once more"
        elif wait.on.kind == "unit":
            why = f"{wait.on} is started by others too, and may be busy again whenever the loop looks"
        else:
            why = f'nothing limits how long the flag "{wait.on.name}" stays away'
        return f"{step.thing} waits without at_most: {why}"

    def _surely_ends(self, step: Step, wait: Wait) -> bool:
        """Whether a unit is at work, or has ended unused, as a step waits for its next end.

        For its first such wait the step's own start has begun it, or found it at work; or nobody else puts into the
        buffer that it drains, and the step has put as many into it before as it waits for, this one included.
        """
        unit = self.system.unit(wait.on.name)
        before = step.before(wait)
        waits = 1 + sum(isinstance(act, Wait) and act.next and act.on == wait.on for act in before)
        if unit.counts is not None or not unit.surely_ends:
            return False
        if unit.drains is None:
            causes = self.system.graph.causes[unit.thing]
            return waits == 1 and step.start in causes and (unit.busy != "restart" or causes == (step.start,))
        putting = self.system.graph.putters.get(unit.drains, ())
        alone = not unit.asked_at and not self.system.buffer(unit.drains).fed_by
        alone = alone and {each.name for each, _ in putting} == {step.name}
        put = sum(act.items.least for act in before if isinstance(act, Put) and act.buffer == unit.drains)
        return alone and put >= waits

    def _errand(self, errand: Errand) -> list[Part] | str:
        """The wait for what the loop has begun before, from there on: the unit, and its routine."""
        unit = errand.unit
        works = Part("waits for it to end", unit.thing, 1, unit.takes.most, by_clock=True)
        if errand.isr is None:
            return [works]
        rank = self.system.isrs.index(errand.isr)
        response = isr_bounds(self.system, self.load, rank, alone=True).response
        if response.most is None:
            return f"{errand.waits.thing} waits for {errand.isr.thing}, whose response has no bound: {response.reason}"
        return [works, Part("waits for its response", errand.isr.thing, 1, response.most, by_clock=True)]

    def _sure_wakers(self) -> list[_Waker]:
        within = self._gaps.within
        return [_Waker(isr.thing, within[event]) for isr in self.system.isrs for event in isr.on if event in within]


def _before_loop(system: System) -> frozenset[Event]:
    """The events that can come before the loop's first pass: none that a step brings about, at whatever remove."""
    found = {source.event for source in system.sources}
    found |= {event for unit in system.units if unit.primed for event in (unit.start, unit.end)}
    if system.startup is not None:
        found |= {system.startup.start, system.startup.end}
    bodies = [(body.thing, {body.start, body.end}) for body in (*system.units, *system.isrs)]
    bodies += [(buffer.thing, {buffer.event, buffer.lost}) for buffer in system.buffers]
    grown = True
    while grown:
        grown = False
        for thing, events in bodies:
            if found.intersection(system.graph.causes[thing]) and not found.issuperset(events):
                found.update(events)
                grown = True
    found |= {event for isr in system.isrs if isr.start in found for event in isr.inner}
    return frozenset(found)


def set_after_look(system: System, isrs: dict[str, IsrBounds], setters: Sequence[Event]) -> int:
    """How long after a look of the loop that finds nothing one of these comes at least, in ps.

    Of hardware and of a step that may be at once; a routine begins after it, and what counts its ends ends with it.
    """

    def after(event: Event) -> int:
        while event.kind == "unit" and event.moment == "end" and (counts := system.unit(event.name).counts) is not None:
            event = counts.of
        return isrs[event.name].until(event.moment).least if event.kind == "isr" else 0

    return min((after(event) for event in setters), default=0)


def _looked_at(step: Step) -> str:
    if step.asked_by is not None:
        return f"buffer.{step.asked_by}"
    named = (" and " if step.polls_all else " or ").join(f'"{flag}"' for flag in step.polls)
    return f"the flag {named}" if len(step.polls) == 1 else f"the flags {named}"


def step_bounds(windows: LoopWindows, step: Step) -> StepBounds:
    """All bounds of a step that do not depend on flags."""
    late = windows.late(step) if step.every is not None else None
    drifts = step.every is not None and step.rearm == "now"
    gap = None if step.polls else windows.gap(step)
    again = None if step.polls or windows.system.startup is None else windows.gap(step, passing=True)
    return StepBounds(step.name, windows.interval(step, late), windows.duration(step), late, drifts, gap, again)
