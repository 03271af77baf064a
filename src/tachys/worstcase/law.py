"""What paper can be asked about each node of a model: how its events come, how long they stay away, what is lost.

Curves, gaps, rates, distances and ways walk the nodes and ask these laws; ``laws`` has them kind by kind.
"""

from __future__ import annotations

from fractions import Fraction
from typing import Any, ClassVar, Protocol

from msgspec import Struct

from tachys.figures import Figure, Part
from tachys.model.events import Event, Thing
from tachys.model.nodes import Buffer, Step, Unit
from tachys.model.system import System
from tachys.worstcase.arrivals import Curve
from tachys.worstcase.gaps import Gaps
from tachys.worstcase.queueing import Backlog
from tachys.worstcase.result import BufferBounds, FlagBounds, IsrBounds, Spreads, StepBounds, UnitBounds

Rates = dict[Thing, Fraction]


class Curves(Protocol):
    """What a law asks of the curves of all events while they are being found."""

    system: System
    delays: Spreads

    def curve(self, event: str) -> Curve:
        """The densest way in which an event can come."""

    def sets(self, flag: str) -> Curve | None:
        """The densest way in which a flag can be set, or a buffer be fed; None if nobody does."""

    def openings(self, step: Step) -> Curve:
        """The densest way in which what a step polls can open it."""

    def requests(self, buffer: Buffer, *, idle: bool) -> Curve:
        """The densest way in which a buffer can ask its routine; ``idle``: in windows that begin while it does not."""

    def starts(self, unit: Unit) -> Curve:
        """Every start of a unit, the lost ones included."""

    def backlog(self, unit: Unit) -> Backlog:
        """How many starts wait for a unit and how long, if none is lost."""

    def wait(self, unit: Unit) -> int:
        """The longest time in ps that a start waits for a unit."""

    def hardware_gaps(self) -> Gaps:
        """How long events of what runs outside the core can stay away."""

    def sole_token(self, unit: Unit) -> bool:
        """Whether the only token of a ring starts a unit, so that no start of it is lost."""

    def tangled(self, thing: Thing) -> bool:
        """Whether it feeds itself in a ring of which little is known."""

    def moved(self, event: Event, given: Curve, waiting: int, distance: int) -> Curve:
        """The events of ``given`` after their way to ``event``; ``waiting`` of them at most are on it at once."""


class Finished(Protocol):
    """What a law asks of the bounds when they are finished."""

    @property
    def system(self) -> System:
        """The model."""

    @property
    def events(self) -> Curves:
        """The curves of all events."""

    @property
    def isrs(self) -> dict[str, IsrBounds]:
        """Bounds of routines."""

    @property
    def units(self) -> dict[str, UnitBounds]:
        """Bounds of units."""

    @property
    def flags(self) -> dict[str, FlagBounds]:
        """Bounds of flags."""

    @property
    def buffers(self) -> dict[str, BufferBounds]:
        """Bounds of buffers."""

    @property
    def steps(self) -> dict[str, StepBounds]:
        """Bounds of steps."""

    @property
    def later(self) -> Finished:
        """What holds once the start-up is over."""

    def gap(self, event: str) -> int | None:
        """The longest time in ps from any instant to the next such event."""

    def loses(self, thing: Thing) -> str | None:
        """Why events of a thing may be lost; None if none ever is."""

    def distances(self, event: str) -> tuple[int, Figure]:
        """(the least distance in ps between neighbouring events, the most as a figure)."""


class Law(Struct, frozen=True):
    """What holds for one node, unless its kind says otherwise: nothing is known of it, and nothing is lost at it."""

    system: System
    node: Any
    losing: ClassVar[str] = ""  # what is lost, where something may be
    keeps_apart: ClassVar[bool] = False  # whether none of its events come closer than ``least_again``

    @property
    def begins_alone(self) -> bool:
        """Whether it begins once, at time zero, without a cause."""
        return False

    @property
    def in_rings(self) -> bool:
        """Whether a ring with one token may go on through it."""
        return True

    @property
    def breaks_off(self) -> bool:
        """Whether what has begun may never end."""
        return False

    @property
    def silent(self) -> str | None:
        """Why its end may not come though it has begun; None if it does."""
        return None

    # --- its events, while curves are being found ------------------------------------------------------------------

    def curve(self, curves: Curves, event: Event) -> Curve:
        """The densest way in which one of its events can come."""
        raise NotImplementedError

    def timed(self, curves: Curves) -> list[Curve]:
        """What a timer of its own promises of its starts."""
        return []

    def least_way(self, moment: str) -> int:
        """The least time in ps from what makes it begin to its start or end."""
        return 0

    @property
    def least_again(self) -> int:
        """The least time in ps between two of its starts, or two of its ends, whatever brings them about."""
        return 0

    # --- what finished bounds say of them --------------------------------------------------------------------------

    def hardware(self, gaps: Gaps, curves: Curves) -> None:
        """Enter how long its events can stay away before anything is known of what runs on the core."""

    def gaps(self, gaps: Gaps, found: Finished) -> None:
        """Enter how long its events can stay away."""

    def rate(self, found: Finished, rates: Rates) -> Fraction:
        """The fewest of its events per ps in the long run."""
        return Fraction(0)

    def loses(self, found: Finished) -> str | None:
        """Why one of its events may be lost; None if none ever is."""
        return None

    def passes(self, found: Finished, moment: str) -> Figure:
        """How long the token of a ring takes from its cause to its start or end."""
        return Figure(0, None, reason=f"{self.node.thing} is no part of a ring")

    def passes_from(self, found: Finished, event: Event, moment: str) -> Figure:
        """How long the token of a ring is in it, from its ``event`` on to the moment from which the ring goes on, and
        from its cause to that event again.
        """
        return self.passes(found, moment)

    def delay(self, found: Finished, event: Event) -> Figure:
        """How late an event is against what causes it."""
        raise NotImplementedError

    def least_of_way(self, figure: Figure) -> int:
        """How much of the least of its way is sure for each of its events."""
        return figure.least

    def span(self, found: Finished, event: Event) -> Figure:
        """From its start to its end, or to an event between."""
        raise NotImplementedError

    def share(self, event: Event) -> Fraction:
        """How many of its runs bring an event about."""
        return Fraction(1)

    def apart(self, event: Event) -> int:
        """The least time in ps between two of an event."""
        return self.least_again

    def distance(self, found: Finished, event: Event, least: int) -> Figure:
        """The most distance of neighbouring events that follow no single cause; ``least`` is the least."""
        gap = found.gap(event)
        if gap is None:
            return Figure(0, None, reason="none of its causes is sure to come")
        return Figure(0, gap, (Part("longest time to the next", event, 1, gap),))
