"""Busy windows: the worst latency and response of one interrupt routine.

A window of a line opens when work of the line, or of one that goes before it, begins to wait, and closes at the first
instant at which none is left. Every activation of the line lies in one window, so the worst over all windows is found
in the densest one: everything arrives as it opens, and one blocker has just begun. With q counting the activations of
the line in the window, t0 = 0 its opening, and for each other line k the time it takes, T(k) = entry + cost +
max(exit, chain - entry):

    accepted(q)  = blocker + (q-1)·T(line) + sum over k before the line of arrivals(k, [0, accepted(q)])·T(k)
    first(q)     = accepted(q) + entry + what lines of more urgent levels add in [0, first(q)]
    last(q)      = first(q) + cost + what lines of more urgent levels add in [0, last(q))

and the event came no earlier than the least span of q events. Windows close at the least L > 0 with
L = blocker + sum over the line and those before it of arrivals([0, L))·T. This is the analysis of arbitrary deadlines
(J. Lehoczky, "Fixed priority scheduling of periodic task sets with arbitrary deadlines", RTSS 1990; K. Tindell,
A. Burns, A. Wellings, Real-Time Systems 6, 1994) with the non-preemptive start of R. Davis, A. Burns, R. Bril,
J. Lukkien, "Controller Area Network (CAN) schedulability analysis: refuted, revisited and revised", Real-Time
Systems 35 (2007): no stopping before L, or a later activation that is worse is overlooked.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction

from tachys.bounds.arrivals import Staircase
from tachys.bounds.blocking import after_body, blockers, body_most
from tachys.bounds.result import Figure, IsrBounds, Part
from tachys.model.system import Core, Isr, System

MOST_ACTIVATIONS = 20_000
MOST_ROUNDS = 200_000


class WindowTooLong(Exception):
    """The busy window is longer than is worth following. ``args[0]`` says why, in words."""


@dataclass(frozen=True, slots=True)
class Line:
    """A routine with its arrivals and the most that one activation takes of the core."""

    isr: Isr
    curve: Staircase
    overhead: int

    @property
    def taken(self) -> int:
        """Entry, body and end of one activation, in ps."""
        return self.isr.cost.most + self.overhead

    @property
    def share(self) -> Fraction:
        """The most of the core that the line takes in the long run."""
        return self.taken * self.curve.rate()


def make_lines(system: System, curves: dict[str, Staircase]) -> tuple[Line, ...]:
    """The lines of a system in the order of acceptance."""
    overhead = system.core.entry.most + after_body(system.core)
    return tuple(Line(isr, curves[isr.on[0]], overhead) for isr in system.isrs)


def isr_bounds(system: System, lines: Sequence[Line], rank: int) -> IsrBounds:
    """The bounds of the routine that stands at ``rank`` in the order of acceptance."""
    line, core = lines[rank], system.core
    least_latency = 0 if core.late_arrival else min(core.entry.least, core.chain.least)
    least_response = least_latency + line.isr.cost.least
    window = _Window(system, lines, rank)
    try:
        window.run()
        span = window.span()
    except WindowTooLong as error:
        reason = str(error)
        open_end = Figure(least_latency, None, reason=reason)
        return IsrBounds(
            line.isr.name,
            open_end,
            Figure(least_response, None, reason=reason),
            Figure(line.isr.cost.least, None, reason=reason),
            lost=True,
            lost_reason=reason,
            pending_needed=None,
        )
    lost = window.pending_needed > line.isr.pending
    return IsrBounds(
        line.isr.name,
        window.worst_latency.figure(least_latency),
        window.worst_response.figure(least_response),
        span,
        lost=lost,
        lost_reason=f"{window.pending_needed} can wait at once, {line.isr.pending} is remembered" if lost else "",
        pending_needed=window.pending_needed,
    )


@dataclass(slots=True)
class _Worst:
    """The largest value so far, and how to take it apart."""

    value: int = -1
    activation: int = 1
    parts: Callable[[], tuple[Part, ...]] = tuple

    def offer(self, value: int, activation: int, parts: Callable[[], tuple[Part, ...]]) -> None:
        if value > self.value:
            self.value, self.activation, self.parts = value, activation, parts

    def figure(self, least: int) -> Figure:
        return Figure(least, self.value, self.parts(), activation=self.activation)


class _Window:
    """The densest busy window of one line, followed activation by activation."""

    def __init__(self, system: System, lines: Sequence[Line], rank: int) -> None:
        self.core: Core = system.core
        self.line = lines[rank]
        self.before = lines[:rank]
        urgency = self.line.isr.urgency
        nested = self.core.nesting
        self.over = [line for line in self.before if nested and line.isr.urgency < urgency]
        self.beside = [line for line in self.before if not (nested and line.isr.urgency < urgency)]
        self.blocker = max(blockers(system, self.line.isr), key=lambda part: part.total, default=Part("", "", 0, 0))
        self.worst_latency = _Worst()
        self.worst_response = _Worst()
        self.pending_needed = 1
        self._rounds = 0

    def run(self) -> None:
        """Follow the window to its end.

        Raises:
            WindowTooLong: it has no end, or none within reason.
        """
        self._refuse_overload()
        length = self._length()
        accepted = 0
        for count in range(1, self.line.curve.most_before(length) + 1):
            if count > MOST_ACTIVATIONS:
                raise WindowTooLong(f"after {MOST_ACTIVATIONS} activations in a row the core has not caught up")
            accepted = self._activation(count, accepted)

    def span(self) -> Figure:
        """First to last instruction by the wall clock, with all that can be put on top."""
        cost = body_most(self.line.isr)
        length = self._settle(cost, lambda t: cost + sum(k.curve.most_before(t) * k.taken for k in self.over))
        own = Part("own cost", f"isr.{self.line.isr.name}", 1, cost)
        over = [_taken("preempted", k, k.curve.most_before(length)) for k in self.over]
        return Figure(self.line.isr.cost.least, length, (own, *(part for part in over if part.count)))

    def _refuse_overload(self) -> None:
        wanted = sum((line.share for line in (*self.before, self.line)), Fraction(0))
        if wanted > 1:
            heaviest = max((*self.before, self.line), key=lambda line: line.share)
            raise WindowTooLong(
                f"overload: it and the lines before it want {float(wanted):.1%} of the core, "
                f"isr.{heaviest.isr.name} alone {float(heaviest.share):.1%}"
            )
        if wanted == 1 and (self.blocker.total or any(k.curve.jitter for k in (*self.before, self.line))):
            raise WindowTooLong("it and the lines before it want exactly 100 % of the core: any delay stays for ever")

    def _settle(self, start: int, step: Callable[[int], int]) -> int:
        """The least fixed point of ``step`` at or above ``start``."""
        now = start
        while (later := step(now)) > now:
            now = later
            self._rounds += 1
            if self._rounds > MOST_ROUNDS:
                raise WindowTooLong("the load is so near to 100 % that the busy window has no end within reach")
        return now

    def _length(self) -> int:
        every = (*self.before, self.line)
        return self._settle(
            self.blocker.total + 1,
            lambda t: self.blocker.total + sum(k.curve.most_before(t) * k.taken for k in every),
        )

    def _activation(self, count: int, earlier: int) -> int:
        """Offer the ``count``-th activation; the instant of its acceptance at the latest."""
        line, entry = self.line, self.core.entry.most
        behind = self.blocker.total + (count - 1) * line.taken
        accepted = self._settle(
            max(behind, earlier),
            lambda t: behind + sum(k.curve.most_within(t) * k.taken for k in self.before),
        )
        if self.core.late_arrival:  # until its first instruction it can be displaced, and wait once more
            first = self._settle(
                accepted + entry,
                lambda t: behind + entry + sum(k.curve.most_within(t) * k.taken for k in self.before),
            )
            accepted = first
        else:
            beside = sum(k.curve.most_within(accepted) * k.taken for k in self.beside)
            first = self._settle(
                accepted + entry,
                lambda t: behind + beside + entry + sum(k.curve.most_within(t) * k.taken for k in self.over),
            )
        came = line.curve.least_span(count)
        counts = {k.isr.name: k.curve.most_within(first) for k in self.over}
        counts |= {k.isr.name: k.curve.most_within(accepted) for k in self.beside}
        self.worst_latency.offer(first - came, count, lambda: self._parts(count, counts, 0))
        self._response(count, counts, first, came)
        self.pending_needed = max(self.pending_needed, line.curve.most_within(accepted) - count + 1)
        return accepted

    def _response(self, count: int, at_first: dict[str, int], first: int, came: int) -> None:
        line = self.line
        served = min(line.isr.pending, line.curve.most_within(first - came)) if line.isr.serves_all else 1
        cost = line.isr.cost.most * served
        fixed = first + cost - sum(at_first[k.isr.name] * k.taken for k in self.over)

        def counts_until(t: int) -> dict[str, int]:
            return {k.isr.name: max(k.curve.most_before(t), at_first[k.isr.name]) for k in self.over}

        def step(t: int) -> int:
            counts = counts_until(t)
            return fixed + sum(counts[k.isr.name] * k.taken for k in self.over)

        last = self._settle(first + cost, step)
        counts = at_first | counts_until(last)
        self.worst_response.offer(last - came, count, lambda: self._parts(count, counts, cost))

    def _parts(self, count: int, counts: dict[str, int], cost: int) -> tuple[Part, ...]:
        """What an activation is made of, in the order in which it happens; adds up to it exactly."""
        who = f"isr.{self.line.isr.name}"
        parts = [Part(f"held off: {self.blocker.what}", *_fields(self.blocker))]
        parts += [_taken("before it", k, counts[k.isr.name]) for k in self.beside]
        parts += [_taken("before or over it", k, counts[k.isr.name]) for k in self.over]
        parts.append(_taken("its earlier runs", self.line, count - 1))
        parts.append(Part("own entry", who, 1, 0, self.core.entry.most))
        parts.append(Part("own cost", who, 1, cost))
        parts.append(Part("came after the window opened", who, 1, -self.line.curve.least_span(count)))
        return tuple(part for part in parts if part.total)


def _fields(part: Part) -> tuple[str, int, int, int]:
    return part.who, part.count, part.body, part.overhead


def _taken(what: str, line: Line, count: int) -> Part:
    return Part(what, f"isr.{line.isr.name}", count, line.isr.cost.most, line.overhead)
