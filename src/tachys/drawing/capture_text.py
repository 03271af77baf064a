"""A moment of a capture as lines of text, for a terminal: a row a thing, a character a state."""

from __future__ import annotations

import numpy as np

from tachys.checking.probes.lines import Bodies
from tachys.checking.result import CheckResult
from tachys.drawing.text import ruler
from tachys.model.quantities import time_in_words

RUNS, ASIDE, WAITS = "#", "=", "."
WORDS = "v event . waits # runs = put aside, or its line alone | the answer"


def moment_lines(
    result: CheckResult, begin: int, end: int, width: int, wait: tuple[str, int, int] | None = None
) -> list[str]:
    """The lanes of a capture from ``begin`` to ``end`` ps in ``width`` columns (at least 40).

    ``wait``: (thing, from, to) of a wait that is pointed at.
    """
    board = result.board
    order = [thing for thing in board.things if thing.kind == "line"]
    order += [isr.thing for isr in board.system.isrs if isr.thing in board.shown.bodies]
    order += [thing for thing in board.shown.bodies if thing.kind in ("step", "unit")]
    label = max([len(thing) for thing in order] + [4])
    columns = max(20, width - label - 2)
    scale = max(1, -(-(end - begin) // columns))
    tops = board.tops.between(begin, end)
    rows = []
    for thing in order:
        cells = [" "] * columns
        _bar(cells, board.shown.bodies[thing], begin, end, scale, RUNS if thing.kind == "unit" else ASIDE)
        number = board.things.index(thing) if thing in board.things else -2
        for first, last, who in tops:
            if who == number:
                _fill(cells, first - begin, last - begin, scale, RUNS)
        if wait is not None and wait[0] == thing:
            _fill(cells, wait[1] - begin, wait[2] - begin, scale, WAITS, over=" ")
        if thing.kind == "isr":
            for event in board.system.isr(thing.name).on:
                at = board.events(event)
                inside = at[(at >= begin) & (at < end)] if at is not None else np.zeros(0, np.int64)
                for instant in inside.tolist():
                    cells[min(columns - 1, (instant - begin) // scale)] = "v"
        rows.append(f"{thing:<{label}}  {''.join(cells)}".rstrip())
    head = f"from {begin / 1e9:.6f} ms of the capture; a column is {time_in_words(scale)}"
    return [head, *rows, " " * (label + 2) + ruler(columns, scale), WORDS.replace(" | the answer", "")]


def _bar(cells: list[str], bodies: Bodies, begin: int, end: int, scale: int, sign: str) -> None:
    first = int(np.searchsorted(bodies.end, begin))
    last = int(np.searchsorted(bodies.start, end))
    for a, b in zip(bodies.start[first:last].tolist(), bodies.end[first:last].tolist(), strict=True):
        _fill(cells, a - begin, b - begin, scale, sign)


def _fill(cells: list[str], first: int, last: int, scale: int, sign: str, over: str | None = None) -> None:
    """Put a sign into the columns of a stretch, at least one; ``over``: only where that stands."""
    left = max(0, first // scale)
    right = min(len(cells) - 1, max(left, (last - 1) // scale))
    for column in range(left, right + 1):
        if over is None or cells[column] == over:
            cells[column] = sign
