"""Who takes of the core: whether a share of it belongs to what a need asks about."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

INTERRUPTS = "interrupts"


def is_of(who: str, of: tuple[str, ...]) -> bool:
    """Whether what ``who`` takes ("isr.tick", "isr.tick.overhead", "step.log", "loop.overhead") is of these.

    Empty: of everything.
    """
    if not of or who in of:
        return True
    return who.startswith("isr.") and (INTERRUPTS in of or who.removesuffix(".overhead") in of)


def share_of(shares: Mapping[str, Fraction], of: tuple[str, ...]) -> Fraction:
    """What these take together."""
    return sum((share for who, share in shares.items() if is_of(who, of)), Fraction(0))
