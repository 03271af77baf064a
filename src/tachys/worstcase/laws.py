"""The law of each kind of node on paper. ``law_of`` gives that of any thing of a model.

A new kind of node is a law here, and nothing else on paper.
"""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from math import ceil
from operator import attrgetter
from typing import ClassVar

from msgspec.structs import replace

from tachys.figures import Figure, Part, summed
from tachys.model.events import Event, Thing
from tachys.model.graph import Link
from tachys.model.nodes import Buffer, Counts, Isr, Source, Step, Unit
from tachys.model.quantities import LONGEST_PS, time_in_words
from tachys.model.system import System
from tachys.worstcase.arrivals import (
    Curve,
    NoBound,
    Staircase,
    Unbounded,
    delayed,
    moved,
    source_curve,
    sporadic,
    sum_of,
    thinned,
    tightest,
)
from tachys.worstcase.gaps import Gaps, source_gap
from tachys.worstcase.law import Curves, Finished, Law, Rates
from tachys.worstcase.queueing import MOST_STARTS
from tachys.worstcase.result import UnitBounds
from tachys.worstcase.rounds import least_distance, least_round, own_least


class SourceLaw(Law, frozen=True):
    """Events from outside."""

    node: Source

    def curve(self, curves: Curves, event: Event) -> Curve:
        """As written, and no closer than it keeps apart from others."""
        return kept_apart(self.system, (self.node.event,), source_curve(self.node))

    def hardware(self, gaps: Gaps, curves: Curves) -> None:
        """A periodic one is sure to come."""
        gaps.sure(self.node.event, source_gap(self.node))

    def gaps(self, gaps: Gaps, found: Finished) -> None:
        """As :meth:`hardware`."""
        self.hardware(gaps, found.events)

    def rate(self, found: Finished, rates: Rates) -> Fraction:
        """That of its longest period."""
        return Fraction(0) if self.node.firm_period is None else 1 / self.node.firm_period

    def loses(self, found: Finished) -> str | None:
        """At whatever it starts."""
        begun = self.system.graph.begun_by.get(self.node.event, ())
        takers = sorted((body.thing for body in begun), key=lambda body: body.kind)
        told = [f"{taker}: {why}" for taker in takers if (why := found.loses(taker)) is not None]
        return "; ".join(told) or None

    def delay(self, found: Finished, event: Event) -> Figure:
        """Its jitter."""
        if self.node.steady is None:
            why = f"it {self.node.stands_still}" if self.node.period else "its source is sporadic"
            return Figure(0, None, reason=f"{why}: there is nothing it could be late against")
        return summed(0, [Part("jitter", event, 1, self.node.jitter)])

    def distance(self, found: Finished, event: Event, least: int) -> Figure:
        """A period, with jitter."""
        if self.node.firm_period is None:
            why = f"it {self.node.stands_still}" if self.node.period else "its source is sporadic"
            return Figure(0, None, reason=why)
        period = ceil(self.node.firm_period)
        return summed(0, [Part("period", event, 1, period), Part("jitter", event, 1, self.node.jitter)])


