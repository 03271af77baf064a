"""Quantities as an engineer writes them ("250 us", "48 MHz", "15 cycles@adc", "2 %"), read exactly.

Every number is kept as a rational; nothing passes through float. NaN, infinity and bare numbers are refused.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from fractions import Fraction
from functools import lru_cache

from msgspec import Struct

PS_PER_SECOND = 10**12
YEAR = 365 * 86_400  # in seconds
LONGEST_PS = 10**18  # about 11.6 days: sums of a few of these still fit 64 bits

_SECONDS = {"s": 10**12, "ms": 10**9, "us": 10**6, "ns": 10**3, "ps": 1}
_HERTZ = {"Hz": 1, "kHz": 10**3, "MHz": 10**6, "GHz": 10**9}
_SHARES = {"%": Fraction(1, 100), "ppm": Fraction(1, 10**6)}
_BAUD = {"Bd": 1, "kBd": 10**3, "MBd": 10**6}
FAMILIES: tuple[Mapping[str, int | Fraction], ...] = (_SECONDS, _HERTZ, _BAUD, _SHARES)  # units of one kind
_AMPERES = {"A": Fraction(1), "mA": Fraction(1, 10**3), "uA": Fraction(1, 10**6), "nA": Fraction(1, 10**9)}
_AMPERE_HOURS = {"Ah": Fraction(1), "mAh": Fraction(1, 10**3), "uAh": Fraction(1, 10**6)}
_LIVES = {"years": Fraction(YEAR), "year": Fraction(YEAR), "days": Fraction(86_400), "day": Fraction(86_400),
          "hours": Fraction(3600), "hour": Fraction(3600)}  # fmt: skip
_NUMBER = re.compile(r"([+-]?)(\d{1,30})(?:\.(\d{0,30}))?(?:[eE]([+-]?\d{1,2}))?")
_JOINED = re.compile(r"(\d[\d.]*) *([a-zµ@]*) *(?:-|–|to|\.\.+|…) *(\d[\d.]*) *([a-zµ@]+)")  # a range as one text


class CurrentRange(Struct, frozen=True):
    """A supply current in amperes, or in amperes for each MHz of the core's clock."""

    least: Fraction
    most: Fraction
    per_clock: bool = False


class Duration(Struct, frozen=True):
    """A length of time: ``amount`` picoseconds, or so many cycles of ``clock`` when that is named."""

    amount: Fraction
    clock: str | None = None
    text: str = ""


class DurationRange(Struct, frozen=True):
    """[least, most], both as written; a single value stands for both."""

    least: Duration
    most: Duration


class Range(Struct, frozen=True):
    """[least, most] in whole picoseconds, or in whatever unit the field says."""

    least: int
    most: int

    def __add__(self, other: Range) -> Range:
        return Range(self.least + other.least, self.most + other.most)


ZERO = Range(0, 0)


def _split(value: object, example: str) -> tuple[Fraction, str]:
    if isinstance(value, bool) or not isinstance(value, str):
        if isinstance(value, (int, float)) and not isinstance(value, bool):
            unit = example.split(" ", 1)[1]
            raise ValueError(f'{value} has no unit; write a string with a unit, for instance "{value:g} {unit}"')
        raise ValueError(f'{value!r} is not a quantity; write a string with a unit, for instance "{example}"')
    text = value.strip().replace("µ", "u").replace("μ", "u")
    match = _NUMBER.match(text)
    if match is None:
        raise ValueError(f'"{value}" does not begin with a number; write for instance "{example}"')
    sign, whole, decimals, power = match.groups()
    number = Fraction(int(whole + (decimals or "")), 10 ** len(decimals or ""))
    number *= Fraction(10) ** int(power or 0)
    unit = text[match.end() :].strip()
    comma = re.match(r",(\d+)(.*)", unit)
    if comma:
        raise ValueError(
            f'"{value}" has a decimal comma; write "{text[: match.end()]}.{comma.group(1)}{comma.group(2)}"'
        )
    if not unit:
        raise ValueError(f'"{value}" has no unit; write for instance "{example}"')
    return (-number if sign == "-" else number), unit


