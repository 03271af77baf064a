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
from tachys.model.nodes import Source, Unit
from tachys.model.system import System

Follows = Callable[[int], int | None]


def source_gap(source: Source) -> int | None:
    """The longest time in ps to the next event of a source; None: it may stay away for ever."""
    if source.period_most is None:
        return None
    return max(ceil(source.period_most), source.offset or 0) + source.jitter


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

    def unit(self, unit: Unit, longest: int, *, lost: bool = True) -> None:
        """The events of a unit that works for ``longest`` ps at most, waiting included; ``lost``: a start may be.

        It ends within its time after whatever start comes, lost or not; one that is restarted may never end. A start
        that is dropped finds an operation at work: the next one after its end is not dropped.
        """
        if lost and unit.busy == "restart":
            self.after(unit.start, unit.on, 0)
            return
        self.after(unit.end, unit.on, longest)
        again = 2 if lost and unit.busy == "drop" else 1
        self.follows(unit.start, unit.on, lambda gap: again * gap + (longest if lost or unit.depth else 0))

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


def hardware_gaps(system: System, wait: Callable[[Unit], int]) -> Gaps:
    """The gaps of sources and units alone, before anything is known of routines and steps; ``wait`` for each unit."""
    gaps = Gaps()
    for source in system.sources:
        gaps.sure(source.event, source_gap(source))
    for unit in system.units:
        gaps.unit(unit, wait(unit) + unit.takes.most)
    return gaps.settle()