class UnitLaw(Law, frozen=True):
    """Hardware that works on its own."""

    node: Unit
    losing: ClassVar[str] = "a start"

    @property
    def begins_alone(self) -> bool:
        """Where it is primed."""
        return self.node.primed

    @property
    def breaks_off(self) -> bool:
        """Where it can be restarted."""
        return self.node.busy == "restart"

    @property
    def in_rings(self) -> bool:
        """Not where an operation may never end: then the token is gone."""
        return self.node.surely_ends

    @property
    def silent(self) -> str | None:
        """Where only some of its operations end, or nobody knows when."""
        if self.node.stands_still:
            return f"{self.node.thing} {self.node.stands_still}"
        if not self.node.may_stay_silent:
            return None
        return f"{self.node.thing} may not answer: only {float(self.node.answers * 100):g} % of its operations end"

    @property
    def _begins_anew(self) -> bool:
        """Whether a start may come while it is at work and begin all the same."""
        return self.node.busy == "restart" or self.node.may_stay_silent

    @property
    def _apart(self) -> int:
        """How far apart its operations end at least."""
        return self.node.takes.least

    def curve(self, curves: Curves, event: Event) -> Curve:
        """Starts as their causes come, where none is dropped; ends as far apart as it takes."""
        unit, takes, apart = self.node, self.node.takes, self._apart
        if curves.tangled(unit.thing):
            if event.moment == "end" or not self._begins_anew:
                return sporadic(apart)
            return Unbounded(f"{unit.thing} restarts itself round a chain")
        starts, wait = curves.starts(unit), curves.wait(unit)
        if event.moment == "end" and unit.stands_still:  # of two ends the later operation began behind the first
            return tightest([moved(starts, extra=1), sporadic(apart)])
        if event.moment == "end":
            return delayed(starts, wait + takes.most - takes.least, apart)
        return starts if self._begins_anew else delayed(starts, wait, apart)

    def bounds(self, curves: Curves) -> UnitBounds:
        """Start to end, and whether a start may be lost.

        By ``drop`` and ``restart`` it is if another can come no more than the longest operation after it; by a
        ``queue`` if more than ``depth`` can wait. What comes at the very instant of an end may come before it.
        """
        unit, who = self.node, self.node.thing
        wait = curves.wait(unit)
        time = summed(
            unit.takes.least,
            [Part("starts that wait before it", who, 1, wait), Part("operation", who, 1, unit.takes.most)],
        )
        if unit.stands_still:
            time = self.operation
            return UnitBounds(unit.name, time, True, f"{time.reason}, and so does what it works on", None, None)
        if curves.sole_token(unit):
            return UnitBounds(unit.name, time, False, "", 0, int(wait > 0))  # the only token of its ring starts it
        starts = curves.starts(unit)
        try:
            depth = curves.backlog(unit).depth
            in_row = _lost_in_row(unit, starts, depth)
        except NoBound as error:
            return UnitBounds(unit.name, time, True, str(error), None, None)
        lost = in_row is None or in_row > 0
        reason = ""
        if lost and unit.busy == "queue":
            waits = "more and more" if depth is None else str(depth)
            reason = f"{waits} starts can wait at once, {unit.depth} find room"
        elif lost:
            again, works = time_in_words(starts.least_span(2)), time_in_words(unit.takes.most)
            reason = f"a start can come {again} after another, and it works for {works}"
        return UnitBounds(unit.name, time, lost, reason, in_row, depth)

    def least_way(self, moment: str) -> int:
        """It begins at once."""
        return self.node.takes.least if moment == "end" else 0

    @property
    def least_again(self) -> int:
        """An operation, unless one can be broken off."""
        return 0 if self._begins_anew else self._apart

    def hardware(self, gaps: Gaps, curves: Curves) -> None:
        """As if any start could be lost."""
        self._gaps(gaps, curves.wait(self.node), lost=True)

    def gaps(self, gaps: Gaps, found: Finished) -> None:
        """As :meth:`hardware`, now that it is known whether a start can be lost."""
        self._gaps(gaps, found.events.wait(self.node), lost=found.units[self.node.name].lost)

    def _gaps(self, gaps: Gaps, wait: int, *, lost: bool) -> None:
        """It ends within its time after whatever start comes, lost or not; one that is restarted may never end.

        A start that is dropped finds an operation at work: the next one after its end is not dropped.
        """
        unit, longest = self.node, wait + self.node.takes.most
        if lost and unit.busy == "restart":
            gaps.after(unit.start, unit.on, 0)
            return
        if unit.stands_still:
            return
        if not unit.may_stay_silent:
            gaps.after(unit.end, unit.on, longest)
        again = 2 if lost and unit.busy == "drop" else 1
        gaps.follows(unit.start, unit.on, lambda gap: again * gap + (longest if lost or unit.depth else 0))

    def rate(self, found: Finished, rates: Rates) -> Fraction:
        """That of its causes, where none is lost."""
        if not self.node.surely_ends or found.units[self.node.name].lost:
            return Fraction(0)
        return _rate_of_causes(self.system, self.node.on, rates)

    def loses(self, found: Finished) -> str | None:
        """A start that finds it busy."""
        bounds = found.units[self.node.name]
        return bounds.lost_reason if bounds.lost else None

    def passes(self, found: Finished, moment: str) -> Figure:
        """Its operation, or the wait for the one before."""
        unit, who = self.node, self.node.thing
        if unit.stands_still:
            return self.operation
        if moment == "end":
            return summed(unit.takes.least, [Part("operation", who, 1, unit.takes.most)])
        if unit.busy == "drop" and found.units[unit.name].lost:
            return Figure(0, None, reason=f"a start of {who} may be lost")
        return summed(0, [Part("the operation before it", who, 1, unit.takes.most if unit.busy == "queue" else 0)])

    def share(self, event: Event) -> Fraction:
        """All start; of those that end only some, where it may stay silent."""
        return self.node.answers if event.moment == "end" else Fraction(1)

    def distance(self, found: Finished, event: Event, least: int) -> Figure:
        """None is known where it may stay silent, or stand still."""
        if self.silent is not None and event.moment == "end":
            return Figure(0, None, reason=self.silent)
        return super().distance(found, event, least)

    def delay(self, found: Finished, event: Event) -> Figure:
        """The starts that wait before it, and for its end the operation."""
        if event.moment == "end":
            return found.units[self.node.name].time
        return summed(0, [Part("starts that wait before it", self.node.thing, 1, found.events.wait(self.node))])

    @property
    def operation(self) -> Figure:
        """From the start of an operation to its end."""
        takes = self.node.takes
        if self.node.stands_still:
            return Figure(takes.least, None, reason=self.silent or "")
        return Figure(takes.least, takes.most, (Part("operation", self.node.thing, 1, takes.most),))

    def span(self, found: Finished, event: Event) -> Figure:
        """An operation."""
        return self.operation


