"""What a need asks of what was seen: a simulation answers to the picosecond, a capture to its resolution."""

from __future__ import annotations

from fractions import Fraction
from typing import Protocol

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from tachys.model.events import Event, Thing

Instants = NDArray[np.int64]


def no_instants() -> Instants:
    """None at all."""
    return np.zeros(0, np.int64)


class Delays(Struct, frozen=True):
    """Events at ``at`` ps and how long each was answered after; ``lost`` were never, ``open`` not by the end.

    ``relative``: against the fastest answer, since the event itself was not seen.
    """

    at: Instants
    after: Instants
    lost: Instants = field(default_factory=no_instants)
    open: Instants = field(default_factory=no_instants)
    relative: bool = False


class Taken(Struct, frozen=True):
    """The share of the core that was taken, of a window that begins at ``at`` ps; ``slack``: what it may be less."""

    share: Fraction
    at: int
    slack: Fraction = Fraction(0)
    by: str = ""


class Following(Protocol):
    """A need that follows events to their answers."""

    @property
    def name(self) -> str:
        """Its name."""

    @property
    def begins(self) -> Event:
        """What is answered."""

    @property
    def ends(self) -> Event:
        """The answer."""

    @property
    def age(self) -> bool:
        """Whether the last cause of an answer counts, not the first."""


class Observation(Protocol):
    """What was seen, all of it or a slice. What was not shown is None."""

    @property
    def slack(self) -> int:
        """How far off a time may be, in ps."""

    @property
    def end(self) -> int:
        """Up to when it was seen, in ps."""

    @property
    def whole(self) -> bool:
        """Whether no more of it comes."""

    @property
    def zero(self) -> int | None:
        """When time began, in ps, if that was seen."""

    def instants(self, event: Event) -> Instants | None:
        """When an event happened."""

    def answers(self, need: Following) -> Delays | None:
        """From the events of a need to their answers."""

    def delays(self, event: Event) -> Delays | None:
        """From what causes an event to the event."""

    def lost(self, thing: Thing) -> tuple[Instants, int] | None:
        """(when events of a thing were lost as far as that is known, how many)."""

    def beyond(self, buffer: Thing, level: int) -> tuple[Instants, int, int] | None:
        """(when puts made a buffer hold more than that, as far as it is known, how many did, the most that was in)."""

    def supply(self) -> Fraction | None:
        """The most that the average supply current was, in amperes; None where nothing shows it."""

    def load(self, over: int | None, of: tuple[str, ...]) -> Taken | None:
        """What these (empty: all) took of the core: of the busiest window of that length in ps, or of all seen."""


class Broken(Struct, frozen=True):
    """One miss: at ``at`` ps, answered after ``value`` ps (None: never); the wait lasted from ``begin`` to ``end``.

    ``kind``: "late"; "early"; "lost", it will never be answered; "open", not answered by the end; "full".
    """

    at: int
    value: int | None
    kind: str
    begin: int
    end: int


class Look(Struct):
    """What a need has seen: times in ps (``after``) that each began at ``at``, and what broke it.

    ``still``: how long one has been waited for at the end. ``relative`` as of :class:`Delays`. ``unruled``: how many of
    them the least on paper does not speak of, so that they may hold where the need as a whole cannot.
    """

    at: Instants = field(default_factory=no_instants)
    after: Instants = field(default_factory=no_instants)
    broken: list[Broken] = field(default_factory=list)
    still: int | None = None
    relative: bool = False
    unruled: int = 0

    @property
    def speaks(self) -> int:
        """How many of them would refute a need that cannot hold by being within its limit."""
        return 0 if self.relative else len(self.after) - self.unruled


class Past(Struct):
    """What a need remembers from one slice to the next: the last instant, the extremes so far."""

    last: int | None = None
    least: int | None = None
    most: int | None = None


class Total(Struct, frozen=True):
    """A number or share that was seen in all, what broke the need, and what it rests on."""

    value: int | Fraction
    broken: list[Broken]
    misses: int
    note: str = ""
    slack: Fraction = Fraction(0)


def distances_of(times: Instants, least: int, most: int, slack: int) -> Look:
    """The distances of neighbouring instants; those that are too short or too long are misses of the later one."""
    apart = np.diff(times)
    wrong = np.flatnonzero((apart < least - slack) | (apart > most + slack))
    broken = [
        Broken(int(times[k + 1]), int(apart[k]), "early" if apart[k] < least else "late",
               int(times[k]), int(times[k + 1]))
        for k in wrong.tolist()
    ]  # fmt: skip
    return Look(times[: len(apart)], apart, broken)


def from_last(times: Instants, past: Past) -> Instants:
    """The instants of a slice behind the last one before it."""
    joined = times if past.last is None else np.append(np.int64(past.last), times)
    past.last = int(joined[-1]) if len(joined) else None
    return joined
