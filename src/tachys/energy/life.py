"""How long a battery lasts, in seconds: an exact rational, and no time of the engine, whose picoseconds end sooner."""

from __future__ import annotations

from fractions import Fraction

from tachys.model.nodes import Amperes, Battery

YEAR = 365 * 86_400  # in seconds


def life(battery: Battery, average: Amperes | None) -> tuple[Fraction, Fraction | None] | None:
    """The shortest and the longest life in seconds; None: unknown, a longest of None: without end.

    Life = capacity · usable / (average + capacity · self-discharge / 365 days).
    """
    if average is None:
        return None
    leaks = battery.capacity * battery.leaks / YEAR
    shortest, longest = (battery.capacity * battery.usable / (each + leaks) if each + leaks else None
                         for each in (average[1], average[0]))  # fmt: skip
    return None if shortest is None else (shortest, longest)
