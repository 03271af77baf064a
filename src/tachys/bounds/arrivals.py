"""How densely events can come: the least span of n events, and its inverses.

A curve promises that any n events in a row lie at least ``least_span(n)`` ps apart, first to last. The most events in
a window is the inverse: in a closed window [0, t] and in a half-open one [0, t) these differ where t is hit exactly.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from tachys.errors import InternalError
from tachys.model.system import Source


@dataclass(frozen=True, slots=True)
class Staircase:
    """Periodic with jitter and a distance: least span of n events = max((n-1)·distance, floor((n-1)·period) - jitter).

    ``period`` in rational ps (> 0), ``jitter`` and ``distance`` in whole ps (>= 0). A sporadic source is a period
    alone. Formula of K. Tindell, A. Burns, A. Wellings, "An extendible approach for analyzing fixed priority hard
    real-time tasks", Real-Time Systems 6 (1994), with the floor of design: releases fall on whole ps.
    """

    period: Fraction
    jitter: int = 0
    distance: int = 0

    def least_span(self, count: int) -> int:
        """The least span in ps of ``count`` events in a row (count >= 1; one event spans 0)."""
        steps = count - 1
        return max(steps * self.distance, steps * self.period.numerator // self.period.denominator - self.jitter, 0)

    def most_within(self, ps: int) -> int:
        """The most events in a closed window [0, ps]; 0 for ps < 0."""
        if ps < 0:
            return 0
        # floor(k·P) <= ps + J  <=>  k·P < ps + J + 1
        steps = ((ps + self.jitter + 1) * self.period.denominator - 1) // self.period.numerator
        if self.distance:
            steps = min(steps, ps // self.distance)
        return steps + 1

    def most_before(self, ps: int) -> int:
        """The most events in a half-open window [0, ps)."""
        return self.most_within(ps - 1)

    def rate(self) -> Fraction:
        """The most events per ps in the long run."""
        return 1 / max(self.period, Fraction(self.distance))


def source_curve(source: Source) -> Staircase:
    """The densest arrivals that a source allows, over the tolerance of its clock."""
    if source.period_least is not None:
        return Staircase(source.period_least, source.jitter)
    if source.gap <= 0:
        raise InternalError(f"source {source.name} has neither a period nor a gap")
    return Staircase(Fraction(source.gap), distance=source.gap)


def least_rate(source: Source) -> Fraction:
    """The fewest events per ps that a source brings in the long run; 0 for a sporadic one."""
    return 1 / source.period_most if source.period_most is not None else Fraction(0)
