"""The average supply current as stacked bars: state by state, and by who causes it."""

from __future__ import annotations

from fractions import Fraction

from tachys.drawing.figure import EDGE, new_figure, save
from tachys.foreign import drawable
from tachys.words import amperes_text, share_text
from tachys.worstcase.supply import Part, Supply

_SHADES = ("#2b5c8a", "#c9a227", "#6a9a5b", "#8a4f7d", "#9fbcd6", "#d9d9d9", "#b06a4b", "#777777")
_HATCHES = ("", "///", "...", "xx", "\\\\\\", "||", "--", "++")
_NAMED = 0.08  # of the width, from where on a name stands in its part
_MOST = 8  # parts; the smaller ones are one


def draw_supply(title: str, play: Supply, paper: Supply, seconds: Fraction, form: str) -> bytes:
    """The figure as PNG, SVG or PDF.

    Raises:
        ValueError: the average is not known, or the form cannot be drawn.
    """
    if play.average is None or not play.average[1]:
        raise ValueError("no average is known")
    figure, all_axes = new_figure(2)
    for axes, (what, parts) in zip(
        all_axes, (("state by state", play.states), ("who causes it", play.causes)), strict=True
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
    paper_text = "unknown on paper"
    if paper.average is not None:
        least, most = amperes_text(paper.average[0], "down"), amperes_text(paper.average[1], "up")
        paper_text = f"{least} to {most} on paper"
    figure.suptitle(f"{drawable(title)}: {amperes_text(play.average[1])} on average as played, {paper_text}", x=0.01,
                    ha="left", fontsize=11)  # fmt: skip
    return save(figure, form)


def _largest(parts: dict[str, Part], seconds: Fraction) -> list[tuple[str, Fraction]]:
    """(name, its part of the average) of the largest, what is left as one."""
    ranked = sorted(((name, part.charge[1] / seconds) for name, part in parts.items()), key=lambda each: -each[1])
    if len(ranked) <= _MOST:
        return ranked
    return [*ranked[: _MOST - 1], ("all others", sum((each[1] for each in ranked[_MOST - 1 :]), Fraction(0)))]