def _scaled(value: object, units: dict[str, int] | dict[str, Fraction], example: str) -> Fraction:
    number, unit = _split(value, example)
    if unit not in units:
        raise _unknown(value, unit, units)
    return number * units[unit]


def _unknown(value: object, unit: str, known: Iterable[str], more: str = "") -> ValueError:
    """The error for an unknown unit, with the one that is meant where only small and capital letters differ."""
    meant = [each for each in known if each.lower() == unit.lower()]
    if len(meant) == 1:
        return ValueError(f'"{value}": unknown unit "{unit}"; write "{str(value).strip()[: -len(unit)]}{meant[0]}"')
    return ValueError(f'"{value}": unknown unit "{unit}"; known here: {", ".join(known)}{more}')


def parse_duration(value: object) -> Duration:
    """Read ``"250 us"``, ``"120 cycles"`` or ``"15 cycles@adc"``. Not negative, at most ``LONGEST_PS``.

    Raises:
        ValueError: says what is wrong and shows what would be right.
    """
    return _duration(value) if isinstance(value, str) else _duration_of(value)


def _duration_of(value: object) -> Duration:
    number, unit = _split(value, "250 us")
    if number < 0:
        raise ValueError(f'"{value}" is negative; a time is 0 or more')
    head, _, clock = unit.partition("@")
    if head.strip() in ("cycles", "cycle"):
        if number > 2**63:
            raise ValueError(f'"{value}" is more cycles than 64 bits count')
        return Duration(number, clock.strip() or "core", str(value))
    if unit not in _SECONDS:
        raise _unknown(value, unit, _SECONDS, ", cycles, cycles@CLOCK")
    if number * _SECONDS[unit] > LONGEST_PS:
        raise ValueError(f'"{value}" is longer than Tachys can count; at most {LONGEST_PS // 10**12} s')
    return Duration(number * _SECONDS[unit], None, str(value))


_duration = lru_cache(maxsize=4096)(_duration_of)  # a model is read again and again with one figure changed


def parse_positive_duration(value: object) -> Duration:
    """As :func:`parse_duration`, and more than 0."""
    duration = parse_duration(value)
    if not duration.amount:
        raise ValueError(f'"{value}" is zero; it must be more than 0')
    return duration


def parse_duration_range(value: object) -> DurationRange:
    """Read one duration, or ``[least, most]``."""
    if isinstance(value, list):
        if len(value) != 2:
            raise ValueError(f'a range has two ends, not {len(value)}; write ["2.4 us", "3.1 us"]')
        least, most = map(parse_duration, value)
        if least.clock == most.clock and least.amount > most.amount:
            raise ValueError(f'the range runs backwards; write ["{most.text}", "{least.text}"]')
        return DurationRange(least, most)
    joined = _JOINED.fullmatch(value.strip()) if isinstance(value, str) and len(value) < 60 else None
    if joined is not None:
        low, unit, high, last = joined.groups()
        raise ValueError(f'"{value}": a range has two ends; write ["{low} {unit or last}", "{high} {last}"]')
    single = parse_duration(value)
    return DurationRange(single, single)


def parse_positive_range(value: object) -> DurationRange:
    """As :func:`parse_duration_range`, and at most more than 0."""
    found = parse_duration_range(value)
    parse_positive_duration(found.most.text)
    return found


def parse_within(value: object) -> DurationRange:
    """Read a limit of a time, more than 0, or ``[least, most]`` of it."""
    found = parse_positive_range(value)
    return found if isinstance(value, list) else DurationRange(parse_duration("0 s"), found.most)


def parse_rate(value: object) -> Fraction:
    """Read ``"48 MHz"`` as hertz, more than 0 and at most 1 THz (one count of the time that Tachys keeps)."""
    rate = _scaled(value, _HERTZ, "48 MHz")
    if rate <= 0:
        raise ValueError(f'"{value}" is not a rate; it must be more than 0, for instance "48 MHz"')
    if rate > PS_PER_SECOND or rate < Fraction(1, 10**6):
        raise ValueError(f'"{value}" is beyond what Tachys counts: 1e-6 Hz to 1000 GHz')
    return rate


def parse_baud(value: object) -> Fraction:
    """Read ``"115200 Bd"`` as symbols a second, more than 0."""
    rate = _scaled(value, _BAUD, "115200 Bd")
    if not 0 < rate <= 10**11:
        raise ValueError(f'"{value}" is not a serial rate; it must be more than 0 and at most 100000 MBd')
    return rate


