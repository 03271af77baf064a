"""Figures as text. Times are in the units of the model file, so that they can be pasted back into it."""

from __future__ import annotations

from decimal import ROUND_CEILING, ROUND_FLOOR, ROUND_HALF_EVEN, Decimal
from fractions import Fraction

_UNITS = ((10**12, "s"), (10**9, "ms"), (10**6, "us"), (10**3, "ns"))
_ROUNDING = {"up": ROUND_CEILING, "down": ROUND_FLOOR, "near": ROUND_HALF_EVEN}
PICO = 10**12  # where currents are whole numbers, they are picoamperes
_AMPERES = ((Fraction(1), "A"), (Fraction(1, 10**3), "mA"), (Fraction(1, 10**6), "uA"), (Fraction(1, 10**9), "nA"))
NONE = "-"


def _unit(ps: int) -> tuple[int, str]:
    for scale, name in _UNITS:
        if abs(ps) >= scale:
            return scale, name
    return 1, "ps"


def time_text(ps: int | None, rounding: str = "near") -> str:
    """Four significant digits, such as "22.34 us"; a most is rounded up and a least down, so both stay true."""
    if ps is None:
        return NONE
    if ps == 0:
        return "0 s"
    scale, unit = _unit(ps)
    value = Decimal(ps) / scale
    digits = Decimal(1).scaleb(min(0, value.adjusted() - 3))
    return f"{value.quantize(digits, rounding=_ROUNDING[rounding])} {unit}"


def range_text(low: int, high: int) -> str:
    """Two times, the unit said once where it is the same: "6.375 to 8.625 us"."""
    first, second = time_text(low, "down"), time_text(high, "up")
    if first == second:
        return second
    number, _, unit = first.partition(" ")
    return f"{number} to {second}" if second.endswith(f" {unit}") or low == 0 else f"{first} to {second}"


