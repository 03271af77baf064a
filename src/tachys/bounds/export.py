"""The bounds as plain data for programs: format "tachys.bounds/1", described in docs/formats.md."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

from tachys.bounds.result import Bounds, Figure, NeedBounds

PS = 10**12


def seconds(ps: int | None) -> float | None:
    """Picoseconds as seconds; None stays None."""
    return None if ps is None else ps / PS


def range_of(figure: Figure) -> dict[str, Any]:
    """A figure with its parts, in seconds."""
    parts = [
        {"what": part.what, "who": part.who, "count": part.count, "time": seconds(part.total)} for part in figure.parts
    ]
    found: dict[str, Any] = {"least": seconds(figure.least), "most": seconds(figure.most), "parts": parts}
    if figure.reason:
        found["reason"] = figure.reason
    return found


def limit_value(value: int | Fraction | None) -> float | None:
    """A limit or bound: seconds for times, a share of one for loads."""
    return float(value) if isinstance(value, Fraction) else seconds(value)


def need_of(need: NeedBounds) -> dict[str, Any]:
    """One need on paper."""
    found = {"verdict": str(need.verdict), "limit": limit_value(need.limit), "bound": limit_value(need.bound)}
    return found | ({"reason": need.reason} if need.reason else {})


def bounds_data(bounds: Bounds) -> dict[str, Any]:
    """Everything, keyed by the model's names."""
    return {
        "format": "tachys.bounds/1",
        "title": bounds.system.title,
        "load": {
            "least": float(bounds.load.least),
            "most": float(bounds.load.most),
            "shares": {
                share.who: {"least": float(share.least), "most": float(share.most)} for share in bounds.load.shares
            },
        },
        "isrs": {
            name: {
                "latency": range_of(isr.latency),
                "response": range_of(isr.response),
                "span": range_of(isr.span),
                "lost": "possible" if isr.lost else "never",
                "pending_needed": isr.pending_needed,
            }
            for name, isr in bounds.isrs.items()
        },
        "needs": {name: need_of(need) for name, need in bounds.needs.items()},
    }
