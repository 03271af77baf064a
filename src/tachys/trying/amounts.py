"""Quantities of a model as they are written, moved: scaled, spread over a range, rounded to digits that fit."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from fractions import Fraction

from msgspec import Struct

from tachys.model.quantities import FAMILIES

_NUMBER = re.compile(r"\s*([+-]?\d{1,30}(?:\.\d{0,30})?(?:[eE][+-]?\d{1,2})?)\s*(.*?)\s*")
DIGITS = 4  # of what is found
SPREAD_DIGITS = 6  # of points along a range
MOST_POINTS = 10_000


class Amount(Struct, frozen=True):
    """A number and its unit, as "250 us", "12 cycles@bus" or a bare 3."""

    number: Fraction
    unit: str = ""

    @classmethod
    def read(cls, value: object) -> Amount:
        """Of what stands in a model.

        Raises:
            ValueError: it is no number with a unit.
        """
        if isinstance(value, bool) or not isinstance(value, (str, int)):
            raise ValueError(f"{value} is no quantity")
        found = _NUMBER.fullmatch(str(value).replace("µ", "u").replace("μ", "u"))
        if found is None:
            raise ValueError(f'"{value}" is no quantity; write a number and its unit, as "20 us"')
        return cls(Fraction(found.group(1)), found.group(2))

    def __str__(self) -> str:
        return f"{decimal(self.number)} {self.unit}".rstrip()

    @property
    def whole(self) -> bool:
        """Whether only whole numbers of it make sense: cycles, levels, counts."""
        return not self.unit or self.unit.startswith("cycle")

    def to_whole(self) -> Amount:
        """Without what is beyond a whole number, where only these make sense."""
        return Amount(Fraction(int(self.number)), self.unit) if self.whole else self

    def times(self, factor: Fraction) -> Amount:
        """So many times as much, exactly."""
        return Amount(self.number * factor, self.unit)

    def in_unit_of(self, other: Amount) -> Amount:
        """The same in the unit of another.

        Raises:
            ValueError: they are no amounts of one kind.
        """
        if self.unit == other.unit:
            return self
        for family in FAMILIES:
            if self.unit in family and other.unit in family:
                return Amount(self.number * Fraction(family[self.unit]) / family[other.unit], other.unit)
        raise ValueError(f'"{self}" and "{other}" are not of one kind; write both in one unit')

    def rounded(self, *, up: bool, digits: int = DIGITS, whole: bool = True) -> Amount:
        """To so many digits; whole numbers where only these make sense, unless ``whole`` is False."""
        if not self.number:
            return self
        digit = self._digit(digits, whole=whole)
        number = (math.ceil if up else math.floor)(self.number / digit) * digit
        return Amount(number, self.unit)

    def neighbour(self, *, up: bool) -> Amount:
        """The next amount of as many digits."""
        digit = self._digit(DIGITS) if self.number else Fraction(1)
        return Amount(self.number + (digit if up else -digit), self.unit)

    def _digit(self, digits: int, *, whole: bool = True) -> Fraction:
        """What the last of so many digits is worth."""
        digit = Fraction(10) ** (math.floor(math.log10(abs(self.number))) - digits + 1)
        return max(digit, Fraction(1)) if self.whole and whole else digit


def halved(
    good: Amount, bad: Amount, holds: Callable[[Amount], bool], fine: Fraction, place: Callable[[Amount], Amount]
) -> tuple[Amount, Amount]:
    """Nearer to where ``holds`` changes between two amounts, to ``fine``; middles are looked at where ``place`` puts
    them, as long as that is in between."""
    while abs(bad.number - good.number) > fine * max(abs(bad.number), abs(good.number)):
        middle = place(Amount((good.number + bad.number) / 2, good.unit))
        if middle.number in (good.number, bad.number):
            break
        if holds(middle):
            good = middle
        else:
            bad = middle
    return good, bad


def decimal(number: Fraction) -> str:
    """A number as a decimal, exact where it has one of at most thirty places."""
    if number.denominator == 1:
        return str(number.numerator)
    text = f"{float(number):.15g}"
    if "e" not in text and Fraction(text) == number:
        return text
    whole, rest = divmod(abs(number), 1)
    places = str(round(rest * 10**18)).rjust(18, "0")
    if len(places) > 18:
        whole, places = whole + 1, "0"
    return f"{'-' * (number < 0)}{whole}.{places}".rstrip("0").rstrip(".")


class Range(Struct, frozen=True):
    """A key and the values it takes, as they are written."""

    key: str
    values: tuple[str, ...]


def read_range(text: str) -> Range:
    """Of ``"KEY=A..B/20"`` (evenly), ``"KEY=A..B/x20"`` (by equal factors) or ``"KEY=A,B,C"``.

    Raises:
        ValueError: it is none; says what would be one.
    """
    key, equals, given = text.partition("=")
    if not equals or not key.strip() or not given.strip():
        raise ValueError(f'"{text}" is no range; write for instance source.sample.every="20 us..200 us/20"')
    if ".." not in given:
        values = [value.strip() for value in given.split(",")]
        if len(values) < 2 or not all(values):
            raise ValueError(f'"{text}" is one value; write A..B/20, or at least two values with a comma between')
        return Range(key.strip(), tuple(values))
    first, _, rest = given.partition("..")
    last, slash, count = rest.rpartition("/")
    if not slash:
        last, count = rest, "20"
    by_factors = count.strip().startswith("x")
    number = count.strip().removeprefix("x")
    if not number.isdecimal() or not 2 <= int(number) <= MOST_POINTS:
        raise ValueError(f'"{text}": "{count}" is no number of points; 2 to {MOST_POINTS}, or x20 for equal factors')
    a, b = Amount.read(first), Amount.read(last)
    if not a.unit and b.unit:
        a = Amount(a.number, b.unit)
    b = b.in_unit_of(a)
    if not a.number < b.number:
        raise ValueError(f'"{text}" runs backwards; write the smaller value first: {b}..{a}')
    if by_factors and a.number <= 0:
        raise ValueError(f'"{text}": equal factors begin above 0')
    return Range(key.strip(), tuple(dict.fromkeys(map(str, _spread(a, b, int(number), by_factors=by_factors)))))


def _spread(a: Amount, b: Amount, count: int, *, by_factors: bool) -> list[Amount]:
    found = [a]
    for step in range(1, count - 1):
        share = Fraction(step, count - 1)
        if by_factors:
            number = a.number * Fraction(float(b.number / a.number) ** float(share))
        else:
            number = a.number + (b.number - a.number) * share
        found.append(_nearest(Amount(number, a.unit)))
    return [*found, b]


def _nearest(amount: Amount) -> Amount:
    low, high = (amount.rounded(up=up, digits=SPREAD_DIGITS) for up in (False, True))
    return low if amount.number - low.number <= high.number - amount.number else high
