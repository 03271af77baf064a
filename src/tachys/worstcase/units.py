"""Units: how long from a start to its end, and whether a start may find the unit busy and be lost."""

from __future__ import annotations

from tachys.figures import Part, summed
from tachys.model.nodes import Unit
from tachys.model.quantities import time_in_words
from tachys.worstcase.arrivals import Curve, NoBound
from tachys.worstcase.events import Events
from tachys.worstcase.queueing import MOST_STARTS
from tachys.worstcase.result import UnitBounds


def unit_bounds(unit: Unit, events: Events) -> UnitBounds:
    """The bounds of one unit.

    A start is lost by ``drop`` and ``restart`` if another can come no more than the longest operation after it; by a
    ``queue`` if more than ``depth`` can wait. What comes at the very instant of an end may come before it.
    """
    who = unit.thing
    wait = events.wait(unit)
    time = summed(
        unit.takes.least,
        [Part("starts that wait before it", who, 1, wait), Part("operation", who, 1, unit.takes.most)],
    )
    if events.rings.passes_end(who) or (unit.depth and who in events.rings.turns):
        return UnitBounds(unit.name, time, False, "", 0, int(wait > 0))  # the only token of its ring starts it
    starts = events.starts(unit)
    try:
        depth = events.backlog(unit).depth
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


def _lost_in_row(unit: Unit, starts: Curve, depth: int | None) -> int | None:
    """The most starts in a row that can be lost; None: no number is enough."""
    longest = unit.takes.most
    if unit.busy == "queue":
        lost = depth is None or depth > unit.depth
        return starts.most_within(longest) if lost else 0
    if starts.least_span(2) > longest:
        return 0
    if unit.busy == "drop":
        return starts.most_within(longest) - 1
    for row in range(1, MOST_STARTS):
        if starts.least_span(row + 1) > row * longest:
            return row - 1
    return None
