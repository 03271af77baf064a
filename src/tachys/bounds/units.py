"""Units: how long from a start to its end, and whether a start may find the unit busy and be lost."""

from __future__ import annotations

from tachys.bounds.arrivals import Curve, NoBound, most_before
from tachys.bounds.events import Events
from tachys.bounds.result import Figure, Part, UnitBounds
from tachys.model.quantities import time_in_words
from tachys.model.system import Unit

MOST_STARTS = 20_000


def unit_bounds(unit: Unit, events: Events) -> UnitBounds:
    """The bounds of one unit.

    A start is lost by ``drop`` and ``restart`` if another can come less than the longest operation after it; by a
    ``queue`` if more than ``depth`` can wait: the largest backlog of a server that takes the longest time for each.
    """
    who = f"unit.{unit.name}"
    parts = [Part("operation", who, 1, unit.takes.most)]
    if unit.depth:
        parts.insert(0, Part("starts that wait before it", who, unit.depth, unit.takes.most))
    time = Figure(unit.takes.least, unit.longest, tuple(parts))
    starts = events.starts(unit)
    try:
        depth = _depth_needed(starts, unit.takes.most)
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


def _depth_needed(starts: Curve, longest: int) -> int | None:
    """The most starts that wait at once if none is lost; None: more and more.

    Raises:
        NoBound: nothing holds the starts apart.
    """
    if starts.rate() * longest > 1:
        return None
    waiting, count = 0, 1
    while count <= MOST_STARTS:
        span = starts.least_span(count)
        waiting = max(waiting, count - 1 - span // longest)
        if count > 1 and span >= (count - 1) * longest:
            return waiting  # the backlog is worked off: what comes later is no denser than what was looked at
        count += 1
    return None


def _lost_in_row(unit: Unit, starts: Curve, depth: int | None) -> int | None:
    """The most starts in a row that can be lost; None: no number is enough."""
    longest = unit.takes.most
    if unit.busy == "queue":
        lost = depth is None or depth > unit.depth
        return most_before(starts, longest) if lost else 0
    if starts.least_span(2) >= longest:
        return 0
    if unit.busy == "drop":
        return most_before(starts, longest) - 1
    for row in range(1, MOST_STARTS):
        if starts.least_span(row + 1) >= row * longest:
            return row - 1
    return None
