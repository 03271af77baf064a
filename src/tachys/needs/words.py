"""Needs in words: what must hold, its figures in its own unit, and why paper does not prove it."""

from __future__ import annotations

from fractions import Fraction

from tachys.needs.kinds import Need, NeedBounds
from tachys.words import limit_text, time_text


def what_holds(need: Need) -> str:
    """A need in the model's words."""
    return need.words(time_text)


def bound_text(need: Need, bound: int | Fraction | None, *, unseen: bool = False) -> str:
    """A bound, or what its lack means; ``unseen``: nothing is known of it at all."""
    if bound is not None:
        return value_text(need, bound, "up")
    return "none" if unseen else "possible" if need.measures == "number" else "unbounded"


def value_text(need: Need, value: int | Fraction | None, rounding: str = "near") -> str:
    """A limit or bound of a need, in its unit."""
    if need.measures == "number":
        return "-" if value is None else str(value)
    return limit_text(value, rounding)


def doubt_of(need: NeedBounds) -> str:
    """Why paper does not prove a need; empty where it does."""
    if need.proof.cannot_hold:
        return f"it cannot hold: at the least it is {value_text(need.need, need.least, 'down')}"
    return "" if need.proved else need.reason
