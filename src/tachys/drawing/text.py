"""A scene as lines of text, for a terminal: a row a thing, a character a state."""

from __future__ import annotations

from itertools import pairwise

from tachys.drawing.scene import Lane, Scene
from tachys.model.quantities import time_in_words
from tachys.simulation.lanes import State

# where two states share a character, the one that stands first is shown: nothing that ran vanishes
SIGNS: dict[State, str] = {
    "runs": "#", "enters": "+", "leaves": "+", "waits": ".", "wakes": "^", "sleeps": "z", "aside": "=", "spins": "~",
    "works": "o", "high": "h", "set": "|",
}  # fmt: skip
_WORDS = {"v": "event", "?": "event, estimated", ".": "waits", "+": "entry, exit", "#": "runs",
          "!": "runs and holds interrupts off", "=": "put aside", "~": "spins", "z": "asleep", "^": "wakes",
          "o": "unit works", "h": "pin is high", "|": "flag set", "*": "event within it", "X": "lost"}  # fmt: skip
_LEVELS = "▁▂▃▄▅▆▇█"  # the last is full


def text_lines(scene: Scene, width: int) -> list[str]:
    """The lanes in ``width`` columns (at least 40), with a ruler below and a legend of what is in them."""
    label = max([len(lane.thing) for lane in scene.lanes] + [4])
    columns = max(20, width - label - 2)
    scale = max(1, -(-(scene.end - scene.begin) // columns))
    lines = [scene.title, f"from {scene.begin / 1e9:.6f} ms of {scene.of}; a column is {time_in_words(scale)}"]
    rows = [_row(scene, lane, columns, scale) for lane in scene.lanes]
    lines += [f"{lane.thing:<{label}}  {row}".rstrip() for lane, row in zip(scene.lanes, rows, strict=True)]
    lines.append(" " * (label + 2) + ruler(columns, scale))
    if scene.span is not None:
        span = scene.span
        limit = "" if span.limit is None else f", limit {time_in_words(span.limit)}"
        since, until = (time_in_words(time - scene.begin) for time in (span.begin, span.end))
        took = time_in_words(span.end - span.begin)
        lines.append(f"pointed at: {span.lane} from {since} to {until}: {took}{limit}")
    used = {sign for row in rows for sign in row}
    filled = [lane for lane in scene.lanes if lane.levels]
    if filled:
        most = [f"{lane.thing} {max(level for _, level in lane.levels)} of {lane.depth}" for lane in filled]
        lines.append(f"{_LEVELS} most in a column, {_LEVELS[-1]} full; in all " + ", ".join(most))
    return [*lines, "  ".join(f"{sign} {words}" for sign, words in _WORDS.items() if sign in used)]


def _row(scene: Scene, lane: Lane, columns: int, scale: int) -> str:
    rank = {state: number for number, state in enumerate(SIGNS)}
    cells: list[State | None] = [None] * columns

    def places(begin: int, end: int) -> range:
        first = max(0, (begin - scene.begin) // scale)
        return range(first, min(columns - 1, max(first, (end - scene.begin - 1) // scale)) + 1)

    for bar in lane.bars:
        for column in places(bar.begin, bar.end):
            before = cells[column]
            if before is None or rank[bar.state] < rank[before]:
                cells[column] = bar.state
    row = [" " if cell is None else SIGNS[cell] for cell in cells]
    highest = [0] * columns
    for (begin, level), (end, _) in pairwise([*lane.levels, (scene.end, 0)]):
        for column in places(begin, max(end, begin + 1)):
            highest[column] = max(highest[column], level)
    if lane.levels:
        # a board may hold more than the model knows
        row = [_LEVELS[min(7, -(-7 * level // lane.depth))] if level else " " for level in highest]
    for hold in scene.holds:
        if hold.who == lane.thing:
            for column in places(hold.begin, hold.end):
                row[column] = "!" if row[column] == "#" else row[column]
    for time in lane.events:
        column = min(columns - 1, (time - scene.begin) // scale)
        row[column] = ("?" if lane.estimated else "v") if row[column] in " .+" else row[column]
    for time in lane.moments:
        row[min(columns - 1, (time - scene.begin) // scale)] = "*"
    for time in lane.lost:
        row[min(columns - 1, (time - scene.begin) // scale)] = "X"
    return "".join(row)


def ruler(columns: int, scale: int) -> str:
    """A mark every twenty columns with its time since the beginning of the window."""
    text = [" "] * (columns + 12)
    for column in range(0, columns, 20):
        word = f"|{time_in_words(column * scale)}"
        if column + len(word) <= columns:
            text[column : column + len(word)] = word
    return "".join(text[:columns]).rstrip()
