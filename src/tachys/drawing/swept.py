"""A sweep as a figure: the room of each need over the figure that moves, load and losses below; or a map of two."""

from __future__ import annotations

from math import nan
from typing import TYPE_CHECKING

from tachys.drawing.figure import EDGE, LIMIT, new_figure, save
from tachys.foreign import drawable
from tachys.trying.amounts import Amount
from tachys.trying.sweeping import Break, Sweep

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.patches import Patch

_INKS = ("#2b5c8a", "#b5651d", "#4c8c4a", "#8a4f7d", "#6b6b6b", "#b08900")
_DASHES = ("-", "--", "-.", ":")
_MARKS = "osD^vPX*"
_MOST_LETTERS = 800  # cells that have room for a letter


def draw_sweep(found: Sweep, form: str) -> bytes:
    """The figure as PNG, SVG or PDF."""
    return _map(found, form) if len(found.over) == 2 else _lines(found, form)


def letters_of(found: Sweep) -> dict[str, str]:
    """A letter for each need that falls anywhere, in the order of the model."""
    fallen = [name for name in found.needs if any(name in outcome.falls for outcome in found.outcomes)]
    return {name: chr(ord("A") + number) if number < 26 else "+" for number, name in enumerate(fallen)}


def cell_of(found: Sweep, place: int, letters: dict[str, str]) -> str:
    """One point in one letter: "." holds, "!" is no model, else the first need that falls."""
    if place >= len(found.outcomes):
        return " "
    outcome = found.outcomes[place]
    if outcome.wrong:
        return "!"
    return letters[outcome.falls[0]] if outcome.falls else "."


def _scale(values: tuple[str, ...]) -> tuple[list[float], str, bool]:
    """(places on the axis, the unit, whether they are numbers): names stand one after the other."""
    try:
        first = Amount.read(values[0])
        return [float(Amount.read(value).in_unit_of(first).number) for value in values], first.unit, True
    except ValueError:
        return [float(place) for place in range(len(values))], "", False


def _lines(found: Sweep, form: str) -> bytes:
    figure, (top, below) = new_figure(2)
    (over,) = found.over
    at, unit, numbers = _scale(over.values)
    done = at[: len(found.outcomes)]
    room = {name: [outcome.needs[name].room if name in outcome.needs else None for outcome in found.outcomes]
            for name in found.needs}  # fmt: skip
    for number, (name, values) in enumerate(room.items()):
        shown = [nan if value is None else max(-1.0, value) * 100 for value in values]
        top.plot(done, shown, _DASHES[number % len(_DASHES)], color=_INKS[number % len(_INKS)],
                 marker=_MARKS[number % len(_MARKS)], markersize=4, markevery=max(1, len(done) // 12),
                 label=drawable(name))  # fmt: skip
    top.axhline(0, color=LIMIT, linewidth=1.5)
    top.set_ylabel("room, % of the limit")
    top.set_ylim(-105, 105)
    top.legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False, fontsize=9)
    top.set_title(drawable(f"Needs on paper over {over.key}"), loc="left")
    loads = [nan if outcome.load is None else outcome.load * 100 for outcome in found.outcomes]
    below.plot(done, loads, color=EDGE, label="load")
    always = found.always_lost
    lost = [x for x, outcome in zip(done, found.outcomes, strict=True) if set(outcome.lost) - always]
    if lost:
        below.plot(lost, [2.0] * len(lost), "x", color=LIMIT, label="more may be lost")
    wrong = [x for x, outcome in zip(done, found.outcomes, strict=True) if outcome.wrong]
    if wrong:
        below.plot(wrong, [50.0] * len(wrong), "|", color=LIMIT, markersize=12, label="no model")
    below.set_ylabel("load, %")
    below.set_ylim(0, 105)
    below.set_xlabel(drawable(f"{over.key}, {unit}" if unit else over.key))
    below.legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False, fontsize=9)
    if numbers:
        for each in found.breaks:
            _mark(top, below, float(Amount.read(each.holds).in_unit_of(Amount.read(over.values[0])).number), each)
    else:
        for axes in (top, below):
            axes.set_xticks(at, [drawable(value) for value in over.values])
    return save(figure, form)


def _mark(top: Axes, below: Axes, x: float, each: Break) -> None:
    for axes in (top, below):
        axes.axvline(x, color=LIMIT, linewidth=1, linestyle=(0, (4, 2)))
    words = f"{each.holds}: then {', '.join(each.needs[:2])}" if each.needs else each.holds
    left = x > sum(top.get_xlim()) / 2
    top.annotate(drawable(f" {words} "), (x, -80), ha="right" if left else "left", va="center", fontsize=9,
                 color=LIMIT, bbox={"facecolor": "white", "edgecolor": "none", "pad": 1})  # fmt: skip


def _map(found: Sweep, form: str) -> bytes:
    figure, (axes,) = new_figure()
    rows, columns = found.over
    letters = letters_of(found)
    width, height = len(columns.values), len(rows.values)
    for place in range(len(found.outcomes)):
        row, column = divmod(place, width)
        cell = cell_of(found, place, letters)
        holds = cell == "."
        ink = "#dfe8dc" if holds else "#e9d9d6" if cell == "!" else "#c9b2ae"
        axes.add_patch(_square(column, row, ink, "" if holds else "xx" if cell == "!" else "//"))
        if width * height <= _MOST_LETTERS and not holds:
            axes.text(column, row, cell, ha="center", va="center", fontsize=9,
                      bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.8})  # fmt: skip
    axes.set_xlim(-0.5, width - 0.5)
    axes.set_ylim(-0.5, height - 0.5)
    for ticks, values in ((axes.set_xticks, columns.values), (axes.set_yticks, rows.values)):
        step = max(1, len(values) // 10)
        ticks(list(range(0, len(values), step)), [drawable(value) for value in values[::step]])
    axes.tick_params(axis="x", rotation=30)
    axes.set_xlabel(drawable(columns.key))
    axes.set_ylabel(drawable(rows.key))
    told = ", ".join(f"{letter} {name} falls" for name, letter in letters.items()) or "every need holds everywhere"
    axes.set_title(drawable(f"plain: all needs hold; {told}"), loc="left", fontsize=10)
    return save(figure, form)


def _square(column: int, row: int, ink: str, hatch: str) -> Patch:
    from matplotlib.patches import Rectangle

    return Rectangle((column - 0.5, row - 0.5), 1, 1, facecolor=ink, edgecolor=EDGE, linewidth=0.3, hatch=hatch)
