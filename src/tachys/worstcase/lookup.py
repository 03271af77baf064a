"""Curves of events worked out at many places at once, as columns, and looked up among them.

Each kind of curve says at any place what it says there by itself; only the n-th event of several curves together stands
nowhere: where few places are asked, it is searched for by when it comes.
"""

from __future__ import annotations

from array import array
from bisect import bisect_right
from contextlib import suppress

import numpy as np
from numpy.typing import NDArray

from tachys.worstcase.arrivals import (
    BEYOND,
    Batched,
    Bursts,
    Curve,
    Moved,
    Never,
    NoBound,
    Repeated,
    Staircase,
    SumOfCurves,
    Tightest,
    swing,
)

Column = NDArray[np.int64]
SELDOM, MOST_LOOKED_UP = 8, 300_000  # how often a curve is asked before its least spans are kept, and how many
_DENSE = 16  # as many places as that of all: to put them in order is sooner done than to search for each


def least_spans(curve: Curve, count: int) -> Column:
    """The least spans in ps of 1, 2, … ``count`` events: all of :meth:`Curve.least_span` at once."""
    return spans_at(curve, np.arange(1, max(count, 0) + 1, dtype=np.int64))


def spans_at(curve: Curve, counts: Column) -> Column:
    """The least spans in ps of so many events each: :meth:`Curve.least_span` of ``counts``, which grow and are >= 1."""
    most = int(counts.max(initial=0))
    if not most:
        return np.zeros(0, np.int64)
    if isinstance(curve, Tightest):
        tightest_yet: Column = np.maximum.reduce([spans_at(each, counts) for each in curve.curves])
        return tightest_yet
    if isinstance(curve, Moved):
        return np.maximum(_behind(curve.curve, counts - curve.extra) - curve.jitter, 0)
    if isinstance(curve, Repeated):
        whole = -(-counts // curve.items)
        first = np.append(True, whole[1:] != whole[:-1])
        found: Column = spans_at(curve.curve, whole[first])[np.cumsum(first) - 1]
        return found
    if isinstance(curve, Batched) and most * curve.size < BEYOND:
        return _behind(curve.curve, counts * curve.size - curve.held)
    if isinstance(curve, SumOfCurves):
        if most > _DENSE * len(counts):
            with suppress(NoBound):
                return _searched(curve, counts)
        every = [least_spans(each, most) for each in curve.curves]
        in_order: Column = np.sort(np.concatenate(every))[counts - 1]
        return in_order
    steps = counts - 1
    if isinstance(curve, Bursts) and curve.every * most < BEYOND:
        bursts, rest = np.divmod(steps, curve.count)
        across = curve.every - (curve.count - rest) * curve.spaced
        return bursts * curve.every + np.where(rest > 0, np.minimum(rest * curve.spaced, across), 0)
    if isinstance(curve, Staircase) and max(curve.period.numerator, curve.distance) * most < BEYOND:
        late = steps * curve.period.numerator // curve.period.denominator - curve.jitter
        return np.maximum(np.maximum(late, steps * curve.distance), 0)
    return np.array([min(curve.least_span(count), BEYOND) for count in counts.tolist()], np.int64)


def _behind(curve: Curve, counts: Column) -> Column:
    """The same, 0 where no event is asked for."""
    asked = int(np.searchsorted(counts, 1))
    return np.append(np.zeros(asked, np.int64), spans_at(curve, counts[asked:]))


def _searched(curve: Curve, counts: Column) -> Column:
    """The same, by halving the time in which so many events come.

    Raises:
        NoBound: nothing holds them apart.
    """
    high, most = 1, int(counts[-1])
    while high < BEYOND and curve.most_within(high) < most:
        high *= 2
    # of each, the least time in which so many come lies above ``low`` and is at most ``above``: no sooner than the line
    # that the curve never exceeds allows, no later than by that which it never falls below
    burst, rate = (float(each) for each in curve.leaky())
    low, above = np.full(len(counts), -1, np.int64), np.full(len(counts), high, np.int64)
    if rate:
        soonest, latest = (counts - burst) / rate * (1 - 1e-9), (counts + swing(curve)) / rate * (1 + 1e-9)
        low = np.maximum(low, np.minimum(soonest, high).astype(np.int64) - 2)
        above = np.minimum(above, np.minimum(latest, high).astype(np.int64) + 2)
    for _ in range(int((above - low).max()).bit_length()):
        middle = np.maximum((low + above) // 2, 0)
        enough = counts_within(curve, middle) >= counts
        low, above = np.where(enough, low, middle), np.where(enough, middle, above)
    return above


def counts_within(curve: Curve, windows: Column) -> Column:
    """The most events in closed windows of so many ps each, 0 or more: :meth:`Curve.most_within` of each.

    Raises:
        NoBound: nothing holds them apart.
    """
    longest = int(windows.max(initial=0))
    if isinstance(curve, Tightest):
        fewest: Column = np.minimum.reduce([counts_within(each, windows) for each in curve.curves])
        return fewest
    if isinstance(curve, SumOfCurves):
        every: Column = np.add.reduce([counts_within(each, windows) for each in curve.curves])
        return every
    if isinstance(curve, Moved):
        return curve.extra + counts_within(curve.curve, windows + curve.jitter)
    if isinstance(curve, Repeated):
        return curve.items * counts_within(curve.curve, windows)
    if isinstance(curve, Batched):
        return (curve.held + counts_within(curve.curve, windows)) // curve.size
    if isinstance(curve, Never):
        return np.zeros(len(windows), np.int64)
    if isinstance(curve, Bursts):
        bursts, rest = np.divmod(windows, curve.every)
        dense = np.maximum(rest // curve.spaced, np.maximum(curve.count + (rest - curve.every) // curve.spaced, 0))
        found: Column = bursts * curve.count + np.minimum(dense, curve.count - 1) + 1
        return found
    if isinstance(curve, Staircase):
        over, under = curve.period.numerator, curve.period.denominator
        if max((longest + curve.jitter + 1) * under, over) < BEYOND:
            steps = ((windows + curve.jitter + 1) * under - 1) // over
            return (np.minimum(steps, windows // curve.distance) if curve.distance else steps) + 1
    return np.array([curve.most_within(window) for window in windows.tolist()], np.int64)


class LookedUp:
    """How many events of a curve come at most in a window, looked up among its least spans once it is asked often."""

    def __init__(self, curve: Curve) -> None:
        self.curve = curve
        self._asked = 0
        self._spans = array("q")

    def most_within(self, ps: int) -> int:
        """As of every curve.

        Raises:
            NoBound: nothing holds them apart.
        """
        if self._spans and ps < self._spans[-1]:
            return bisect_right(self._spans, ps)
        count = self.curve.most_within(ps)
        self._asked += 1
        if self._asked > SELDOM + count // 500 and count < MOST_LOOKED_UP:  # until then that would take longer
            self._keep(count + count // 4 + SELDOM)
        return count

    def least_spans(self, count: int) -> Column:
        """Of the curve; the longest column is kept, and a longer one made with room for more."""
        if count > MOST_LOOKED_UP:
            return least_spans(self.curve, count)
        if count > len(self._spans):
            self._keep(count + len(self._spans) // 4)
        return np.frombuffer(self._spans, np.int64, count) if count else np.zeros(0, np.int64)

    def _keep(self, count: int) -> None:
        self._spans = array("q", least_spans(self.curve, count).tobytes())
