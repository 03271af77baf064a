"""A queue in front of a unit: how many starts wait in it, and how long, if it always works as long as it can.

The n-th start since the unit was last at rest finds n - 1 before it, of which one more has ended each ``longest`` ps.
(R. Cruz, "A calculus for network delay, part I", IEEE Trans. Information Theory 37, 1991.)
"""

from __future__ import annotations

from msgspec import Struct

from tachys.worstcase.arrivals import Curve

MOST_STARTS = 5_000


class Backlog(Struct, frozen=True):
    """The most starts that wait at once, and the longest wait in ps; None: more and more."""

    depth: int | None
    wait: int | None


ENDLESS = Backlog(None, None)


def backlog(starts: Curve, longest: int) -> Backlog:
    """The backlog of a unit that takes ``longest`` ps for each of ``starts``, if none is lost.

    A start at the very instant of an end may come before it or after it, so it is counted as waiting.

    Raises:
        NoBound: nothing holds the starts apart.
    """
    if starts.rate() * longest > 1:
        return ENDLESS
    depth, wait = 0, 0
    for count in range(2, MOST_STARTS + 1):
        span, before = starts.least_span(count), count - 1
        ended = max(0, -(-span // longest) - 1)  # strictly before this start
        depth = max(depth, before - ended)
        wait = max(wait, before * longest - span)
        if span >= before * longest:
            return Backlog(depth, wait)  # worked off: what comes later is no denser than what was looked at
    return ENDLESS
