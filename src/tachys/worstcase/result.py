"""What the bounds say of each thing, as plain records."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from msgspec import Struct, field

from tachys.figures import Figure


class Within(Struct, frozen=True):
    """The bounds of an event within a routine: from what that serves, and from its first instruction."""

    response: Figure
    span: Figure


class IsrBounds(Struct, frozen=True):
    """The bounds of one routine. ``pending_needed`` None: no depth is enough.

    ``in_a_row``: the longest time in ps from the request of a buffer to the end of the first run, of the second, and so
    on, if each asks again as the one before ends. ``inner``: of each event within it, how long after what it serves it
    comes, and how long after the first instruction.
    """

    name: str
    latency: Figure
    response: Figure
    span: Figure
    lost: bool
    lost_reason: str
    pending_needed: int | None
    in_a_row: tuple[int, ...] = ()
    inner: Mapping[str, Within] = field(default_factory=dict)

    def until(self, moment: str) -> Figure:
        """From what it serves to its start, its end, or an event within it."""
        if moment in self.inner:
            return self.inner[moment].response
        return self.latency if moment == "start" else self.response

    def within(self, moment: str) -> Figure:
        """From its first instruction to its end, or to an event within it."""
        return self.inner[moment].span if moment in self.inner else self.span


class UnitBounds(Struct, frozen=True):
    """The bounds of one unit: start to end; whether a start may be lost, how many in a row, the depth that is needed.

    ``lost_in_row`` and ``depth_needed`` None: no number is enough. A unit that is asked loses one where it finds
    nothing in; ``lost_in_all``: at most so many are, if that is known.
    """

    name: str
    time: Figure
    lost: bool
    lost_reason: str
    lost_in_row: int | None
    depth_needed: int | None
    lost_in_all: int | None = None


class FlagBounds(Struct, frozen=True):
    """The bounds of one flag: set to handled, and whether it may be set again before that.

    ``passing``: set to handled once the start-up is over, where that is something else.
    """

    name: str
    reaction: Figure
    overwritten: bool
    reason: str
    passing: Figure | None = None


class BufferBounds(Struct, frozen=True):
    """The bounds of one buffer: the most items that would be in at once if there were room (None: more and more).

    ``taken``: the most that a run takes; ``reaction``: from the put of an item to the start of what takes it; ``time``:
    to its leaving; ``lost``: whether one may be; ``full_after``: the shortest time in ps in which one more can come
    than it holds.
    """

    name: str
    level: int | None
    taken: int
    reaction: Figure
    time: Figure
    lost: bool
    reason: str
    full_after: int


class StepBounds(Struct, frozen=True):
    """The bounds of one step: start to start, start to end, and for a software timer due to start.

    ``drifts``: its beginnings move away from the grid for good. ``gap``: the longest time from any instant to the next
    start, if that hangs on no flag, or on all of some, and has a bound; ``again``: the same once the start-up is over.
    """

    name: str
    interval: Figure
    duration: Figure
    late: Figure | None
    drifts: bool
    gap: int | None = None
    again: int | None = None


class LoadShare(Struct, frozen=True):
    """What one routine or step takes of the core in the long run: [least, most] as a share of one."""

    who: str
    least: Fraction
    most: Fraction


class Window(Struct, frozen=True):
    """The most load of any window of ``length`` ps, and who takes how much of it (shares of one)."""

    length: int
    most: Fraction
    shares: tuple[tuple[str, Fraction], ...]


class LoadBounds(Struct, frozen=True):
    """Long-run load; ``most`` is at most one. ``storms``: routines that alone can take the core.

    Each of the ``shares`` is what one takes at most by itself: not all of them can at once. ``groups``: what routines,
    loop and nobody take.
    """

    least: Fraction
    most: Fraction
    shares: tuple[LoadShare, ...]
    groups: tuple[LoadShare, ...] = ()
    reason: str = ""
    windows: tuple[Window, ...] = ()
    storms: tuple[str, ...] = ()


class Spreads(Struct):
    """How much the time from cause to an event varies, in ps, by event; None: without bound.

    ``late``: of steps against their timers, ``reacts``: against the flag that they take, of those that others follow.
    """

    spread: dict[str, int | None] = field(default_factory=dict)
    late: dict[str, int | None] = field(default_factory=dict)
    reacts: dict[str, int | None] = field(default_factory=dict)
