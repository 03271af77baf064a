"""Runs of a routine that take more each n-th time: found on a capture, or held against what is modelled of them.

Which run is the first such one a capture does not tell; so of the n places that it can have, one that agrees with every
run is enough.
"""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from tachys.checking.board.nesting import ExecutionTimes
from tachys.model.nodes import Nth
from tachys.model.quantities import Range, time_in_words

FEWEST = 3  # long runs, before they make a rhythm
MOST_STEPS = 8  # between lengths of runs that are tried
Bools = NDArray[np.bool_]


class Rhythm(Struct, frozen=True):
    """Each ``n``-th run, ``long`` of those seen, takes about ``more`` ps more than the others.

    ``longer``: what explains them all, beside what the others may cost.
    """

    n: int
    more: int
    longer: Range
    long: Bools

    @property
    def text(self) -> str:
        """As in a sentence."""
        return f"each {ordinal(self.n)} run takes {time_in_words(self.more)} more"


def ordinal(number: int) -> str:
    """The word for a place: 2nd, 16th."""
    ending = "th" if number % 100 in (11, 12, 13) else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    return f"{number}{ending}"


def rhythm_of(own: ExecutionTimes, first: Range) -> Rhythm | None:
    """The rhythm of runs of which each n-th surely takes longer than all others, which cost ``first``; None: none."""
    count = len(own.least)
    if count < 2 * FEWEST:
        return None
    order = np.argsort(own.most, kind="stable")
    shorter = np.maximum.accumulate(own.most[order])[:-1]  # the longest that any of the runs below a step may be
    longer = np.minimum.accumulate(own.least[order][::-1])[::-1][1:]
    steps = np.argsort(shorter - longer, kind="stable")[:MOST_STEPS]
    for step in sorted(steps.tolist()):  # the lowest step first: what lies above it may have steps of its own
        if longer[step] <= shorter[step]:
            continue
        places = np.sort(order[step + 1 :])
        apart = np.diff(places)
        if len(places) < FEWEST or apart[0] < 2 or (apart != apart[0]).any():
            continue
        n = int(apart[0])
        if places[0] >= n or count - places[-1] > n:
            continue
        long = np.zeros(count, np.bool_)
        long[places] = True
        middle = (own.least + own.most) // 2
        more = int(np.median(middle[long]) - np.median(middle[~long]))
        ends = sorted((int(own.least[long].min()) - first.least, int(own.most[long].max()) - first.most))
        return Rhythm(n, more, Range(max(0, ends[0]), max(0, ends[1])), long)
    return None


def long_runs(own: ExecutionTimes, first: Range, nth: Nth, slack: int) -> Bools | None:
    """Which runs are the n-th ones, as far as that can be told; None where there are too few to tell."""
    count, n = len(own.least), nth.n
    if n == 1:
        return np.ones(count, np.bool_)
    if count < 2 * n:
        return None
    not_short = own.least - slack > first.most
    not_long = (own.least - slack > first.most + nth.cost.most) | (own.most + slack < first.least + nth.cost.least)
    place = np.arange(count) % n
    wrong = np.bincount(place, not_long, n) - np.bincount(place, not_short, n) + not_short.sum()
    middle = (own.least + own.most) // 2
    mean = np.bincount(place, middle, n) / np.bincount(place, minlength=n)
    best = np.lexsort((-mean, wrong))[0]
    long: Bools = place == best
    return long
