"""How densely events can come: a small algebra of arrival curves.

A curve promises that any n events in a row lie at least ``least_span(n)`` ps apart, first to last. ``most_within(t)``
is its inverse, the most events in a closed window [0, t]; in the half-open [0, t) it differs where t is hit exactly.
Curves are combined as sums, delayed by a way that takes between least and most, thinned by a postscaler, and so on;
each combination stays a bound of what it stands for. (Curves of this kind: K. Richter, "Compositional scheduling
analysis using standard event models", Braunschweig 2005; J.-Y. Le Boudec, P. Thiran, "Network calculus", 2001.)
"""

from __future__ import annotations

import heapq
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Protocol

from tachys.errors import InternalError
from tachys.model.system import Source


class NoBound(Exception):
    """A figure has no bound. ``args[0]`` says why, in words."""


class Curve(Protocol):
    """The densest way in which the events of one kind can come."""

    def least_span(self, count: int) -> int:
        """The least span in ps of ``count`` events in a row (count >= 1; one event spans 0)."""

    def most_within(self, ps: int) -> int:
        """The most events in a closed window [0, ps]; 0 for ps < 0."""

    def rate(self) -> Fraction:
        """The most events per ps in the long run."""


def most_before(curve: Curve, ps: int) -> int:
    """The most events in a half-open window [0, ps)."""
    return curve.most_within(ps - 1)


