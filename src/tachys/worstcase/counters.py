"""Counters that are looked at: how much is counted between two looks, and what no look may ever show.

A count at the instant of a look is seen, so between two looks at t and u what comes in (t, u] is counted. A counter of
S states of which exactly c pass between two looks shows every gcd(c, S)-th of its values, each once in S / gcd(c, S)
looks (residues of an arithmetic progression). That holds where looking and counting hang on one clock; elsewhere the
counts lie between two numbers, and any value may stay unseen for as long as phases drift that way.
"""

from __future__ import annotations

from fractions import Fraction
from math import ceil, floor, gcd

from msgspec import Struct

from tachys.model.events import Event
from tachys.model.names import ticks_of
from tachys.model.nodes import ReadCounter, Source
from tachys.model.quantities import PS_PER_SECOND
from tachys.worstcase.arrivals import NoBound
from tachys.worstcase.eventbounds import EventBounds


class CounterBounds(Struct, frozen=True):
    """Of one counter the fewest and the most counts between two looks, from the first count on.

    ``most`` None: without end, for a ``reason``. ``exact``: it is always the same. ``missed``: rounds that can pass
    unseen between two looks. ``shown``: how many of its values are surely shown in the long run, each once in so many
    looks; 0: none is sure.
    """

    name: str
    states: int
    fewest: int
    most: int | None
    reason: str = ""

    @property
    def exact(self) -> bool:
        """Whether the same number passes between any two looks."""
        return self.most == self.fewest

    @property
    def missed(self) -> int | None:
        """The most rounds that pass unseen between two looks."""
        return None if self.most is None else self.most // self.states

    @property
    def shown(self) -> int:
        """How many values are surely shown, each again and again."""
        if self.most is not None and self.most <= 1 and self.fewest == self.most:
            return self.states
        return self.states // gcd(self.fewest, self.states) if self.exact and self.fewest else 0

    @property
    def told(self) -> str:
        """What looks show, in words."""
        if self.most == 0:
            return "nothing is counted"
        if self.shown == self.states:
            return f"every value, each once in {self.states} looks"
        if self.shown:
            apart = self.states // self.shown
            return (
                f"{self.shown} of {self.states} values, {apart} apart, each once in {self.shown} looks; no other ever"
            )
        if self.most is not None and self.most <= 1:
            return "every value that it takes"
        return "any value may stay unseen"


def counter_bounds(reach: EventBounds, counter: ReadCounter) -> CounterBounds:
    """The bounds of a counter."""
    same = _same(reach, counter)
    if same is not None:
        return CounterBounds(counter.name, counter.states, floor(same), ceil(same))
    least, most, reason = _between_looks(reach, counter)
    fewest, many = _fewest(reach, counter, least), None if most is None else _most(reach, counter, most)
    if most is not None and many is None:
        reason = f"nothing holds {counter.of} apart"
    return CounterBounds(counter.name, counter.states, fewest, many, reason)


def _between_looks(reach: EventBounds, counter: ReadCounter) -> tuple[int, int | None, str]:
    """(the least and the most time in ps between two looks, why there is no most)."""
    found = [reach.distances(event) for event in counter.read_by]
    if len(found) == 1:
        least, figure = found[0]
        return least, figure.most, figure.reason
    gaps = [gap for event in counter.read_by if (gap := reach.gap(event)) is not None]  # also to the first of each
    return 0, min(gaps, default=None), "" if gaps else found[0][1].reason or "none of its looks is sure to come"


def _fewest(reach: EventBounds, counter: ReadCounter, length: int) -> int:
    """The fewest counts in any window (t, t + length]."""
    if counter.clock is not None:
        if any(step.halt is not None and counter.thing in step.halt.stops for step in reach.system.steps):
            return 0
        slow = counter.clock.hertz * (1 - counter.clock.tolerance)
        return floor(slow * length / PS_PER_SECOND)
    assert counter.of is not None
    gap = reach.gap(counter.of)
    ways = [length // gap if gap else 0]
    source = reach.system.source(counter.of.name) if counter.of.kind == "source" else None
    if source is not None and source.firm_period is not None:
        ways.append(floor((length - source.jitter) / source.firm_period))
    return max(0, *ways)


def _most(reach: EventBounds, counter: ReadCounter, length: int) -> int | None:
    """The most counts in any window (t, t + length]."""
    if counter.clock is not None:
        return floor(counter.clock.hertz * (1 + counter.clock.tolerance) * length / PS_PER_SECOND) + 1
    assert counter.of is not None
    try:
        return reach.events.curve(counter.of).most_within(length - 1) if length else 0
    except NoBound:
        return None


def _same(reach: EventBounds, counter: ReadCounter) -> Fraction | None:
    """How many counts pass between two looks where both hang on one clock; None: they do not."""
    system = reach.system
    if len(counter.read_by) != 1:
        return None
    (look,) = counter.read_by
    if counter.of is not None and look.kind in ("unit", "step"):
        timer = look.name if look.kind == "unit" else ticks_of(look.name)
        unit = next((each for each in system.units if each.name == timer), None)
        if unit is not None and unit.counts is not None and unit.counts.of == counter.of and unit.counts.repeats:
            soon = look == unit.end or (look.moment == "start" and _soon(reach, timer, counter.of))
            return Fraction(unit.counts.n) if soon and not unit.on and not unit.counts.cancelled_by else None
    if look.kind != "source":
        return None
    period, root = _grid(system.source(look.name))
    if counter.clock is not None:
        rate = counter.clock.hertz / PS_PER_SECOND
        return None if period is None or root != counter.root else period * rate
    assert counter.of is not None
    if counter.of.kind != "source":
        return None
    counted, other = _grid(system.source(counter.of.name))
    return period / counted if period is not None and counted is not None and root == other else None


def _grid(source: Source) -> tuple[Fraction | None, str]:
    """(the period of a source on an exact grid in ps, the root of the clock that counts it; "" for seconds)."""
    firm = source.steady is not None and not source.jitter
    if source.clock is None and source.period_least != source.period_most:
        firm = False
    return source.steady if firm else None, source.clock or ""


def _soon(reach: EventBounds, timer: str, counted: Event) -> bool:
    """Whether a step that is due by ticks has begun before the next tick comes, however late it is."""
    if timer in reach.buffers:
        late, lost = reach.buffers[timer].reaction, reach.buffers[timer].lost
    elif timer in reach.flags:
        late, lost = reach.flags[timer].reaction, reach.flags[timer].overwritten
    else:
        return False
    try:
        return not lost and late.most is not None and late.most < reach.events.curve(counted).least_span(2)
    except NoBound:
        return False
