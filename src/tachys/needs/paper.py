"""What needs ask of the bounds."""

from __future__ import annotations

from fractions import Fraction
from typing import Protocol

from tachys.figures import Figure
from tachys.model.events import Event, Thing


class Paper(Protocol):
    """What the bounds say, asked by needs."""

    def gap(self, event: Event) -> int | None:
        """The longest time in ps from any instant to the next such event."""

    def distances(self, event: Event) -> tuple[int, Figure]:
        """(the least distance in ps between neighbouring events, the most as a figure)."""

    def delay(self, event: Event) -> Figure:
        """The delay of an event against what causes it."""

    def way(self, begins: Event, ends: Event, *, age: bool) -> tuple[Figure, str] | None:
        """(time from one event to what it causes, why one may be lost on the way); None: no chain leads there."""

    def loses(self, thing: Thing) -> str | None:
        """Why events of a thing may be lost; None if none ever is."""

    def lost_in_all(self, thing: Thing) -> int | None:
        """How many events of a thing may be lost at most; None: no number is known."""

    def level(self, buffer: Thing) -> int:
        """The most items that can be in a buffer at once."""

    def supply(self) -> tuple[tuple[Fraction, Fraction] | None, str]:
        """(least and most average supply current in amperes, why none is known)."""

    def load(self, over: int | None, of: tuple[str, ...]) -> tuple[Fraction, Fraction, str]:
        """(least, most, why no less) of the share taken: in any window of that length in ps, or in the long run."""
