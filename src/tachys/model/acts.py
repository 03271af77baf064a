"""What a step of the loop does once it has opened, act by act: it waits, works, pauses, halts.

Bounds add up what each act takes, the engine plays one after the other, a lane shows the state of each. An act whose
time is its own says it in ``takes``; how long a wait or a halt lasts hangs on others (``worstcase/loop.py``).
"""

from __future__ import annotations

from typing import ClassVar, Literal

from msgspec import Struct
from msgspec.structs import replace

from tachys.model.events import Thing
from tachys.model.quantities import ZERO, Range

ActState = Literal["runs", "spins", "sleeps"]


class Guard(Struct, frozen=True):
    """A part of a body that holds off lines of ``urgency`` and less urgent ones.

    ``length`` None: to the end of the body, whatever it costs. ``at`` and ``length`` count CPU time of the body.
    """

    urgency: int
    at: Range
    length: Range | None

    def later(self, by: Range, longer: Range = ZERO) -> Guard:
        """The same so much CPU time later in the body, and longer; one that holds to its end still does."""
        return replace(self, at=self.at + by, length=None if self.length is None else self.length + longer)

    def longest(self, body: int) -> int:
        """The most that it lasts in a body of ``body`` ps."""
        return max(0, body - self.at.least) if self.length is None else self.length.most

    def last(self, body: int) -> int:
        """When it is over at the latest, in CPU time of a body of ``body`` ps."""
        return body if self.length is None else self.at.most + self.length.most


class Act(Struct, frozen=True):
    """One act; ``part``: its word in figures, ``state``: in lanes, ``burns``: it takes CPU time, which is load.

    ``by_clock``: what it ``takes`` passes by the clock on the wall.
    """

    part: ClassVar[str]
    state: ClassVar[ActState]
    burns: ClassVar[bool] = False
    by_clock: ClassVar[bool] = False

    @property
    def takes(self) -> Range:
        """The time in ps that it takes by itself, nothing of what it waits for included."""
        return ZERO

    @property
    def gives_up(self) -> Range | None:
        """After how many ps the step may end here, without its later acts; None: it does not."""
        return None

    @property
    def held(self) -> tuple[Guard, ...]:
        """Where it holds lines off."""
        return ()


class Wait(Act, frozen=True):
    """Spins until a unit is at rest or a flag is set, which it takes; after ``at_most`` it gives up.

    ``next``: until the first end of the unit since the step began that no wait of this run has used.
    """

    part: ClassVar[str] = "waits"
    state: ClassVar[ActState] = "spins"
    on: Thing
    at_most: Range | None = None
    next: bool = False

    @property
    def gives_up(self) -> Range | None:
        """Its limit."""
        return self.at_most

    @property
    def flag(self) -> str | None:
        """The flag that it waits for, if it is one."""
        return self.on.name if self.on.kind == "flag" else None


class Work(Act, frozen=True):
    """Burns ``cost`` ps of CPU time; ``masked``: behind a halt, if it was one, before interrupts are taken."""

    part: ClassVar[str] = "cost"
    state: ClassVar[ActState] = "runs"
    burns: ClassVar[bool] = True
    cost: Range = ZERO
    guards: tuple[Guard, ...] = ()
    masked: bool = False

    @property
    def takes(self) -> Range:
        """Its cost."""
        return self.cost

    @property
    def held(self) -> tuple[Guard, ...]:
        """Its guards."""
        return self.guards


class Pause(Act, frozen=True):
    """Spins for ``length`` ps by the clock on the wall."""

    part: ClassVar[str] = "pause"
    state: ClassVar[ActState] = "spins"
    by_clock: ClassVar[bool] = True
    length: Range = ZERO

    @property
    def takes(self) -> Range:
        """Its length."""
        return self.length


MOST_IN_A_ROW = 5000  # items that a run takes until nothing is in: beyond that it is taken to have no end


class Drain(Act, frozen=True):
    """Takes what is in a buffer as the body begins, ``most`` at most, and burns ``each`` ps of CPU time for each.

    One leaves as its ``each`` ends. ``items``: how many a run can take; bounds narrow it. ``until_empty``: what comes
    meanwhile is taken too, as nothing else is left, and so on.
    """

    part: ClassVar[str] = "each"
    state: ClassVar[ActState] = "runs"
    burns: ClassVar[bool] = True
    buffer: str = ""
    most: int = 1
    each: Range = ZERO
    items: Range = ZERO
    until_empty: bool = False

    @property
    def at_most(self) -> int:
        """How many items one run can take, whatever is in as it begins."""
        return MOST_IN_A_ROW if self.until_empty else self.most

    @property
    def endless(self) -> bool:
        """Whether no end of a run is known: as much comes meanwhile as it takes."""
        return self.until_empty and self.items.most >= MOST_IN_A_ROW

    def why_endless(self, who: str) -> str:
        """Why no end is known, in words."""
        return f"as much can come into buffer.{self.buffer} as {who} takes meanwhile"

    @property
    def takes(self) -> Range:
        """What all it takes cost."""
        return Range(self.items.least * self.each.least, self.items.most * self.each.most)


class Put(Act, frozen=True):
    """Puts ``items`` into a buffer, one by one, and spins while that is full, for ``blocks`` ps; bounds narrow it."""

    part: ClassVar[str] = "puts"
    state: ClassVar[ActState] = "spins"
    by_clock: ClassVar[bool] = True
    buffer: str = ""
    items: Range = ZERO
    blocks: Range = ZERO

    @property
    def takes(self) -> Range:
        """How long it spins."""
        return self.blocks


class Halt(Act, frozen=True):
    """Halts until a routine has been served, unless one of the flags ``unless`` is set: it looks and halts as one.

    ``depth``: how deep, by its name; the plain sleep has none. ``stops``: the sources and units that stand still
    meanwhile. While one of the units ``plain_if`` is at work it sleeps plainly, and wakes in ``plain``. Interrupts stay
    held off for ``masked`` after waking: that is the work which stands behind it.
    """

    part: ClassVar[str] = "wakes"
    state: ClassVar[ActState] = "sleeps"
    unless: tuple[str, ...] = ()
    wake: Range = ZERO
    depth: str = ""
    stops: tuple[Thing, ...] = ()
    plain_if: tuple[str, ...] = ()
    plain: Range = ZERO
    masked: Range = ZERO

    @property
    def waking(self) -> Range:
        """How long it takes to wake, from whichever sleep."""
        if not self.plain_if:
            return self.wake
        return Range(min(self.wake.least, self.plain.least), max(self.wake.most, self.plain.most))

    @property
    def states(self) -> tuple[str, ...]:
        """The states in which the core may be while it halts."""
        if not self.depth:
            return ("sleep",)
        return (f"sleep.{self.depth}", *(["sleep"] if self.plain_if else []))

    @property
    def late(self) -> int:
        """The most from what wakes it to when interrupts are taken, in ps."""
        return self.waking.most + self.masked.most

    @property
    def takes(self) -> Range:
        """Waking, where it surely halts."""
        return Range(0 if self.unless else self.waking.least, self.waking.most)


ACTS: tuple[type[Act], ...] = (Wait, Work, Pause, Halt, Drain, Put)  # the engine's opcodes are their places here
