"""Needs beside each other as bars: the bound of each column as a share of its limit."""

from __future__ import annotations

from tachys.drawing.figure import EDGE, LIMIT, new_figure, save
from tachys.foreign import drawable
from tachys.trying.comparing import Comparison, Row

_SHADES = ("#2b5c8a", "#c9a227", "#6a9a5b", "#8a4f7d")
_HATCHES = ("", "///", "...", "xx")
_MOST = 2.5  # limits: what is further beyond is cut, and says so


def draw_comparison(found: Comparison, form: str) -> bytes:
    """The figure as PNG, SVG or PDF."""
    needs = [row for row in found.rows if row.about.startswith("need.") and row.quantity == "bound"]
    limits = {row.about: row for row in found.rows if row.quantity == "limit"}
    figure, (axes,) = new_figure()
    count = len(found.columns)
    high, widest = 0.8 / max(count, 1), 1.2
    for place, row in enumerate(needs):
        for column in range(count):
            share, words = _share(row, limits[row.about], column)
            widest = max(widest, min(share, _MOST))
            at = place + (column - (count - 1) / 2) * high
            axes.barh(at, min(share, _MOST), high * 0.92, color=_SHADES[column % len(_SHADES)], edgecolor=EDGE,
                      hatch=_HATCHES[column % len(_HATCHES)], linewidth=0.6,
                      label=drawable(found.columns[column]) if place == 0 else None)  # fmt: skip
            axes.text(min(share, _MOST) + 0.02, at, words, va="center", fontsize=8,
                      bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.6})  # fmt: skip
    axes.axvline(1.0, color=LIMIT, linewidth=1.5)
    axes.text(1.0, -0.62, "limit", color=LIMIT, ha="center", va="bottom", fontsize=9)
    axes.set_yticks(range(len(needs)), [drawable(row.about.removeprefix("need.")) for row in needs])
    axes.set_ylim(len(needs) - 0.4, -0.6)
    axes.set_xlim(0, widest * 1.1)
    ticks = [0.25 * step for step in range(int(widest * 4) + 1)]
    axes.set_xticks(ticks, [f"{tick:.0%}" for tick in ticks])
    axes.set_xlabel("bound, as a share of the limit")
    axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.1), ncols=min(count, 3), frameon=False, fontsize=9)
    axes.set_title("Needs on paper, side by side", loc="left")
    return save(figure, form)


def _share(row: Row, limit: Row, column: int) -> tuple[float, str]:
    value, most = row.values[column], limit.values[column]
    if value is None or most is None:
        return 0.0, "not in it"
    if isinstance(value, str):
        return _MOST, value
    if isinstance(most, str) or not most:
        return 0.0 if not value else _MOST, f"{value:g} of 0"
    share = value / most
    return share, f"{share:.0%}" + (" (cut)" if share > _MOST else "")