class CountLaw(UnitLaw, frozen=True):
    """Hardware, or a timer in software, that counts events in place of time."""

    losing: ClassVar[str] = ""

    @property
    def counts(self) -> Counts:
        """What it counts."""
        assert self.node.counts is not None
        return self.node.counts

    @property
    def in_rings(self) -> bool:
        """What counts lets no token through by itself."""
        return False

    @property
    def least_again(self) -> int:
        """Several counted events may come at once."""
        return 0

    def curve(self, curves: Curves, event: Event) -> Curve:
        """Each end takes n of what it counts, and if it does not repeat, a start of its own."""
        unit, counts = self.node, self.counts
        if curves.tangled(unit.thing):  # each end has taken n of what it counts, whatever starts it
            if event.moment == "end" and not curves.tangled(counts.of.thing):
                return thinned(curves.curve(counts.of), counts.n)
            return Unbounded(f"{unit.thing} counts what follows from it")
        ends, starts = thinned(curves.curve(counts.of), counts.n), curves.starts(unit)
        if counts.repeats:
            return ends if event.moment == "end" else sum_of([starts, ends])
        return tightest([ends, moved(starts, extra=1)]) if event.moment == "end" else starts

    def bounds(self, curves: Curves) -> UnitBounds:
        """Before it is known how long what it counts may stay away."""
        figure = Figure(0, None, reason=f"nothing is known yet of {self.counts.of}")
        return UnitBounds(self.node.name, figure, True, "it may be at work", None, 0)

    def finished(self, found: Finished) -> UnitBounds:
        """How long so many events take, the first at once, or after the longest time to the next.

        Whether a start may find it at work.
        """
        unit, counts, curve = self.node, self.counts, found.events.curve(self.counts.of)
        least, gap, apart = curve.least_span(counts.n), found.gap(counts.of), found.distances(counts.of)[1]
        first = Figure(0, None, reason=f"{counts.of} need not come")
        if gap is not None:
            first = Figure(0, gap, (Part("until the first that it counts", counts.of, 1, gap),))
        if gap is not None and apart.most is not None and apart.most < gap:
            more = [replace(part, count=(counts.n - 1) * part.count) for part in apart.parts] if counts.n > 1 else []
            time = summed(least, [*first.parts, *more])
        elif gap is not None:
            time = summed(least, [replace(first.parts[0], count=counts.n)])
        else:
            time = replace(first, least=least)
        starts = found.events.starts(unit)
        if not unit.on or (not counts.repeats and time.most is not None and starts.least_span(2) > time.most):
            return UnitBounds(unit.name, time, False, "", 0, 0)
        return UnitBounds(unit.name, time, True, "a start can come while it is at work", None, 0)

    def _gaps(self, gaps: Gaps, wait: int, *, lost: bool) -> None:
        """One that goes on by itself ends with each so many-th of what it counts."""
        counts = self.counts
        if counts.repeats and self.node.primed and not counts.cancelled_by:
            gaps.follows(self.node.end, (counts.of,), lambda gap: counts.n * gap)
            gaps.after(self.node.start, (self.node.end,), 0)

    def rate(self, found: Finished, rates: Rates) -> Fraction:
        """One in so many of what it counts, where it goes on by itself."""
        counts = self.counts
        sure = counts.repeats and self.node.primed and not counts.cancelled_by
        return _rate_of_causes(self.system, (counts.of,), rates) / counts.n if sure else Fraction(0)

    def passes(self, found: Finished, moment: str) -> Figure:
        """It is in no ring."""
        return Law.passes(self, found, moment)

    def delay(self, found: Finished, event: Event) -> Figure:
        """As long as it counts, where nothing cancels it."""
        if event.moment == "start":
            return Figure(0, 0)
        if self.counts.cancelled_by:
            return Figure(0, None, reason=f"{self.node.thing} may be cancelled")
        return found.units[self.node.name].time

    def distance(self, found: Finished, event: Event, least: int) -> Figure:
        """Of one that goes on by itself that of so many of what it counts."""
        counts = self.counts
        if not (counts.repeats and self.node.primed) or counts.cancelled_by or found.events.tangled(self.node.thing):
            return super().distance(found, event, least)
        one = found.distances(counts.of)[1]
        if one.most is None:
            return Figure(least, None, reason=one.reason)
        figure = summed(least, [replace(part, count=counts.n * part.count) for part in one.parts])
        gap = found.gap(self.node.end)  # from time zero to the first end
        assert figure.most is not None
        if event.moment == "start" and gap is not None and gap > figure.most:
            return Figure(least, gap, (Part("longest time to the next", self.node.end, 1, gap),))
        return figure

    def span(self, found: Finished, event: Event) -> Figure:
        """As long as it counts."""
        return self.delay(found, self.node.end)


