"""How long a battery lasts, in seconds: an exact rational, and no time of the engine, whose picoseconds end sooner."""

from __future__ import annotations

from fractions import Fraction

from tachys.model.nodes import Amperes, Battery


def life(battery: Battery, average: Amperes | None) -> tuple[Fraction, Fraction | None] | None:
    """The shortest and the longest life in seconds; None: unknown, a longest of None: without end."""
    if average is None:
        return None
    shortest, longest = (battery.lasts(each) for each in (average[1], average[0]))
    return None if shortest is None else (shortest, longest)
