"""Results as plain data for programs: seconds in place of picoseconds, shares of one, numbers. One way for all outputs.

What the outputs look like is declared in ``outputs``, and described in docs/formats.md.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from fractions import Fraction
from typing import Any, Protocol

from tachys.figures import Figure
from tachys.frames import PS
from tachys.measures import measures_of

PERCENTILES = ("median", "p95", "p99", "p999")


class TimesCounted(Protocol):
    """Statistics of times in ps."""

    @property
    def count(self) -> int:
        """How many."""

    @property
    def mean(self) -> float | Fraction:
        """Their mean."""


def seconds(ps: int | None) -> float | None:
    """Picoseconds as seconds; None stays None."""
    return None if ps is None else ps / PS


def statistics(stats: TimesCounted | None, **more: object) -> dict[str, Any] | None:
    """Statistics in seconds; None where nothing was counted."""
    if stats is None:
        return None
    times = {name: seconds(getattr(stats, name)) for name in ("least", *PERCENTILES, "most")}
    mean = stats.mean / 10**12 if isinstance(stats.mean, Fraction) else stats.mean / 1e12
    return {"count": stats.count, "mean": float(mean), **times, **more}


def figure(figure: Figure | None) -> dict[str, Any] | None:
    """A figure with its parts, in seconds; None where there is none."""
    if figure is None:
        return None
    parts = [
        {"what": part.what, "who": part.who, "count": part.count, "time": seconds(part.total)} for part in figure.parts
    ]
    found: dict[str, Any] = {"least": seconds(figure.least), "most": seconds(figure.most), "parts": parts}
    return found | ({"reason": figure.reason} if figure.reason else {})


def possible(lost: bool) -> str:
    """Whether something may be lost, as programs read it."""
    return "possible" if lost else "never"


def by_thing(things: Mapping[str, Any], kind: str, convert: Callable[[Any], object], *more: str, **which: bool) -> Any:
    """The records of all things of a kind: its measures, converted, and ``more`` of their fields as they are."""
    found: dict[str, dict[str, object]] = {}
    for name, each in things.items():
        found[name] = {measure.key: convert(getattr(each, measure.key)) for measure in measures_of(kind, **which)}
        found[name] |= {field: getattr(each, field) for field in more}
    return found
