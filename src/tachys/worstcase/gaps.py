"""The longest time from any instant, time zero included, to the next event of each kind.

An event follows the soonest of its causes: the shortest way through what causes what, found as shortest ways are (E.
Dijkstra, Numerische Mathematik 1, 1959; with sums that never shrink on the way: D. Knuth, Information Processing
Letters 6, 1977). So chains may be long and turn in rings.
"""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Callable
from math import ceil

from tachys.model.events import Event
from tachys.model.nodes import Source

Follows = Callable[[int], int | None]


def source_gap(source: Source) -> int | None:
    """The longest time in ps to the next event of a source; None: it may stay away for ever."""
    if source.firm_period is None:
        return None
    return max(ceil(source.firm_period), source.offset or 0) + source.jitter


class Gaps:
    """Shortest ways from what is sure to come; ``within`` holds the gap of each event that is sure to come."""

    def __init__(self) -> None:
        self.within: dict[Event, int] = {}
        self._sure: list[tuple[int, Event]] = []
        self._follow: dict[Event, list[tuple[Event, Follows]]] = defaultdict(list)

    def sure(self, event: Event, gap: int | None) -> None:
        """An event comes within ``gap`` ps by itself; None: it does not."""
        if gap is not None:
            heapq.heappush(self._sure, (gap, event))

    def follows(self, event: Event, causes: tuple[Event, ...], way: Follows) -> None:
        """An event comes ``way(gap)`` after any instant if one of its causes comes within ``gap`` of any instant."""
        for cause in causes:
            self._follow[cause].append((event, way))

    def after(self, event: Event, causes: tuple[Event, ...], delay: int | None) -> None:
        """An event comes at most ``delay`` ps after each of its causes; None: it need not come."""
        if delay is not None:
            self.follows(event, causes, lambda gap: gap + delay)

    def settle(self) -> Gaps:
        """Work out all gaps."""
        while self._sure:
            gap, event = heapq.heappop(self._sure)
            if event in self.within:
                continue
            self.within[event] = gap
            for after, way in self._follow[event]:
                if after not in self.within:
                    self.sure(after, way(gap))
        return self