class DrainLaw(UnitLaw, frozen=True):
    """Hardware that takes one out of a buffer whenever it is at rest, or as it is asked."""

    losing: ClassVar[str] = ""
    keeps_apart: ClassVar[bool] = True

    @property
    def in_rings(self) -> bool:
        """A buffer holds many tokens."""
        return False

    @property
    def _apart(self) -> int:
        """An operation, and what is known of who asks."""
        return max(self.node.takes.least, self.system.buffer(self.node.drains or "").apart or 0)

    def bounds(self, curves: Curves) -> UnitBounds:
        """It takes one when it is at rest, and loses none; asked for one it may find none, before more is known."""
        if not self.node.asked_at:
            return UnitBounds(self.node.name, self.operation, False, "", 0, 0)
        why = f"it may be asked while nothing is in buffer.{self.node.drains}"
        return UnitBounds(self.node.name, self.operation, True, why, None, 0)

    def _gaps(self, gaps: Gaps, wait: int, *, lost: bool) -> None:
        """After each put it works off what is in, be that put lost or not."""
        unit = self.node
        if unit.asked_at:
            return
        feeds = tuple(feed.event for feed in self.system.buffer(unit.drains or "").fed_by)
        gaps.after(unit.start, feeds, wait)
        gaps.after(unit.end, feeds, wait + unit.takes.most)

    def rate(self, found: Finished, rates: Rates) -> Fraction:
        """None is sure."""
        return Fraction(0)

    def passes(self, found: Finished, moment: str) -> Figure:
        """It is in no ring."""
        return Law.passes(self, found, moment)

    def delay(self, found: Finished, event: Event) -> Figure:
        """The items before it, and for its end the operation."""
        if event.moment == "start":
            return found.buffers[self.node.drains or ""].reaction
        return self.operation