def exact_time(ps: int, known_to: int = 1) -> str:
    """To the last picosecond, or to a hundredth of what it is known to, such as "22.333 us"."""
    digit = 10 ** max(0, len(str(known_to)) - 3)
    ps = (ps + digit // 2) // digit * digit
    scale, unit = _unit(ps)
    return f"{(Decimal(ps) / scale).normalize():f} {unit}" if ps else "0 s"


def instant_text(ps: int) -> str:
    """An instant of a capture, in ms to the nanosecond, to be found again on the analyser's screen."""
    return f"{Decimal(ps) / 10**9:.6f} ms"


def share_text(share: Fraction, rounding: str = "near") -> str:
    """A share of one as "57.3 %"."""
    percent = Decimal(share.numerator * 100) / Decimal(share.denominator)
    return f"{percent.quantize(Decimal('0.1'), rounding=_ROUNDING[rounding])} %"


def limit_text(value: int | Fraction | None, rounding: str = "near") -> str:
    """A limit or bound: a time, or a share of the core."""
    if isinstance(value, Fraction):
        return share_text(value, rounding)
    return time_text(value, rounding)


def amperes_text(amperes: Fraction, rounding: str = "near") -> str:
    """A current to four digits, such as "40.28 uA"."""
    return _scaled_text(amperes, _AMPERES, rounding)


def known_text(amperes: Fraction, off: Fraction) -> tuple[str, str]:
    """A measured current, to the second digit of what it may be off, and that: "3.197 mA", "± 0.032 mA"."""
    if not off:
        return amperes_text(amperes), "± 0 A"
    scale, unit = next((pair for pair in _AMPERES if max(abs(amperes), off) >= pair[0]), _AMPERES[-1])
    parts = Decimal(off.numerator * scale.denominator) / Decimal(off.denominator * scale.numerator)
    digit = Decimal(1).scaleb(parts.adjusted() - 1)
    value = Decimal(amperes.numerator * scale.denominator) / Decimal(amperes.denominator * scale.numerator)
    shown = value.quantize(digit, ROUND_HALF_EVEN) if digit < 1 else value.quantize(Decimal(1), ROUND_HALF_EVEN)
    return f"{shown + 0:f} {unit}", f"± {parts.quantize(min(digit, Decimal(1)), ROUND_CEILING):f} {unit}"


def pico_text(low: int | None, high: int | None = None) -> str:
    """Whole picoamperes, or a range of them, as a current."""
    ends = dict.fromkeys(amperes_text(Fraction(each, PICO)) for each in (low, high) if each is not None)
    return " to ".join(ends) or NONE


def charge_text(coulombs: Fraction, rounding: str = "near") -> str:
    """A charge in hours of a current, such as "0.967 mAh"."""
    return _scaled_text(coulombs / 3600, ((Fraction(1), "Ah"), (Fraction(1, 10**3), "mAh"), (Fraction(1, 10**6), "uAh"),
                                          (Fraction(1, 10**9), "nAh")), rounding)  # fmt: skip


def life_text(seconds: Fraction | None, rounding: str = "near") -> str:
    """How long a battery lasts, to three digits: "2.31 years", "41.0 days", "5.20 hours"; None: without end."""
    if seconds is None:
        return "without end"
    units = ((Fraction(365 * 86_400), "years"), (Fraction(86_400), "days"), (Fraction(3600), "hours"))
    return _scaled_text(seconds, units, rounding, 3)


def _scaled_text(value: Fraction, units: tuple[tuple[Fraction, str], ...], rounding: str, digits: int = 4) -> str:
    scale, unit = next((each for each in units if abs(value) >= each[0]), units[-1])
    number = Decimal((value / scale).numerator) / Decimal((value / scale).denominator)
    if not number:
        return f"0 {units[0][1]}"
    places = Decimal(1).scaleb(min(0, max(number.adjusted(), 0) + 1 - digits))
    return f"{number.quantize(places, rounding=_ROUNDING[rounding])} {unit}"


def numbers_text(low: int | None, high: int | None) -> str:
    """A range of numbers, such as "3 to 5", or one; None: without limit."""
    return str(low) if low == high else f"{low} to {'no limit' if high is None else high}"


def count_text(count: int, one: str, many: str | None = None) -> str:
    """ "1 miss", "3 misses"."""
    return f"{count} {one if count == 1 else many or one + 's'}"


def seconds_text(seconds: Fraction) -> str:
    """A rational time to nine significant digits, such as "1.00004167 ms"."""
    scales = ((1, "s"), (10**3, "ms"), (10**6, "us"), (10**9, "ns"), (10**12, "ps"))
    scale, unit = next((pair for pair in scales if seconds * pair[0] >= 1), scales[-1])
    return f"{_nine_digits(seconds * scale)} {unit}"


def rate_text(hertz: Fraction) -> str:
    """A rate to nine significant digits, such as "14.31818 MHz"."""
    scales = ((10**9, "GHz"), (10**6, "MHz"), (10**3, "kHz"), (1, "Hz"))
    scale, unit = next((pair for pair in scales if hertz >= pair[0]), scales[-1])
    return f"{_nine_digits(hertz / scale)} {unit}"


def _nine_digits(value: Fraction) -> str:
    number = Decimal(value.numerator) / Decimal(value.denominator)
    return f"{float(number):.9g}" if abs(number) < 10**9 else f"{number:.0f}"


def off_text(share: Fraction) -> str:
    """How far something is off, to two digits: "0.31 ppm", "3400 ppm", "12 %"."""
    scale, unit = (100, "%") if share >= Fraction(1, 100) else (10**6, "ppm")
    return f"{float(f'{float(share * scale):.2g}'):g} {unit}" if share * 10**8 >= 1 else "less than 0.01 ppm"


def exact_share(share: Fraction) -> str:
    """A share as a percentage to two decimals."""
    return f"{float(share * 100):.2f} %"
