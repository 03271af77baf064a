"""How densely events can come: a small algebra of arrival curves.

A curve promises that any n events in a row lie at least ``least_span(n)`` ps apart, first to last. ``most_within(t)``
is its inverse, the most events in a closed window [0, t]; in the half-open [0, t) it differs where t is hit exactly.
Curves are combined as sums, delayed by a way that takes between least and most, thinned by a postscaler, and so on;
each combination stays a bound of what it stands for. (Curves of this kind: K. Richter, "Compositional scheduling
analysis using standard event models", Braunschweig 2005; J.-Y. Le Boudec, P. Thiran, "Network calculus", 2001.)
"""

from __future__ import annotations

import heapq
from bisect import bisect_left
from collections.abc import Iterable
from contextlib import suppress
from fractions import Fraction
from functools import cached_property
from math import ceil
from typing import Protocol

from msgspec import Struct
from msgspec.structs import force_setattr

from tachys.errors import InternalError
from tachys.model.nodes import Source

BEYOND = 1 << 62  # a span that no run reaches
MOST_TERMS = 8  # promises of one curve that are kept: any of them may be left out
FAR_AHEAD = 100  # events of several curves: one that lies further on is searched for, not counted up to
DEEPEST = 30  # sums inside each other, before a flat curve stands in for them


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

    def leaky(self) -> tuple[Fraction, Fraction]:
        """(b, r) such that no closed window [0, t] holds more than b + r·t events, r being the rate."""

    @property
    def depth(self) -> int:
        """How many sums stand inside each other in it."""


def exact_sum(parts: Iterable[Fraction]) -> Fraction:
    """The sum of fractions, two by two: their common denominator grows long, and most of the sums are to be short."""
    left = list(parts)
    while len(left) > 1:
        left = [a + b for a, b in zip(left[::2], left[1::2], strict=False)] + left[len(left) - len(left) % 2 :]
    return left[0] if left else Fraction(0)


def most_before(curve: Curve, ps: int) -> int:
    """The most events in a half-open window [0, ps)."""
    return curve.most_within(ps - 1)


