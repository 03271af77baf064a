"""Needs in words: what must hold, its figures in its own unit, and why paper does not prove it."""

from __future__ import annotations

from fractions import Fraction

from tachys.needs.kinds import LifeNeed, Need, NeedBounds
from tachys.words import amperes_text, life_text, limit_text, time_text


def what_holds(need: Need) -> str:
    """A need in the model's words."""
    return need.words(time_text)


def bound_text(need: Need, bound: int | Fraction | None, *, unseen: bool = False) -> str:
    """A bound, or what its lack means; ``unseen``: nothing is known of it at all."""
    if bound is not None:
        return value_text(need, bound, "up")
    if need.measures in ("current", "life"):
        return "unknown"
    return "none" if unseen else "possible" if need.measures == "number" else "unbounded"


def value_text(need: Need, value: int | Fraction | None, rounding: str = "near") -> str:
    """A limit or bound of a need, in its unit."""
    if need.measures == "number":
        return "-" if value is None else str(value)
    if isinstance(need, LifeNeed):
        other = {"up": "down", "down": "up"}.get(rounding, rounding)
        return "-" if value is None else life_text(need.battery.lasts(Fraction(value)), other)
    if need.measures == "current":
        return "-" if value is None else amperes_text(Fraction(value), rounding)
    return limit_text(value, rounding)


def slack_text(need: Need, limit: int | Fraction, bound: int | Fraction | None) -> str:
    """How much room there is between a bound and the limit; less than none with a minus."""
    if bound is None:
        return "-"
    if not isinstance(need, LifeNeed):
        return value_text(need, limit - bound, "down")
    asked, lasts = need.battery.lasts(Fraction(limit)), need.battery.lasts(Fraction(bound))
    if lasts is None or asked is None:
        return "-" if asked is None else life_text(None)
    return ("-" if lasts < asked else "") + life_text(abs(lasts - asked), "down" if lasts >= asked else "up")


def doubt_of(need: NeedBounds) -> str:
    """Why paper does not prove a need; empty where it does."""
    if need.proof.cannot_hold:
        side = "most" if isinstance(need.need, LifeNeed) else "least"
        return f"it cannot hold: at the {side} it is {value_text(need.need, need.least, 'down')}"
    return "" if need.proved else need.reason
