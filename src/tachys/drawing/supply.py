"""The average supply current as stacked bars, state by state and by who causes it, and over one wake-up."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import TYPE_CHECKING

from tachys.drawing.figure import EDGE, new_figure, save
from tachys.foreign import drawable
from tachys.frames import PS
from tachys.simulation.waking import Piece
from tachys.words import amperes_text, share_text, time_text
from tachys.worstcase.supply import Part, Supply

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_SHADES = ("#2b5c8a", "#c9a227", "#6a9a5b", "#8a4f7d", "#9fbcd6", "#d9d9d9", "#b06a4b", "#777777")
_HATCHES = ("", "///", "...", "xx", "\\\\\\", "||", "--", "++")
_NAMED = 0.08  # of the width, from where on a name stands in its part
_MOST = 8  # parts; the smaller ones are one


def draw_supply(
    title: str, play: Supply, paper: Supply, seconds: Fraction, form: str, awake: Sequence[Piece] = ()
) -> bytes:
    """The figure as PNG, SVG or PDF; below it the current over one wake-up, if there is one.

    Raises:
        ValueError: the average is not known, or the form cannot be drawn.
    """
    if play.average is None or not play.average[1]:
        raise ValueError("no average is known")
    figure, all_axes = new_figure(3 if awake else 2)
    for axes, (what, parts) in zip(
        all_axes, (("state by state", play.states), ("who causes it", play.causes)), strict=False
    ):
        begin, whole = 0.0, float(play.average[1])
        for number, (name, current) in enumerate(_largest(parts, seconds)):
            width = float(current)
            label = f"{drawable(name)} {amperes_text(current)}, {share_text(current / play.average[1])}"
            axes.barh(0, width, left=begin, height=0.5, color=_SHADES[number], edgecolor=EDGE, linewidth=0.6,
                      hatch=_HATCHES[number], label=label)  # fmt: skip
            if width / whole >= _NAMED:
                axes.text(begin + width / 2, 0, drawable(name), ha="center", va="center", fontsize=9,
                          bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.5})  # fmt: skip
            begin += width
        axes.set_xlim(0, whole)
        axes.set_ylim(-0.4, 0.4)
        axes.set_yticks([])
        ticks = [whole * step / 4 for step in range(5)]
        axes.set_xticks(ticks, [amperes_text(Fraction(tick)) for tick in ticks])
        axes.set_title(what, loc="left", fontsize=10)
        axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.12), ncols=3, frameon=False, fontsize=9)
    if awake:
        _draw_over_time(all_axes[2], awake)
    paper_text = "unknown on paper"
    if paper.average is not None:
        least, most = amperes_text(paper.average[0], "down"), amperes_text(paper.average[1], "up")
        paper_text = f"{least} to {most} on paper"
    figure.suptitle(f"{drawable(title)}: {amperes_text(play.average[1])} on average as played, {paper_text}", x=0.01,
                    ha="left", fontsize=11)  # fmt: skip
    return save(figure, form)


def _draw_over_time(axes: Axes, awake: Sequence[Piece]) -> None:
    """The current as it changes, a name on each state that lasts; by powers of ten, as a sleep takes so little."""
    begin, end = awake[0].begin, awake[-1].end
    times = [(each.begin - begin) / PS for each in awake] + [(end - begin) / PS]
    amperes = [float(each.amperes) for each in awake]
    least = min((each for each in amperes if each), default=1e-9)
    axes.stairs(amperes, times, baseline=least / 3, fill=True, color=_SHADES[4])
    axes.stairs(amperes, times, baseline=None, color=EDGE)
    axes.set_yscale("log")
    axes.set_ylim(least / 3, max(amperes) * 4)
    axes.set_xlim(times[0], times[-1])
    axes.minorticks_off()
    ticks = list[float]()
    for each in sorted({each for each in amperes if each}, reverse=True):  # none over another
        ticks += [each] if not ticks or each < ticks[-1] / 2 else []
    axes.set_yticks(ticks, [amperes_text(Fraction(tick)) for tick in ticks], fontsize=8)
    steps = [times[-1] * step / 4 for step in range(5)]
    axes.set_xticks(steps, [time_text(round(step * PS)) for step in steps])
    for piece, first, last in zip(awake, times[:-1], times[1:], strict=True):
        if (last - first) / times[-1] >= _NAMED:
            axes.text((first + last) / 2, float(piece.amperes) * 1.4, piece.state, ha="center", fontsize=9)
    axes.set_title("over one wake-up, the longest of those played first", loc="left", fontsize=10)


def _largest(parts: dict[str, Part], seconds: Fraction) -> list[tuple[str, Fraction]]:
    """(name, its part of the average) of the largest, what is left as one."""
    ranked = sorted(((name, part.charge[1] / seconds) for name, part in parts.items()), key=lambda each: -each[1])
    if len(ranked) <= _MOST:
        return ranked
    return [*ranked[: _MOST - 1], ("all others", sum((each[1] for each in ranked[_MOST - 1 :]), Fraction(0)))]
