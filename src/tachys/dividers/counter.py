"""A timer: clock → prescaler → counter → postscaler. True factors throughout; registers are derived from them."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction

from msgspec import Struct

WIDEST = 64


class Prescalers(Struct, frozen=True):
    """The factors a prescaler can divide by: every one from 1 to ``most``, or those of ``choices`` (ascending)."""

    most: int = 1
    choices: tuple[int, ...] | None = None

    def __iter__(self) -> Iterator[int]:
        return iter(self.choices if self.choices is not None else range(1, self.most + 1))

    def __contains__(self, factor: object) -> bool:
        if self.choices is not None:
            return factor in self.choices
        return isinstance(factor, int) and 1 <= factor <= self.most

    @property
    def largest(self) -> int:
        """The largest factor."""
        return self.choices[-1] if self.choices else self.most

    @property
    def smallest(self) -> int:
        """The smallest factor."""
        return self.choices[0] if self.choices else 1

    def register(self, factor: int) -> int | None:
        """What its register holds for a factor, where any may be chosen: one less. None for one of a list."""
        return None if self.choices is not None else factor - 1


class Counter(Struct, frozen=True):
    """A counter of ``width`` bits behind a prescaler, and a postscaler that lets every n-th event through."""

    width: int
    prescalers: Prescalers = Prescalers()
    postscalers: tuple[int, ...] = (1,)

    @property
    def most_counts(self) -> int:
        """The largest count: 2^width."""
        return 1 << self.width

    def longest(self, hertz: Fraction) -> Fraction:
        """The longest period in seconds that is in reach from a clock."""
        return Fraction(self.prescalers.largest * self.most_counts * max(self.postscalers)) / hertz

    def shortest(self, hertz: Fraction) -> Fraction:
        """The shortest period in seconds that is in reach from a clock."""
        return Fraction(self.prescalers.smallest * min(self.postscalers)) / hertz


class Setting(Struct, frozen=True):
    """True factors of a timer: period = prescale · count · postscale / clock."""

    prescale: int
    count: int
    postscale: int = 1

    @property
    def ticks(self) -> int:
        """Clock ticks of one period."""
        return self.prescale * self.count * self.postscale

    def period(self, hertz: Fraction) -> Fraction:
        """The period in seconds."""
        return self.ticks / hertz

    @property
    def reload_register(self) -> int:
        """What a counter that reloads at n (and so counts n + 1) holds."""
        return self.count - 1

    def preload(self, width: int) -> int:
        """What a counter that runs up to its overflow starts from."""
        return (1 << width) - self.count


def deviation_ppm(real: Fraction, wanted: Fraction) -> Fraction:
    """How far ``real`` is above (+) or below (-) ``wanted``, in parts per million of it.

    >>> deviation_ppm(Fraction(1001), Fraction(1000))
    Fraction(1000, 1)
    """
    return (real - wanted) / wanted * 10**6


def tolerance_band(period: Fraction, tolerance: Fraction) -> tuple[Fraction, Fraction]:
    """(shortest, longest) period when the clock's frequency is off by ``tolerance`` (a share) either way."""
    return period / (1 + tolerance), period / (1 - tolerance)