def parse_current(value: object) -> Fraction:
    """Read ``"1.9 uA"`` as amperes, 0 or more."""
    current = _scaled(value, _AMPERES, "3.2 mA")
    if current < 0:
        raise ValueError(f'"{value}" is negative; a supply current is 0 or more')
    return current


def parse_current_range(value: object) -> CurrentRange:
    """Read one supply current, ``"3.2 mA"`` or ``"120 uA/MHz"`` (of the core's clock), or ``[least, most]``."""
    ends: list[object] = value if isinstance(value, list) else [value, value]
    if len(ends) != 2:
        raise ValueError(f'a range has two ends, not {len(ends)}; write ["2.8 mA", "3.2 mA"]')
    plain = [end.rstrip().removesuffix("/MHz") if isinstance(end, str) else end for end in ends]
    per_clock = [isinstance(end, str) and end.rstrip().endswith("/MHz") for end in ends]
    if per_clock[0] != per_clock[1]:
        raise ValueError('both ends are of one kind: write ["110 uA/MHz", "120 uA/MHz"]')
    least, most = map(parse_current, plain)
    if least > most:
        raise ValueError("the range runs backwards; write the smaller one first")
    return CurrentRange(least, most, per_clock[0])


def parse_capacity(value: object) -> Fraction:
    """Read ``"220 mAh"`` as coulombs, more than 0."""
    capacity = _scaled(value, _AMPERE_HOURS, "220 mAh")
    if capacity <= 0:
        raise ValueError(f'"{value}" is no capacity; it must be more than 0, for instance "220 mAh"')
    return capacity * 3600


def parse_life(value: object) -> Fraction:
    """Read ``"2 years"`` as seconds, more than 0."""
    seconds = _scaled(value, _LIVES, "2 years")
    if seconds <= 0:
        raise ValueError(f'"{value}" is no life; it must be more than 0, for instance "2 years"')
    return seconds


def parse_leak(value: object) -> Fraction:
    """Read ``"1 %/year"`` as a fraction of one a year."""
    if not isinstance(value, str) or not value.rstrip().endswith("/year"):
        raise ValueError(f'"{value}" is no self-discharge; write for instance "1 %/year"')
    return parse_share(value.rstrip().removesuffix("/year").rstrip())


def parse_share(value: object) -> Fraction:
    """Read ``"2 %"`` or ``"50 ppm"`` as a fraction of one; 0 or more."""
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        raise ValueError(f'{value} has no unit; write "{value * 100 if abs(value) <= 1 else value:g} %"')
    share = _scaled(value, _SHARES, "50 ppm")
    if share < 0:
        raise ValueError(f'"{value}" is negative; write how far it may be off either way, for instance "50 ppm"')
    return share


def parse_tolerance(value: object) -> Fraction:
    """As :func:`parse_share`, and below 50 %."""
    share = parse_share(value)
    if share >= Fraction(1, 2):
        raise ValueError(f'"{value}" is no tolerance; it must be below 50 %')
    return share


def time_in_words(ps: int) -> str:
    """A time for a sentence, to four digits: "5 ms", "22.34 us"."""
    if not ps:
        return "0 s"
    scale, unit = next(((scale, unit) for unit, scale in _SECONDS.items() if abs(ps) >= scale), (1, "ps"))
    return f"{ps / scale:.4g} {unit}"


def rounded(value: Fraction | int, known_to: Fraction | int) -> Fraction:
    """A figure to the last decimal digit that is known, where it is known to ``known_to`` either way.

    >>> rounded(500_004_497, 156)
    Fraction(500004500, 1)
    """
    if known_to <= 0:
        return Fraction(value)
    digit = Fraction(10) ** math.floor(math.log10(known_to))
    return round(Fraction(value) / digit) * digit


def ceil_ps(ps: Fraction) -> int:
    """The next whole picosecond at or after ``ps``: how costs are rounded."""
    return math.ceil(ps)


def floor_ps(ps: Fraction) -> int:
    """The last whole picosecond at or before ``ps``: how least distances and limits are rounded."""
    return math.floor(ps)