class BufferLaw(Law, frozen=True):
    """Requests of buffers."""

    node: Buffer

    @property
    def in_rings(self) -> bool:
        """A buffer holds many tokens."""
        return False

    def curve(self, curves: Curves, event: Event) -> Curve:
        """As often as what has come is worth a request; losses at most as it is put, where there are any."""
        if not self.node.overruns and event == self.node.lost:
            return sum_of([])
        if curves.tangled(self.node.thing):
            return Unbounded(f"{self.node.thing} feeds itself round a chain")
        return curves.requests(self.node, idle=False) if event.requests else curves.sets(event.thing) or sum_of([])

    def gaps(self, gaps: Gaps, found: Finished) -> None:
        """It asks once the run that may be asked for has ended, and as many have come then as make it ask.

        Not where that run also begins for something else, and may take away what would have made it ask.
        """
        buffer, drain = self.node, self.system.graph.drain[self.node.name]
        many = buffer.asks_from
        if many is None or not isinstance(drain, Isr) or drain.on != (buffer.event,) or buffer.room_in is not None:
            return
        ended = found.isrs[drain.name].response.most
        if ended is None or (buffer.threshold is None and buffer.overruns and not buffer.overwrites):
            return  # what is lost is no put that it asks at
        feeds = self.system.graph.surely_set_by(buffer.thing)
        gaps.follows(buffer.event, feeds, lambda gap: ended + many * gap)

    def loses(self, found: Finished) -> str | None:
        """An item that finds it full."""
        bounds = found.buffers[self.node.name]
        return bounds.reason if bounds.lost else None

    def delay(self, found: Finished, event: Event) -> Figure:
        """A request follows from several items, and a loss from how many are in."""
        what = "a request" if event.requests else "a loss"
        return Figure(0, None, reason=f"{what} of {self.node.thing} follows from no single event")

    def span(self, found: Finished, event: Event) -> Figure:
        """How long an item is in it."""
        return found.buffers[self.node.name].time


class IsrLaw(Law, frozen=True):
    """Interrupt routines."""

    node: Isr
    losing: ClassVar[str] = "an activation"
    keeps_apart: ClassVar[bool] = True

    @property
    def in_rings(self) -> bool:
        """One that clears its mark may lose the only token."""
        return not self.node.clears

    def curve(self, curves: Curves, event: Event) -> Curve:
        """As its causes come, after their way, and as far apart as it costs."""
        isr, distance = self.node, self.apart(event)
        if event.moment == "nth":
            assert isr.nth is not None
            return thinned(self.curve(curves, isr.end), isr.nth.n)
        if curves.tangled(isr.thing):
            return sporadic(distance, f"{isr.thing} feeds itself round a chain that takes no time")
        given = kept_apart(self.system, isr.on, sum_of([curves.curve(cause) for cause in isr.on]))
        # beside those that wait, one may have been accepted and not yet begun, or begun and not yet ended
        return curves.moved(event, given, isr.pending * len(isr.on) + 1, distance)

    def least_way(self, moment: str) -> int:
        """An entry, and for its end its cost, for a moment what is before that."""
        within = {"end": self.node.shortest} | {name: at.least for name, at in self.node.moments}
        return self.system.core.least_latency + within.get(moment, 0)

    @property
    def least_again(self) -> int:
        """Its cost, and what lies between two runs."""
        return least_distance(self.system.core, self.node)

    def apart(self, event: Event) -> int:
        """Between two runs; of an event within them less by what its place varies."""
        at = dict(self.node.moments).get(event.moment)
        return self.least_again - (0 if at is None else at.most - at.least)

    def gaps(self, gaps: Gaps, found: Finished) -> None:
        """Where its event is lost it runs nevertheless, for one that came before: it ends within its response."""
        isr, bounds = self.node, found.isrs[self.node.name]
        # one that clears its mark may end with no run for what came meanwhile
        for event in (isr.end,) if isr.clears else (isr.start, isr.end, *isr.inner):
            if event.moment != "nth":
                gaps.after(event, isr.on, bounds.until(event.moment).most)
        if isr.nth is not None:
            each = isr.nth.within
            gaps.follows(Event(f"{isr.thing}.nth"), (isr.end,), lambda gap: each * gap)

    def rate(self, found: Finished, rates: Rates) -> Fraction:
        """That of its causes, where each has a run of its own."""
        merged = found.isrs[self.node.name].lost or self.node.serves_all
        return Fraction(0) if merged else _rate_of_causes(self.system, self.node.on, rates)

    def loses(self, found: Finished) -> str | None:
        """An event that finds its mark set."""
        bounds = found.isrs[self.node.name]
        return bounds.lost_reason if bounds.lost else None

    def passes(self, found: Finished, moment: str) -> Figure:
        """Its latency, its response, or the time to what lies within it."""
        bounds = found.isrs[self.node.name]
        if bounds.lost:
            return Figure(0, None, reason=f"an activation of {self.node.thing} may be lost")
        return bounds.until(moment)

    def passes_from(self, found: Finished, event: Event, moment: str) -> Figure:
        """From its start it may be held up twice: on the way to where the token leaves it, and as that comes back."""
        through = self.passes(found, moment)
        if through.most is None or event.moment != "start" or moment == "start":
            return through
        bounds = found.isrs[self.node.name]
        within = bounds.within(moment)
        if within.most is None:
            return within
        return summed(through.least, [*bounds.latency.parts, *within.parts])

    def delay(self, found: Finished, event: Event) -> Figure:
        """Its latency or response, or the time to what lies within it."""
        return found.isrs[self.node.name].until(event.moment)

    def share(self, event: Event) -> Fraction:
        """One in so many of its runs."""
        nth = self.node.nth
        return Fraction(1, nth.n) if nth is not None and event.moment == "nth" else Fraction(1)

    def distance(self, found: Finished, event: Event, least: int) -> Figure:
        """Of an n-th run that of so many runs, or of so many events that it alone serves, and what its way varies."""
        isr = self.node
        if event.moment != "nth" or isr.nth is None or found.events.tangled(isr.thing):
            return super().distance(found, event, least)
        sole = len(isr.on) == 1 and not isr.serves_all and found.loses(isr.thing) is None
        one, way = found.distances(isr.on[0] if sole else isr.end)[1], self.delay(found, event)
        if one.most is None:
            return Figure(least, None, reason=one.reason)
        parts = [replace(part, count=isr.nth.n * part.count) for part in one.parts]
        if sole:
            parts += [*way.parts, Part("the least of the same way", event, 1, -way.least)]
        return summed(least, parts)

    def least_of_way(self, figure: Figure) -> int:
        """One run may serve events that came at different times."""
        return 0 if self.node.serves_all else figure.least

    def span(self, found: Finished, event: Event) -> Figure:
        """First to last instruction, or to what lies within."""
        return found.isrs[self.node.name].within(event.moment)