@dataclass(frozen=True, slots=True)
class Staircase:
    """Periodic with jitter and a distance: least span of n events = max((n-1)·distance, floor((n-1)·period) - jitter).

    ``period`` in rational ps (> 0), ``jitter`` and ``distance`` in whole ps (>= 0). A sporadic source is a period
    alone. Formula of K. Tindell, A. Burns, A. Wellings, "An extendible approach for analyzing fixed priority hard
    real-time tasks", Real-Time Systems 6 (1994), with a floor: releases fall on whole ps.
    """

    period: Fraction
    jitter: int = 0
    distance: int = 0

    def least_span(self, count: int) -> int:
        """As of every curve."""
        steps = count - 1
        return max(steps * self.distance, steps * self.period.numerator // self.period.denominator - self.jitter, 0)

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        if ps < 0:
            return 0
        # floor(k·P) <= ps + J  <=>  k·P < ps + J + 1
        steps = ((ps + self.jitter + 1) * self.period.denominator - 1) // self.period.numerator
        if self.distance:
            steps = min(steps, ps // self.distance)
        return steps + 1

    def rate(self) -> Fraction:
        """As of every curve."""
        return 1 / max(self.period, Fraction(self.distance))


@dataclass(frozen=True, slots=True)
class Bursts:
    """Bursts of ``count`` events ``spaced`` apart, beginning ``every`` ps; (count - 1)·spaced < every.

    No event comes less than ``every`` after the one ``count`` before it, and inside a burst none less than ``spaced``
    after its neighbour. A window may begin in the middle of a burst, which is denser where the pause is short.
    """

    count: int
    spaced: int
    every: int

    def least_span(self, count: int) -> int:
        """As of every curve."""
        bursts, rest = divmod(count - 1, self.count)
        across = self.every - (self.count - rest) * self.spaced
        return bursts * self.every + (min(rest * self.spaced, across) if rest else 0)

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        if ps < 0:
            return 0
        bursts, rest = divmod(ps, self.every)
        inside = rest // self.spaced
        across = self.count + (rest - self.every) // self.spaced
        return bursts * self.count + min(self.count - 1, max(inside, across, 0)) + 1

    def rate(self) -> Fraction:
        """As of every curve."""
        return Fraction(self.count, self.every)


@dataclass(frozen=True, slots=True)
class Sum:
    """Events of several kinds taken together.

    The least span of n of them is the n-th smallest of all the spans of 1, 2, 3 … events of each kind; those found
    are kept.
    """

    curves: tuple[Curve, ...]
    _spans: list[int] = field(default_factory=list, init=False, compare=False, repr=False)
    _ahead: list[tuple[int, int, int]] = field(default_factory=list, init=False, compare=False, repr=False)

    def least_span(self, count: int) -> int:
        """As of every curve."""
        if not self._spans:
            self._ahead.extend((0, kind, 1) for kind in range(len(self.curves)))
        while len(self._spans) < count:
            span, kind, events = self._ahead[0]
            self._spans.append(span)
            heapq.heapreplace(self._ahead, (self.curves[kind].least_span(events + 1), kind, events + 1))
        return self._spans[count - 1]

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        return sum(curve.most_within(ps) for curve in self.curves)

    def rate(self) -> Fraction:
        """As of every curve."""
        return sum((curve.rate() for curve in self.curves), Fraction(0))


@dataclass(frozen=True, slots=True)
class Tightest:
    """The least over several curves of the same events: what all of them promise."""

    curves: tuple[Curve, ...]

    def least_span(self, count: int) -> int:
        """As of every curve."""
        return max(curve.least_span(count) for curve in self.curves)

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        return min(curve.most_within(ps) for curve in self.curves)

    def rate(self) -> Fraction:
        """As of every curve."""
        return min(curve.rate() for curve in self.curves)


@dataclass(frozen=True, slots=True)
class Delayed:
    """Events that follow others after a way whose time varies by ``jitter`` ps, never closer than ``distance``."""

    curve: Curve
    jitter: int
    distance: int = 0

    def least_span(self, count: int) -> int:
        """As of every curve."""
        return max(self.curve.least_span(count) - self.jitter, (count - 1) * self.distance, 0)

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        if ps < 0:
            return 0
        most = self.curve.most_within(ps + self.jitter)
        return min(most, ps // self.distance + 1) if self.distance else most

    def rate(self) -> Fraction:
        """As of every curve."""
        return min(self.curve.rate(), Fraction(1, self.distance)) if self.distance else self.curve.rate()


@dataclass(frozen=True, slots=True)
class Thinned:
    """Every ``keep``-th event of another curve, as a postscaler lets through."""

    curve: Curve
    keep: int

    def least_span(self, count: int) -> int:
        """As of every curve."""
        return self.curve.least_span((count - 1) * self.keep + 1)

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        return -(-self.curve.most_within(ps) // self.keep)

    def rate(self) -> Fraction:
        """As of every curve."""
        return self.curve.rate() / self.keep


@dataclass(frozen=True, slots=True)
class More:
    """At most ``extra`` events beside those of another curve: what waited when the window began, or a primed unit."""

    curve: Curve | None
    extra: int = 1

    def least_span(self, count: int) -> int:
        """As of every curve."""
        left = count - self.extra
        return self.curve.least_span(left) if self.curve is not None and left > 1 else 0

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        return 0 if ps < 0 else self.extra + (self.curve.most_within(ps) if self.curve is not None else 0)

    def rate(self) -> Fraction:
        """As of every curve."""
        return self.curve.rate() if self.curve is not None else Fraction(0)


@dataclass(frozen=True, slots=True)
class Endless:
    """Events that nothing known holds apart, for ``reason``."""

    reason: str

    def least_span(self, count: int) -> int:
        """As of every curve: 0."""
        return 0

    def most_within(self, ps: int) -> int:
        """No number is enough.

        Raises:
            NoBound: always, unless the window is empty.
        """
        if ps < 0:
            return 0
        raise NoBound(self.reason)

    def rate(self) -> Fraction:
        """No number is enough.

        Raises:
            NoBound: always.
        """
        raise NoBound(self.reason)


def apart(distance: int, reason: str = "nothing holds its events apart") -> Curve:
    """Events at least ``distance`` ps apart; without a distance, for ``reason``, there is no bound."""
    return Staircase(Fraction(distance), distance=distance) if distance > 0 else Endless(reason)


def delayed(curve: Curve, jitter: int, distance: int = 0) -> Curve:
    """:class:`Delayed` in the simplest form that says the same."""
    if isinstance(curve, Endless):
        return apart(distance, curve.reason)
    if isinstance(curve, Staircase) and (curve.distance == 0 or (curve.distance == curve.period and not curve.jitter)):
        # of a sporadic curve both terms of the span are the same, so one of them may take the jitter
        keeps = curve.distance if jitter == 0 else 0
        return Staircase(curve.period, curve.jitter + jitter, max(keeps, distance))
    return Delayed(curve, jitter, distance) if jitter or distance else curve


def tightest(curves: list[Curve]) -> Curve:
    """What all of these promise at once; those without a bound say nothing if another has one.

    Raises:
        IndexError: none is given.
    """
    firm = [curve for curve in curves if not isinstance(curve, Endless)] or curves[:1]
    return firm[0] if len(firm) == 1 else Tightest(tuple(firm))


def together(curves: list[Curve]) -> Curve | None:
    """The sum of some curves; None of none, and one stays itself."""
    if not curves:
        return None
    for curve in curves:
        if isinstance(curve, Endless):
            return curve
    return curves[0] if len(curves) == 1 else Sum(tuple(curves))


def source_curve(source: Source) -> Curve:
    """The densest arrivals that a source allows, over the tolerance of its clock."""
    if source.period_least is not None:
        return Staircase(source.period_least, source.jitter)
    if source.burst is not None:
        return Bursts(source.burst.count, source.burst.spaced, source.burst.every)
    if source.gap <= 0:
        raise InternalError(f"source {source.name} has neither a period nor a gap")
    return Staircase(Fraction(source.gap), distance=source.gap)
