"""A capture as it is on the analyser's screen: lines as levels, buses as boxes with their values, two cursors."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from tachys.capture.table import Capture, Signal
from tachys.drawing.figure import EDGE, LIMIT, new_figure, save
from tachys.foreign import drawable
from tachys.model.quantities import time_in_words

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Names = Mapping[tuple[str, int], str]
LINE, BOX = "#2b5c8a", "#d9e4ee"
MOST_LINES = 40
MOST_WORDS = 60


def draw_waveform(capture: Capture, cursors: tuple[int, ...], form: str, names: Names | None = None) -> bytes:
    """The lines of a capture (at most forty) from its begin to its end, and cursors with their difference.

    ``names`` are those of values of buses, by (bus, value).
    """
    names = names or {}
    figure, (axes,) = new_figure()
    shown = list(capture.signals.values())[:MOST_LINES]
    for row, signal in enumerate(shown):
        if signal.width == 1:
            _level(axes, row, signal, capture)
        else:
            _boxes(axes, row, signal, capture, names)
    axes.set_yticks(range(len(shown)), [drawable(signal.name) for signal in shown])
    axes.set_ylim(len(shown) - 0.3, -0.8)
    scale = _scale(capture)
    axes.set_xlim(0, capture.length / scale[0])
    axes.set_xlabel(f"{scale[1]} from {capture.begin / 1e9:.6f} ms of the capture")
    axes.grid(axis="x", color="#dddddd", linewidth=0.6)
    axes.set_axisbelow(True)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    for number, cursor in enumerate(cursors):
        place = (cursor - capture.begin) / scale[0]
        axes.axvline(place, color=LIMIT, linestyle="--" if number else "-", linewidth=1.4)
        axes.annotate("AB"[number % 2], (place, -0.62), (3, 0), textcoords="offset points", color=LIMIT, va="center")
    more = f" ({len(capture.signals) - len(shown)} more lines)" if len(shown) < len(capture.signals) else ""
    axes.set_title(f"{drawable(capture.name)}{more}{cursor_words(cursors, capture.known_to)}", loc="left")
    return save(figure, form)


def cursor_words(cursors: tuple[int, ...], known_to: int) -> str:
    """The cursors in words, and their difference as far as edges at them are known; empty without cursors."""
    if not cursors:
        return ""
    places = ", ".join(f"{'AB'[n % 2]} {cursor / 1e9:.6f} ms" for n, cursor in enumerate(cursors))
    apart = ""
    if len(cursors) == 2:
        apart = f", B - A = {time_in_words(cursors[1] - cursors[0])} ± {time_in_words(known_to)}"
    return f": {places}{apart}"


def _scale(capture: Capture) -> tuple[float, str]:
    return (1e9, "ms") if capture.length > 10**10 else (1e6, "us")


def _level(axes: Axes, row: int, signal: Signal, capture: Capture) -> None:
    """Known levels as a step line; where a level is not known, a grey bar half-way."""
    scale = _scale(capture)[0]
    at = np.append(signal.at, capture.end)
    times = (at - capture.begin) / scale
    heights = np.where(signal.known, row + 0.3 - 0.6 * np.minimum(signal.value, 1), np.nan)
    axes.step(times, np.append(heights, heights[-1:]), where="post", color=LINE, linewidth=1.2)
    unknown = [(times[k], times[k + 1] - times[k]) for k in np.flatnonzero(~signal.known)]
    if unknown:
        axes.broken_barh(unknown, (row - 0.1, 0.2), facecolors="#bbbbbb", hatch="xxxx", edgecolors=EDGE, linewidth=0.3)


def _boxes(axes: Axes, row: int, signal: Signal, capture: Capture, names: Names) -> None:
    scale = _scale(capture)[0]
    times = (np.append(signal.at, capture.end) - capture.begin) / scale
    bars = [(times[k], times[k + 1] - times[k]) for k in range(len(signal.at))]
    axes.broken_barh(bars, (row - 0.3, 0.6), facecolors=BOX, edgecolors=EDGE, linewidth=0.6)
    whole = capture.length / scale
    wide = [k for k in range(len(signal.at)) if bars[k][1] > whole / 40][:MOST_WORDS]
    for k in wide:
        axes.text(bars[k][0] + bars[k][1] / 2, row, _value_text(signal, k, names), ha="center", va="center", fontsize=8)


def waveform_lines(capture: Capture, cursors: tuple[int, ...], width: int, names: Names | None = None) -> list[str]:
    """The same as lines of text: ``_`` low, ``#`` high, ``|`` both in one column, ``?`` not known, values of buses.

    A value of a bus stands where it begins, and dashes behind it for as long as it holds; ``+`` where it has no room.
    """
    names = names or {}
    label = max((len(name) for name in capture.signals), default=4)
    columns = max(20, width - label - 2)
    scale = max(1, -(-capture.length // columns))
    lines = [f"{capture.file}{cursor_words(cursors, capture.known_to)}; a column is {time_in_words(scale)}"]
    for name, signal in capture.signals.items():
        lines.append(f"{name:<{label}}  {_text_row(signal, capture, columns, scale, names)}")
    marks = [" "] * columns
    for number, cursor in enumerate(cursors):
        marks[min(columns - 1, max(0, (cursor - capture.begin) // scale))] = "AB"[number % 2]
    legend = "_ low  # high  | changes within a column  ? unknown"
    if any(signal.width > 1 for signal in capture.signals.values()):
        legend += "  1F-- value of a bus (hexadecimal)  + no room for it"
    return [*lines, f"{'':<{label}}  {''.join(marks)}".rstrip(), legend]


def _text_row(signal: Signal, capture: Capture, columns: int, scale: int, names: Names) -> str:
    borders = capture.begin + scale * np.arange(columns + 1)
    first = np.searchsorted(signal.at, borders[:-1], side="right") - 1
    last = np.searchsorted(signal.at, borders[1:], side="left") - 1
    # of each column: the place of its only value, -1: there are several, -2: before the first
    places = [
        -2 if end < 0 else end if end == max(begin, 0) else -1
        for begin, end in zip(first.tolist(), last.tolist(), strict=True)
    ]
    return "".join(_cells(signal, place, len(list(run)), names) for place, run in itertools.groupby(places))


def _cells(signal: Signal, place: int, columns: int, names: Names) -> str:
    """So many columns that show one value."""
    if place == -1:
        return "|" * columns
    if place == -2 or not signal.known[place]:
        return "?" * columns
    if signal.width == 1:
        return "_#"[int(signal.value[place])] * columns
    text = _value_text(signal, place, names)
    return f"{text:-<{columns}}" if len(text) < columns or len(text) == 1 else "+" * columns


def _value_text(signal: Signal, place: int, names: Names) -> str:
    number = signal.number(place)
    if number is not None and (signal.name, number) in names:
        return names[signal.name, int(number)]
    return "?" if number is None else f"{number:X}" if isinstance(number, int) else f"{number:.4g}"