class StepLaw(Law, frozen=True):
    """Steps of the loop."""

    node: Step
    keeps_apart: ClassVar[bool] = True

    @property
    def in_rings(self) -> bool:
        """Where it alone takes its flag: that holds the token until it begins; a buffer holds many."""
        step = self.node
        return step.asked_by is None and len(step.polls) == 1 and self.alone

    @property
    def alone(self) -> bool:
        """Whether nobody else takes what it polls."""
        return all(self.system.graph.rival(flag, self.node) is None for flag in self.node.polls)

    def curve(self, curves: Curves, event: Event) -> Curve:
        """No denser than passes, its timer, and the sets of its flags; the end after a way of its own."""
        step, again = self.node, self.least_again
        if step.once:
            return sporadic(LONGEST_PS)
        promises = [sporadic(again)]
        if step.every is not None:
            promises += self.timed(curves)
        if step.polls and not curves.tangled(step.thing):
            drains, begun = step.drains, 1
            if drains is not None:  # what takes few at once may have a row of runs to do as a window begins
                buffer = self.system.buffer(drains.buffer)
                begun = -(-buffer.in_at_most // drains.most)
            promises.append(moved(curves.openings(step), extra=begun))
            reacts = curves.delays.reacts.get(step.name)
            if reacts is not None:  # each run takes a set of its own, no later behind that than it reacts
                promises.append(delayed(curves.openings(step), reacts, again))
        starts = tightest(promises)
        return starts if event.moment == "start" else curves.moved(event, starts, 1, again)

    def timed(self, curves: Curves) -> list[Curve]:
        """As its timer lets it."""
        if self.node.every is None:
            return []
        period = self.node.every.least
        if self.node.rearm == "now":
            return [Staircase(period, distance=int(period))]
        if self.node.rearm == "skip":
            return [moved(Staircase(period), extra=1)]
        if self.node.polls:  # turns without its flag are made up for, however many there were
            return []
        late = curves.delays.late.get(self.node.name, 0)
        return [] if late is None else [Staircase(period, late)]

    @property
    def least_again(self) -> int:
        """A pass in which it runs."""
        return least_round(self.system, self.node)

    def least_way(self, moment: str) -> int:
        """The loop looks no sooner than the routine that has set its flag is left, if one has."""
        by_routine = all(event.kind == "isr" for event in self.system.graph.causes[self.node.thing])
        return (self.system.core.exit.least if by_routine else 0) + (own_least(self.node) if moment == "end" else 0)

    def passes(self, found: Finished, moment: str) -> Figure:
        """The reaction to its flag, and for its end its duration."""
        (flag,) = self.node.polls
        return self._until(moment, found.flags[flag].reaction, found)

    def gaps(self, gaps: Gaps, found: Finished) -> None:
        """By its timer or in every pass; behind its flag where nobody else takes that."""
        step, bounds = self.node, found.steps[self.node.name]
        gaps.sure(step.start, bounds.gap)
        graph = self.system.graph
        # what finds its buffer full may be lost behind the last item, which is being copied: nothing follows then
        sure = step.asked_by is None or not found.flags[f"buffer.{step.asked_by}"].overwritten
        # behind what a run takes that has begun before follows no other; the next behind its end has one
        behind = bounds.duration.most if step.asked_by in graph.until_empty else 0
        for flag in step.polls:
            reacts = found.flags[flag].reaction.most
            if sure and graph.rival(flag, step) is None and reacts is not None and behind is not None:
                gaps.after(step.start, graph.surely_set_by(flag), behind + reacts)
        gaps.after(step.end, (step.start,), bounds.duration.most)

    def rate(self, found: Finished, rates: Rates) -> Fraction:
        """That of its timer or of the longest pass; none is sure where it polls."""
        step, bounds = self.node, found.steps[self.node.name]
        if step.polls or bounds.interval.most is None:
            return Fraction(0)
        if step.every is not None and step.rearm == "grid":
            return 1 / step.every.most
        return Fraction(1, bounds.interval.most)

    def delay(self, found: Finished, event: Event) -> Figure:
        """After the set of its flag, or after its timer was due."""
        step, bounds = self.node, found.steps[self.node.name]
        if step.asked_by is not None or len(step.polls) > 1:
            what = "items" if step.asked_by is not None else "flags"
            return Figure(0, None, reason=f"{step.thing} takes several {what}, each with a cause of its own")
        if step.polls and step.every is None and self.alone:
            beginning = found.flags[step.polls[0]].reaction
        elif step.polls:
            why = f"{step.thing} is not alone in waiting for its flag, or also for its timer"
            beginning = Figure(0, None, reason=why)
        else:
            beginning = bounds.late or Figure(0, 0)
        return self._until(event.moment, beginning, found)

    def _until(self, moment: str, beginning: Figure, found: Finished) -> Figure:
        """The time to its ``beginning``, and for its end its duration with it."""
        duration = found.steps[self.node.name].duration
        if moment == "start" or beginning.most is None:
            return beginning
        if duration.most is None:
            return duration
        return summed(beginning.least + duration.least, [*beginning.parts, *duration.parts])

    def span(self, found: Finished, event: Event) -> Figure:
        """Its duration."""
        return found.steps[self.node.name].duration

    def distance(self, found: Finished, event: Event, least: int) -> Figure:
        """From start to next start; from end to end with what its duration varies."""
        step, bounds = self.node, found.steps[self.node.name]
        interval = bounds.interval
        if step.polls:
            interval = self._polled(found, interval)
            if interval.most is None:
                return interval
        if event.moment == "start" or interval.most is None:
            least = max(least, interval.least) if event.moment == "start" else least
            return Figure(least, interval.most, interval.parts, interval.reason)
        if not step.gated:
            return Figure(least, interval.most, interval.parts)  # a whole round from end to end as well
        if bounds.duration.most is None:
            return Figure(least, None, reason=bounds.duration.reason)
        parts = [*interval.parts, *bounds.duration.parts,
                 Part("the least of the same step", step.thing, 1, -bounds.duration.least)]  # fmt: skip
        return summed(least, parts)

    def _polled(self, found: Finished, interval: Figure) -> Figure:
        """From start to next start behind its flag: each takes the next set, or one comes from any instant on."""
        step, found = self.node, found.later  # the start-up is over as it begins
        gap = found.gap(step.start)
        known = Figure(interval.least, None, reason=interval.reason)
        if gap is not None:
            known = Figure(interval.least, gap, (Part("longest time to the next", step.thing, 1, gap),))
        flag, setters = found.flags[step.polls[0]], self.system.graph.surely_set_by(step.polls[0])
        alone = step.every is None and len(step.polls) == 1 and self.alone
        alone = alone and not found.events.tangled(step.thing)
        if not alone or flag.overwritten or flag.reaction.most is None or len(setters) != 1:
            return known
        sets = found.distances(setters[0])[1]
        # what comes while a run takes what comes is taken by that
        behind = found.steps[step.name].duration if step.asked_by in self.system.graph.until_empty else Figure(0, 0)
        if sets.most is None or behind.most is None:
            return known
        least = Part("the least of the same way", f"flag.{step.polls[0]}", 1, -flag.reaction.least)
        made = summed(interval.least, [*behind.parts, *sets.parts, *flag.reaction.parts, least])
        return min(made, known, key=attrgetter("rank"))


class FlagLaw(Law, frozen=True):
    """Flags between routines and steps."""

    def loses(self, found: Finished) -> str | None:
        """A set that finds it set."""
        bounds = found.flags[self.node.name]
        return bounds.reason if bounds.overwritten else None


LAWS: dict[str, type[Law]] = {
    "source": SourceLaw, "unit": UnitLaw, "isr": IsrLaw, "step": StepLaw, "flag": FlagLaw, "buffer": BufferLaw,
}  # fmt: skip


def kept_apart(system: System, events: Iterable[Event], curve: Curve) -> Curve:
    """The curve of some events together, where all of them keep apart from each other, as each does from itself."""
    gaps = [apart.gap for apart in system.aparts if set(events) <= set(apart.of)]
    return tightest([curve, sporadic(max(gaps))]) if gaps else curve


def law_of(system: System, thing: Thing) -> Law:
    """The law of a thing of a model; KeyError if there is no such thing."""
    if thing.kind == "flag":
        return FlagLaw(system, thing)
    node = system.nodes[thing]
    if isinstance(node, Unit) and node.counts is not None:
        return CountLaw(system, node)
    if isinstance(node, Unit) and node.drains is not None:
        return DrainLaw(system, node)
    return LAWS[thing.kind](system, node)


def hop(found: Finished, link: Link) -> Figure:
    """The time from an event to what follows from it over one link."""
    if link.kind == "sets":
        return found.flags[link.flag].reaction
    if link.kind == "drains":
        return found.buffers[link.flag].reaction
    law = law_of(found.system, link.after.thing)
    if link.kind != "ends":
        return law.delay(found, link.after)
    figure = law.span(found, link.after)
    if link.before.moment == "start":
        return figure
    # what is held off at a moment may wait since before: so all that comes on top since the first instruction counts
    at = dict(found.system.isr(link.before.name).moments)[link.before.moment]
    least, before = max(0, figure.least - at.most), Part("before the moment", link.before.thing, 1, -at.least)
    if figure.most is None:
        return Figure(least, None, reason=figure.reason)
    return summed(least, [*figure.parts, before])


def _rate_of_causes(system: System, causes: tuple[Event, ...], rates: Rates) -> Fraction:
    each = (rates[cause.thing] * law_of(system, cause.thing).share(cause) for cause in causes if cause.thing in rates)
    return sum(each, Fraction(0))


def _lost_in_row(unit: Unit, starts: Curve, depth: int | None) -> int | None:
    """The most starts in a row that can be lost; None: no number is enough."""
    longest = unit.takes.most
    if unit.busy == "queue":
        lost = depth is None or depth > unit.depth
        return starts.most_within(longest) if lost else 0
    if starts.least_span(2) > longest:
        return 0
    if unit.busy == "drop":
        return starts.most_within(longest) - 1
    for row in range(1, MOST_STARTS):
        if starts.least_span(row + 1) > row * longest:
            return row - 1
    return None
