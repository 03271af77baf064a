"""Figures with what they are made of: [least, most] in ps, the most taken apart into its parts."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from math import inf
from typing import cast

from msgspec import Struct
from msgspec.structs import force_setattr

from tachys.frames import Seconds, in_seconds


class Part(Struct, frozen=True):
    """One term of a figure: ``count`` times (``body`` + ``overhead``) ps, caused by ``who``.

    ``by_clock``: it passes by the clock on the wall, whatever runs meanwhile.
    """

    what: str
    who: str
    count: int
    body: int
    overhead: int = 0
    by_clock: bool = False

    @property
    def total(self) -> int:
        """What this part adds to the figure, in ps."""
        return self.count * (self.body + self.overhead)


Parts = tuple[Part, ...]


def total_of(parts: Iterable[Part]) -> int:
    """What they add up to, in ps."""
    return sum(part.total for part in parts)


class Figure(Struct, frozen=True):
    """[least, most] in ps. ``most`` None is unbounded, for ``reason``; else ``parts`` add up to it exactly.

    ``made_of`` are the parts, or what works them out when they are asked for: most figures are never taken apart.
    """

    least: int
    most: int | None
    made_of: Parts | Callable[[], Parts] = ()
    reason: str = ""
    activation: int = 1

    def __repr__(self) -> str:
        return f"<Figure: {self.least} to {'unbounded' if self.most is None else self.most} ps>"

    @property
    def parts(self) -> Parts:
        """What the most is made of, in the order in which it happens in the worst case; worked out once."""
        if callable(self.made_of):
            force_setattr(self, "made_of", self.made_of())
        return cast(Parts, self.made_of)

    @property
    def rank(self) -> float:
        """Its most, beyond all others where that is unbounded."""
        return inf if self.most is None else self.most

    @property
    def seconds(self) -> Seconds:
        """Least and most in seconds."""
        return in_seconds(self.least, self.most)


def summed(least: int, parts: list[Part]) -> Figure:
    """A figure whose most is the sum of its parts; those that add nothing are left out."""
    kept = tuple(part for part in parts if part.total)
    return Figure(least, total_of(kept), kept)
