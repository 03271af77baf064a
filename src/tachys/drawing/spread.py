"""How often a time was how long: the distribution of a latency, its limit, its bound and the worst that was seen."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from tachys.drawing.figure import EDGE, LIMIT, new_figure, save
from tachys.simulation.statistics import Counted, bucket_end

BAR = "#2b5c8a"


class Spread(Struct, frozen=True):
    """One distribution: what it is of, what was counted, limit and bound in ps where there are any."""

    title: str
    counted: Counted
    limit: int | None = None
    bound: int | None = None


def draw_spreads(spreads: list[Spread], form: str) -> bytes:
    """Up to four distributions below each other, counts on a logarithmic scale so that rare ones show.

    Raises:
        ValueError: nothing was counted, or the form cannot be drawn.
    """
    shown = [spread for spread in spreads if spread.counted.count][:4]
    if not shown:
        raise ValueError("nothing was counted")
    figure, all_axes = new_figure(len(shown))
    for axes, spread in zip(all_axes, shown, strict=True):
        counted = spread.counted
        filled = np.flatnonzero(counted.buckets)
        left = np.array([bucket_end(int(bucket) - 1, counted.bits) + 1 if bucket else 0 for bucket in filled]) / 1e6
        right = np.array([bucket_end(int(bucket), counted.bits) + 1 for bucket in filled]) / 1e6
        least_width = max(spread.bound or 0, counted.most, spread.limit or 0) / 1e6 / 400
        axes.bar(left, counted.buckets[filled], np.maximum(right - left, least_width), align="edge", color=BAR)
        axes.set_yscale("log")
        axes.yaxis.set_major_formatter("{x:.0f}")
        axes.yaxis.set_minor_formatter("")
        axes.set_ylim(bottom=0.7)
        most = max(spread.bound or 0, counted.most, spread.limit or 0) / 1e6
        axes.set_xlim(0, most * 1.12)
        marks = [("worst seen", counted.most, EDGE, ":", 0.92), ("bound", spread.bound, EDGE, "-", 0.74),
                 ("limit", spread.limit, LIMIT, "--", 0.56)]  # fmt: skip
        for words, time, colour, style, height in marks:
            if time is None:
                continue
            axes.axvline(time / 1e6, color=colour, linestyle=style, linewidth=1.6)
            side = "right" if time / 1e6 > most * (0.15 if words == "worst seen" else 0.8) else "left"
            axes.annotate(f"{words} {_us(time, words)} us", (time / 1e6, height), (-4 if side == "right" else 4, 0),
                          xycoords=("data", "axes fraction"), textcoords="offset points", ha=side, va="center",
                          fontsize=9, color=colour,
                          bbox={"boxstyle": "round,pad=0.15", "facecolor": "white", "edgecolor": "none"})  # fmt: skip
        axes.set_title(f"{spread.title}: {counted.count} counted", loc="left", fontsize=10)
        axes.set_ylabel("count")
        for side_ in ("top", "right"):
            axes.spines[side_].set_visible(False)
    all_axes[-1].set_xlabel("us")
    return save(figure, form)


def _us(ps: int, words: str) -> str:
    """A time in us; a bound is rounded up, so that it stays one."""
    hundredths = -(-ps // 10_000) if words == "bound" else round(ps / 10_000)
    return f"{hundredths / 100:.2f}"