class Staircase(Struct, frozen=True):
    """Periodic with jitter and a distance: least span of n events = max((n-1)·distance, floor((n-1)·period) - jitter).

    ``period`` in rational ps (> 0), ``jitter`` and ``distance`` in whole ps (>= 0). A sporadic source is a period
    alone. Formula of K. Tindell, A. Burns, A. Wellings, "An extendible approach for analyzing fixed priority hard
    real-time tasks", Real-Time Systems 6 (1994), with a floor: releases fall on whole ps.
    """

    period: Fraction
    jitter: int = 0
    distance: int = 0
    _over: int = 0  # the period is over / under
    _under: int = 0

    def __post_init__(self) -> None:
        force_setattr(self, "_over", self.period.numerator)
        force_setattr(self, "_under", self.period.denominator)

    def least_span(self, count: int) -> int:
        """As of every curve."""
        steps = count - 1
        return max(steps * self.distance, steps * self._over // self._under - self.jitter, 0)

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        if ps < 0:
            return 0
        # floor(k·P) <= ps + J  <=>  k·P < ps + J + 1
        steps = ((ps + self.jitter + 1) * self._under - 1) // self._over
        if self.distance:
            steps = min(steps, ps // self.distance)
        return steps + 1

    def rate(self) -> Fraction:
        """As of every curve."""
        return 1 / self.period if self.distance <= self.period else Fraction(1, self.distance)

    def leaky(self) -> tuple[Fraction, Fraction]:
        """As of every curve."""
        if self.distance > self.period:
            return Fraction(1), Fraction(1, self.distance)
        return 1 + (self.jitter + 1) / self.period, 1 / self.period

    @property
    def depth(self) -> int:
        """As of every curve."""
        return 0


class Bursts(Struct, frozen=True):
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

    def leaky(self) -> tuple[Fraction, Fraction]:
        """As of every curve."""
        return Fraction(self.count), Fraction(self.count, self.every)

    @property
    def depth(self) -> int:
        """As of every curve."""
        return 0


class SumOfCurves(Struct, frozen=True, dict=True):
    """Events of several kinds taken together.

    The least span of n of them is the n-th smallest of all the spans of 1, 2, 3 … events of each kind; those found
    are kept.
    """

    curves: tuple[Curve, ...]

    @cached_property
    def _spans(self) -> list[int]:
        return []

    @cached_property
    def _ahead(self) -> list[tuple[int, int, int]]:
        return sorted((curve.least_span(1), kind, 1) for kind, curve in enumerate(self.curves))

    def least_span(self, count: int) -> int:
        """As of every curve."""
        if count > len(self._spans) + FAR_AHEAD:
            with suppress(NoBound):
                return self._searched(count)
        while len(self._spans) < count:
            span, kind, events = self._ahead[0]
            self._spans.append(span)
            heapq.heapreplace(self._ahead, (self.curves[kind].least_span(events + 1), kind, events + 1))
        return self._spans[count - 1]

    def _searched(self, count: int) -> int:
        """The same, by halving the time in which so many events come.

        Raises:
            NoBound: nothing holds them apart, or they never come.
        """
        high = 1
        while self.most_within(high) < count:
            high *= 2
            if high > BEYOND:
                raise NoBound("so many never come")
        return bisect_left(range(high), count, key=self.most_within)

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        return sum(curve.most_within(ps) for curve in self.curves)

    def rate(self) -> Fraction:
        """As of every curve."""
        return sum((curve.rate() for curve in self.curves), Fraction(0))

    def leaky(self) -> tuple[Fraction, Fraction]:
        """As of every curve."""
        parts = [curve.leaky() for curve in self.curves]
        return sum((burst for burst, _ in parts), Fraction(0)), sum((rate for _, rate in parts), Fraction(0))

    @property
    def depth(self) -> int:
        """As of every curve."""
        return 1 + max(curve.depth for curve in self.curves)


class Tightest(Struct, frozen=True):
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

    def leaky(self) -> tuple[Fraction, Fraction]:
        """As of every curve."""
        return min((curve.leaky() for curve in self.curves), key=lambda pair: (pair[1], pair[0]))

    @property
    def depth(self) -> int:
        """As of every curve."""
        return max(curve.depth for curve in self.curves)


class Moved(Struct, frozen=True):
    """Events that follow those of ``curve`` after a way whose time varies by ``jitter`` ps, and ``extra`` beside them.

    ``extra`` events may have no other bound: what was on its way as a window began, or the start of a primed unit.
    """

    curve: Curve
    jitter: int = 0
    extra: int = 0

    def least_span(self, count: int) -> int:
        """As of every curve."""
        left = count - self.extra
        return max(self.curve.least_span(left) - self.jitter, 0) if left > 0 else 0

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        return 0 if ps < 0 else self.extra + self.curve.most_within(ps + self.jitter)

    def rate(self) -> Fraction:
        """As of every curve."""
        return self.curve.rate()

    def leaky(self) -> tuple[Fraction, Fraction]:
        """As of every curve."""
        burst, rate = self.curve.leaky()
        return burst + rate * self.jitter + self.extra, rate

    @property
    def depth(self) -> int:
        """As of every curve."""
        return self.curve.depth


class Repeated(Struct, frozen=True):
    """Each event of ``curve`` counts as so many ``items``, all at its instant."""

    curve: Curve
    items: int

    def least_span(self, count: int) -> int:
        """As of every curve."""
        return self.curve.least_span(-(-count // self.items))

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        return self.items * self.curve.most_within(ps)

    def rate(self) -> Fraction:
        """As of every curve."""
        return self.items * self.curve.rate()

    def leaky(self) -> tuple[Fraction, Fraction]:
        """As of every curve."""
        burst, rate = self.curve.leaky()
        return self.items * burst, self.items * rate

    @property
    def depth(self) -> int:
        """As of every curve."""
        return self.curve.depth


class Batched(Struct, frozen=True):
    """One event for each ``size`` of ``curve``; as many as ``held`` of them may have come before a window begins."""

    curve: Curve
    size: int
    held: int

    def least_span(self, count: int) -> int:
        """As of every curve."""
        left = count * self.size - self.held
        return self.curve.least_span(left) if left > 0 else 0

    def most_within(self, ps: int) -> int:
        """As of every curve."""
        return 0 if ps < 0 else (self.held + self.curve.most_within(ps)) // self.size

    def rate(self) -> Fraction:
        """As of every curve."""
        return self.curve.rate() / self.size

    def leaky(self) -> tuple[Fraction, Fraction]:
        """As of every curve."""
        burst, rate = self.curve.leaky()
        return (burst + self.held) / self.size, rate / self.size

    @property
    def depth(self) -> int:
        """As of every curve."""
        return self.curve.depth


class Never(Struct, frozen=True):
    """No event at all."""

    def least_span(self, count: int) -> int:
        """As of every curve: beyond all that can be waited for."""
        return BEYOND if count > 0 else 0

    def most_within(self, ps: int) -> int:
        """As of every curve: 0."""
        return 0

    def rate(self) -> Fraction:
        """As of every curve: 0."""
        return Fraction(0)

    def leaky(self) -> tuple[Fraction, Fraction]:
        """As of every curve."""
        return Fraction(0), Fraction(0)

    @property
    def depth(self) -> int:
        """As of every curve."""
        return 0


class Unbounded(Struct, frozen=True):
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

    def leaky(self) -> tuple[Fraction, Fraction]:
        """No number is enough.

        Raises:
            NoBound: always.
        """
        raise NoBound(self.reason)

    @property
    def depth(self) -> int:
        """As of every curve."""
        return 0


def sporadic(distance: int, reason: str = "nothing holds its events apart") -> Curve:
    """Events at least ``distance`` ps apart; without a distance, for ``reason``, there is no bound."""
    return Staircase(Fraction(distance), distance=distance) if distance > 0 else Unbounded(reason)


def thinned(curve: Curve, each: int) -> Curve:
    """Each so many-th event of ``curve``, whichever is the first: ``most_within`` of it, divided and rounded up."""
    if each == 1 or isinstance(curve, Unbounded):
        return curve
    if isinstance(curve, Staircase):
        return Staircase(each * curve.period, curve.jitter, each * curve.distance)
    return Batched(curve, each, each - 1)


def moved(curve: Curve, jitter: int = 0, extra: int = 0) -> Curve:
    """:class:`Moved` in the simplest form that says the same: never one inside another, however long a chain is."""
    if isinstance(curve, Unbounded) or not (jitter or extra):
        return curve
    if isinstance(curve, Tightest):
        return tightest([moved(each, jitter, extra) for each in curve.curves])
    if isinstance(curve, Moved):
        return Moved(curve.curve, curve.jitter + jitter, curve.extra + extra)
    if isinstance(curve, Staircase) and not extra:
        if not curve.distance:
            return Staircase(curve.period, curve.jitter + jitter)
        far = Staircase(Fraction(curve.distance), jitter)
        if curve.distance >= curve.period:
            return far
        return tightest([Staircase(curve.period, curve.jitter + jitter), far])
    return Moved(curve, jitter, extra)


def delayed(curve: Curve, jitter: int, distance: int = 0) -> Curve:
    """Events that follow others after a way whose time varies by ``jitter`` ps, never closer than ``distance``."""
    if isinstance(curve, Unbounded):
        return sporadic(distance, curve.reason)
    late = moved(curve, jitter)
    if not distance:
        return late
    if isinstance(late, Staircase):
        return Staircase(late.period, late.jitter, max(late.distance, distance))
    if isinstance(late, Tightest):  # one of its staircases takes the distance, so that a chain stays as short
        first, *rest = sorted(late.curves, key=lambda each: not isinstance(each, Staircase))
        if isinstance(first, Staircase):
            return tightest([Staircase(first.period, first.jitter, max(first.distance, distance)), *rest])
    return tightest([late, sporadic(distance)])


def tightest(curves: list[Curve]) -> Curve:
    """What all of these promise at once; those without a bound say nothing if another has one.

    Raises:
        IndexError: none is given.
    """
    flat = [part for curve in curves for part in (curve.curves if isinstance(curve, Tightest) else (curve,))]
    kept: list[Curve] = []
    for curve in [each for each in flat if not isinstance(each, Unbounded)]:
        if not any(_says_more(other, curve) for other in kept):
            kept = [other for other in kept if not _says_more(curve, other)] + [curve]
    kept = kept or curves[:1]
    return kept[0] if len(kept) == 1 else Tightest(tuple(kept[:MOST_TERMS]))


def _says_more(one: Curve, other: Curve) -> bool:
    """Whether ``other`` adds nothing beside ``one``: the same curve moved further, or a looser staircase."""
    if one is other:
        return True
    if isinstance(one, Staircase) and isinstance(other, Staircase):
        steeper = one.distance >= other.period or (one.jitter <= other.jitter and one.period >= other.period)
        return steeper and one.distance >= other.distance
    if isinstance(other, Moved):
        mine = one if isinstance(one, Moved) else Moved(one)
        return mine.curve == other.curve and mine.jitter <= other.jitter and mine.extra <= other.extra
    return False


def sum_of(curves: list[Curve]) -> Curve:
    """The sum of some curves; of none, no event at all."""
    for curve in curves:
        if isinstance(curve, Unbounded):
            return curve
    if len(curves) < 2:
        return curves[0] if curves else Never()
    whole = SumOfCurves(tuple(curves))
    return whole if whole.depth <= DEEPEST else _envelope(whole)


def _envelope(curve: Curve) -> Curve:
    """The looser, flat curve b + r·t: what stands in for sums inside sums that would become too deep."""
    burst, rate = curve.leaky()
    return Moved(Staircase(1 / rate) if rate else Never(), 0, ceil(burst))


def swing(curve: Curve) -> float:
    """How far the counts of a curve lie, at most, above a concave line that they never fall below.

    So in t ps more come rate·t events more at least, less its swing. Each kind keeps within 1 of such a line, or within
    a burst; what is taken of curves takes the same of their lines, and the least of concave lines is one.
    """
    if isinstance(curve, SumOfCurves):
        return sum(swing(each) for each in curve.curves)
    if isinstance(curve, Tightest):
        return max(swing(each) for each in curve.curves)
    if isinstance(curve, Moved):
        return swing(curve.curve)
    if isinstance(curve, Repeated):
        return curve.items * swing(curve.curve)
    if isinstance(curve, Batched):
        return swing(curve.curve) / curve.size + 1
    return float(curve.count) if isinstance(curve, Bursts) else 1.0


def source_curve(source: Source) -> Curve:
    """The densest arrivals that a source allows, over the tolerance of its clock."""
    if source.period_least is not None:
        return Staircase(source.period_least, source.jitter)
    if source.burst is not None:
        return Bursts(source.burst.count, source.burst.spaced, source.burst.every)
    if source.gap <= 0:
        raise InternalError(f"source {source.name} has neither a period nor a gap")
    return Staircase(Fraction(source.gap), distance=source.gap)
