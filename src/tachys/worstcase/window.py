"""Busy windows: the worst latency and response of one interrupt routine.

A window of a line opens when work of the line, or of one that goes before it, begins to wait, and closes at the first
instant at which none is left. Every activation of the line lies in one window, so the worst over all windows is found
in the densest one: everything arrives as it opens, and one blocker has just begun. With q counting the activations of
the line in the window, t0 = 0 its opening, and for each other line k the time it takes, T(k) = entry + cost +
max(exit, chain - entry):

    accepted(q)  = blocker + ahead(q) + sum over k before the line of arrivals(k, [0, accepted(q)])·T(k)
    first(q)     = accepted(q) + entry + what lines of more urgent levels add in [0, first(q)]
    last(q)      = first(q) + cost + what lines of more urgent levels add in [0, last(q))

and the event came no earlier than the least span of q events. ahead(q) are the q-1 earlier activations of the line:
(q-1)·T(line); where several events share it, oldest first, the q-1 costliest that can come in the window. Of k runs in
a row at most ceil(k / n) are n-th ones: what these do more is an input of its own in each sum. An event within a body
is the last instruction of one that is as long as that lies behind the first instruction. Windows close
at the least L > 0 with L = blocker + sum over the line and those before it of arrivals([0, L))·T. This is the analysis
of arbitrary deadlines (J. Lehoczky, "Fixed priority scheduling of periodic task sets with arbitrary deadlines", RTSS
1990; K. Tindell, A. Burns, A. Wellings, Real-Time Systems 6, 1994) with the non-preemptive start of R. Davis, A. Burns,
R. Bril, J. Lukkien, "Controller Area Network (CAN) schedulability analysis: refuted, revisited and revised", Real-Time
Systems 35 (2007): no stopping before L, or a later activation that is worse is overlooked. All three instants grow with
q, and so does the least span: if last(b) minus the least span of a events is no worse than what was found before, none
of the activations a to b is, and they are passed over.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from tachys.figures import Figure, Part, total_of
from tachys.model.nodes import Core, Isr
from tachys.model.quantities import Range
from tachys.model.system import System
from tachys.worstcase.arrivals import BEYOND, NoBound, most_before
from tachys.worstcase.blocking import after_body, body_most
from tachys.worstcase.result import IsrBounds, Within
from tachys.worstcase.workload import Search, WindowTooLong, Workload

MOST_ACTIVATIONS = 5_000
LONG_ROW = 16  # activations after which it is tried to pass over some
MOST_IN_A_ROW = 4


def isr_bounds(system: System, load: Workload, rank: int, *, alone: bool = False) -> IsrBounds:
    """The bounds of the routine that stands at ``rank`` in the order of acceptance.

    ``alone``: its own end brings about its next event, so that none can ever find another waiting.
    """
    isr = load.lines[rank].isr
    load = _without_kept_apart(system, load, rank)
    least_latency = system.core.least_latency
    least_response = least_latency + isr.shortest
    try:
        window = _Window(system, load, rank)
        window.run()
        span, in_a_row = window.span(), window.in_a_row()
        inner = {event.moment: window.inner(event.moment) for event in isr.inner}
    except NoBound as error:
        reason = str(error)
        endless = Within(Figure(least_latency, None, reason=reason), Figure(0, None, reason=reason))
        return IsrBounds(
            isr.name,
            Figure(least_latency, None, reason=reason),
            Figure(least_response, None, reason=reason),
            Figure(isr.shortest, None, reason=reason),
            lost=not alone or isr.clears,
            lost_reason="" if alone else reason,
            pending_needed=1 if alone else None,
            inner={event.moment: endless for event in isr.inner},
        )
    lost = window.pending_needed > isr.pending and not alone
    why = f"{window.pending_needed} can wait at once, {isr.pending} is remembered" if lost else ""
    if isr.clears:
        lost, why = True, "what comes while it runs is cleared as it ends"
    return IsrBounds(
        isr.name,
        window.worst_latency.figure(least_latency),
        window.worst_response.figure(least_response),
        span,
        lost=lost,
        lost_reason=why,
        pending_needed=1 if alone else window.pending_needed,
        in_a_row=in_a_row,
        inner=inner,
    )


def _without_kept_apart(system: System, load: Workload, rank: int) -> Workload:
    """The work without what comes of events that keep further apart from its own than any of its windows lasts.

    A window in which the line runs holds an event of its own, and so none of these.
    """
    own = {each.event for each in load.lines[rank].inputs}
    aparts = [apart for apart in system.aparts if own <= set(apart.of)]
    if not aparts or system.core.late_arrival:
        return load
    try:
        length = _Window(system, load, rank).length()
    except NoBound:
        return load
    others = {event for apart in aparts if apart.gap > length for event in apart.of} - own
    return load.without(system, others) if others else load


def _cost_parts(isr: Isr, cost: int) -> tuple[Part, ...]:
    """A cost of a routine, taken apart; shorter than what its items take: as one."""
    items = 0 if isr.drains is None else isr.drains.takes.most
    if isr.drains is None or not 0 < items <= cost:
        return (Part("own cost", isr.thing, 1, cost),)
    own = (Part("own cost", isr.thing, 1, cost - items),) if cost > items else ()
    return (*own, Part("own items", isr.thing, isr.drains.items.most, isr.drains.each.most))


class _Worst(Struct):
    """The largest value so far, and how to take it apart."""

    value: int = -1
    activation: int = 1
    parts: Callable[[], tuple[Part, ...]] = tuple

    def offer(self, value: int, activation: int, parts: Callable[[], tuple[Part, ...]]) -> None:
        if value > self.value:
            self.value, self.activation, self.parts = value, activation, parts

    def figure(self, least: int) -> Figure:
        return Figure(least, self.value, self.parts, activation=self.activation)


Counts = NDArray[np.int64]


class _Window:
    """The densest busy window of one line, followed activation by activation.

    Rows [0, over) are of lines that can interrupt it, [over, before) of those that only go before it, [before, end)
    its own.
    """

    def __init__(self, system: System, load: Workload, rank: int) -> None:
        self.core: Core = system.core
        self.load = load
        self.rank = rank
        self.line = load.lines[rank]
        self.before = load.ends[rank - 1] if rank else load.head
        self.end = load.ends[rank]
        higher = load.levels_before[rank] if self.core.nesting else 0
        self.over = load.ends[higher - 1] if higher else load.head
        self.blocker = load.blockers.longest(rank)
        self.worst_latency = _Worst()
        self.worst_response = _Worst()
        self.worst_moment = {name: _Worst() for name, _ in self.line.isr.moments}
        self.pending_needed = 1
        self._items = 0  # that its runs have in all, where they count for themselves
        # a buffer asks once, and again only after the run
        self._marks = [each for each in self.line.inputs if not each.event.requests]
        self._search = Search()
        # the request of a buffer is raised while its routine rests, or as that ends: then nothing more urgent waits
        self._asked_once = (
            not self._marks and self.core.nesting and not self.line.isr.guards and load.levels_before[rank] == rank
        )
        if self._asked_once and after_body(self.core) > self.blocker.total:
            self.blocker = Part("its own run, which ends", self.line.isr.thing, 1, 0, after_body(self.core))

    def run(self) -> None:
        """Follow the window to its end.

        Raises:
            NoBound: it has no end, or none within reason.
        """
        self._longest_wait = 0
        length = self.length()
        stock = self._stock(length)
        if self.line.items is not None:
            self._items = self.line.items.curve.most_within(length)
        total = sum(most for _, most in stock)
        if total > MOST_ACTIVATIONS:
            raise WindowTooLong(f"after {MOST_ACTIVATIONS} activations in a row the core has not caught up")
        self._follow(stock, 1 if self._asked_once else total)
        if len(self.line.inputs) > 1:
            waiting = [each.curve.most_within(self._longest_wait) for each in self._marks]
            self.pending_needed = max(waiting, default=1)

    def length(self) -> int:
        """How long it lasts, in ps.

        Raises:
            NoBound: it has no end, or none within reason.
        """
        self.load.refuse_overload(self.rank, delayed=self.blocker.total > 0, what="it and the lines before it")
        return self.load.close(self.blocker.total, self.end, least=1)

    def _follow(self, stock: list[tuple[int, int]], total: int) -> None:
        """Go through the activations; more and more of those that cannot be worse than one before are passed over."""
        accepted = self._activation(1, self._ahead(stock, 0), 0)
        done, stride, tried, patience = 1, 2, 1, LONG_ROW
        while done < total:
            if done - tried >= patience:
                last = min(total, done + stride)
                reached = self._outdone(done + 1, last, stock, accepted)
                if reached is not None:
                    done, tried, accepted, stride, patience = last, last, reached, 2 * stride, 0
                    continue
                tried, stride, patience = done, max(2, stride // 4), max(1, 2 * patience)
            accepted = self._activation(done + 1, self._ahead(stock, done), accepted)
            done += 1

    def span(self) -> Figure:
        """First to last instruction by the wall clock, with all that can be put on top."""
        return self._span(Range(self.line.isr.shortest, body_most(self.line.isr)))

    def inner(self, moment: str) -> Within:
        """When an event within the routine comes."""
        isr, least = self.line.isr, self.core.least_latency
        if moment == "nth":
            assert isr.nth is not None
            sure = isr.cost.least + isr.nth.cost.least - isr.nth.of_any.least
            return Within(self.worst_response.figure(least + sure), self._span(Range(sure, body_most(isr))))
        at = dict(isr.moments)[moment]
        return Within(self.worst_moment[moment].figure(least + at.least), self._span(at))

    def _span(self, body: Range) -> Figure:
        """From the first instruction to so much CPU time behind it, by the wall clock."""
        cost = body.most
        length = self.load.close(cost, self.over)

        def parts() -> tuple[Part, ...]:
            own = _cost_parts(self.line.isr, cost) if cost else ()
            return (*own, *self.load.parts("preempted", self.load.counts(length - 1, self.over)))

        return Figure(body.least, length, parts)

    def in_a_row(self) -> tuple[int, ...]:
        """When each of some runs ends that a buffer asks for, each but the first as the one before ends."""
        if self.line.isr.drains is None:
            return ()
        if not self._asked_once:
            return tuple(count * self.worst_response.value for count in range(1, MOST_IN_A_ROW + 1))
        found, accepted = [], 0
        for count in range(1, MOST_IN_A_ROW + 1):
            accepted, first = self._until_first(self.blocker.total + self.line.taken(count - 1), accepted)
            found.append(self._until_last(first, self.line.isr.cost.most))
        return tuple(found)

    def _stock(self, length: int) -> list[tuple[int, int]]:
        """(cost, how many of it can come in the window), the costliest first."""
        ordered = sorted(self.line.inputs, key=lambda each: -each.cost)
        return [(each.cost, most_before(each.curve, length)) for each in ordered]

    def _ahead(self, stock: list[tuple[int, int]], count: int) -> list[Part]:
        """So many earlier activations of the line: the costliest there are."""
        line, who = self.line, self.line.isr.thing
        left, parts = count, []
        for cost, most in stock:
            used = min(left, most)
            left -= used
            if used:
                parts.append(Part("its earlier runs", who, used, cost, line.overhead))
        if count and line.items is not None:
            assert line.isr.drains is not None
            items = min(count * line.isr.drains.items.most, self._items)
            parts.append(Part("items of its earlier runs", who, items, line.items.cost))
        if line.isr.in_all(count):
            assert line.isr.nth is not None
            what = f"its earlier runs: more each {line.isr.nth.n}"
            parts.append(Part(what, who, line.isr.nth.among(count), line.isr.longer))
        return parts

    def _outdone(self, begin: int, last: int, stock: list[tuple[int, int]], earlier: int) -> int | None:
        """When the ``last`` activation is accepted, if none from ``begin`` to it can be worse than one before; or None.

        None of them is accepted, begins or ends later than the last would that begins when it does and has all that any
        of them may have, and none comes sooner than the first of them, or the last if that never comes.
        """
        accepted, first = self._until_first(self.blocker.total + total_of(self._ahead(stock, last - 1)), earlier)
        came = min(self._came(begin), self._came(last))
        if first - came > self.worst_latency.value or accepted - came > self._longest_wait:
            return None
        if self._pending(accepted, begin) > self.pending_needed:
            return None
        ways = [(self.worst_moment[name], at.most) for name, at in self.line.isr.moments]
        ways.append((self.worst_response, total_of(self._own(first - came, at_the_end=True))))
        if any(self._until_last(first, cost) - came > worst.value for worst, cost in ways):
            return None
        return accepted

    def _came(self, count: int) -> int:
        """How long after the window has opened an activation comes at least."""
        span = self.line.curve.least_span(count)
        return span if span < BEYOND else 0  # of what never comes: as late as one would be served

    def _activation(self, count: int, ahead: list[Part], earlier: int) -> int:
        """Offer the ``count``-th activation; the instant of its acceptance at the latest."""
        load = self.load
        accepted, first = self._until_first(self.blocker.total + total_of(ahead), earlier)
        came = self._came(count)

        def parts(until: int, own: list[Part]) -> tuple[Part, ...]:
            """What it is made of; counted again when it is asked for."""
            over, alongside = load.counts(until, self.over), load.counts(accepted, self.before, self.over)
            return self._parts(count, ahead, over, alongside, own)

        self.worst_latency.offer(first - came, count, lambda: parts(first, []))
        self._response(count, parts, first, came)
        self._longest_wait = max(self._longest_wait, accepted - came)
        self.pending_needed = max(self.pending_needed, self._pending(accepted, count))
        return accepted

    def _pending(self, accepted: int, count: int) -> int:
        """How many wait as the ``count``-th activation is accepted, where all are of one event; else 0, told later."""
        alone = len(self.line.inputs) == len(self._marks) == 1
        return self.line.curve.most_within(accepted) - count + 1 if alone else 0

    def _until_first(self, behind: int, earlier: int) -> tuple[int, int]:
        """(acceptance, first instruction) behind so much that goes before it; ``earlier``: no acceptance is before."""
        entry, load = self.core.entry.most, self.load
        soonest = max(behind + load.at_once(self.before), earlier)
        accepted = self._search.settle(soonest, lambda t: behind + load.work(t, self.before))
        if self.core.late_arrival:  # until its first instruction it can be displaced, and wait once more
            first = self._search.settle(accepted + entry, lambda t: behind + entry + load.work(t, self.before))
            return first, first
        beside = load.work(accepted, self.before, self.over)
        first = self._search.settle(accepted + entry, lambda t: behind + beside + entry + load.work(t, self.over))
        return accepted, first

    def _until_last(self, first: int, cost: int) -> int:
        """The last instruction of a body of that cost; of one that has none it is the first."""
        load, start = self.load, first + cost
        fixed = start - load.work(first, self.over)
        # what comes up to its first instruction goes before it, what comes until it ends on top of it: at its end not
        return self._search.settle(start, lambda t: fixed + load.work(max(t - 1, first), self.over))

    def _response(
        self, count: int, parts: Callable[[int, list[Part]], tuple[Part, ...]], first: int, came: int
    ) -> None:
        isr = self.line.isr
        # else one of the earlier ones does it
        own = self._own(first - came, at_the_end=isr.serves_all or isr.in_all(count) > isr.in_all(count - 1))
        for name, at in isr.moments:
            self._moment(self.worst_moment[name], at.most, count, parts, first, came)
        last = self._until_last(first, total_of(own))
        self.worst_response.offer(last - came, count, lambda: parts(max(last - 1, first), own))

    def _own(self, waited: int, *, at_the_end: bool) -> list[Part]:
        """What it does itself once it has waited so long."""
        isr, who = self.line.isr, self.line.isr.thing
        own = [*_cost_parts(isr, isr.cost.most - isr.longer - isr.pause.most)]
        if isr.serves_all:
            own = [
                Part("own cost", who, min(isr.pending, each.curve.most_within(waited)), each.cost)
                for each in self.line.inputs
            ]
        if at_the_end:
            own.append(Part("more at the end", who, 1, isr.longer))
        if isr.pause.most:
            own.append(Part("own pause", who, 1, isr.pause.most))
        return own

    def _moment(
        self, worst: _Worst, cost: int, count: int, parts: Callable[[int, list[Part]], tuple[Part, ...]],
        first: int, came: int,
    ) -> None:  # fmt: skip
        """Offer an event so much CPU time behind the first instruction of an activation."""
        own, reached = [Part("own cost until then", self.line.isr.thing, 1, cost)], self._until_last(first, cost)
        worst.offer(reached - came, count, lambda: parts(max(reached - 1, first), own))

    def _parts(
        self, count: int, ahead: list[Part], over: Counts, alongside: Counts, own: list[Part]
    ) -> tuple[Part, ...]:
        """What an activation is made of, in the order in which it happens; adds up to it exactly."""
        who = self.line.isr.thing
        blocker = self.blocker
        parts = [Part(f"held off: {blocker.what}", blocker.who, blocker.count, blocker.body, blocker.overhead)]
        parts += self.load.parts("before it", alongside, self.over)
        parts += self.load.parts("before or over it", over)
        parts += ahead
        parts.append(Part("own entry", who, 1, 0, self.core.entry.most))
        parts += own
        parts.append(Part("came after the window opened", who, 1, -self._came(count)))
        return tuple(part for part in parts if part.total)
