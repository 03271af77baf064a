"""A played model as lines of text, for a terminal: a row a thing, a character a state."""

from __future__ import annotations

from tachys.drawing.lanes import shown_lanes
from tachys.drawing.moment import Played
from tachys.model.events import Thing
from tachys.model.quantities import time_in_words
from tachys.simulation.lanes import State
from tachys.simulation.timeline import event_instants

# where two states share a character, the one that stands first is shown: nothing that ran vanishes
SIGNS: dict[State, str] = {
    "runs": "#", "enters": "+", "leaves": "+", "aside": "=", "waits": ".", "spins": "~", "wakes": "^", "works": "o",
    "set": "|", "sleeps": "z",
}  # fmt: skip
WORDS = "v event . waits + entry, exit # runs = aside ~ spins z asleep ^ wakes o works | flag set"


def text_lines(played: Played, width: int) -> list[str]:
    """The lanes in ``width`` columns (at least 40), with a ruler below and a legend."""
    lanes = played.lanes
    order = shown_lanes(played.bounds.system, played)
    label = max([len(who) for who in order] + [4])
    columns = max(20, width - label - 2)
    scale = max(1, -(-(lanes.end - lanes.begin) // columns))
    lines = [f"{played.title}; a column is {time_in_words(scale)}"]
    rank = {state: number for number, state in enumerate(SIGNS)}
    for who in order:
        cells: list[State | None] = [None] * columns
        for stretch in lanes.of(who):
            first = max(0, (stretch.begin - lanes.begin) // scale)
            last = min(columns - 1, max(first, (stretch.end - lanes.begin - 1) // scale))
            for column in range(first, last + 1):
                before = cells[column]
                if before is None or rank[stretch.state] < rank[before]:
                    cells[column] = stretch.state
        row = [" " if cell is None else SIGNS[cell] for cell in cells]
        for time in _events(played, who):
            column = min(columns - 1, (time - lanes.begin) // scale)
            row[column] = "v" if row[column] in " ." else row[column]
        for time in lanes.lost.get(who, []):
            row[min(columns - 1, (time - lanes.begin) // scale)] = "X"
        lines.append(f"{who:<{label}}  {''.join(row)}".rstrip())
    lines.append(" " * (label + 2) + ruler(columns, scale))
    if played.span is not None:
        limit = "" if played.limit is None else f", limit {time_in_words(played.limit)}"
        since, until = (f"{(time - lanes.begin) / 1e6:.2f} us" for time in played.span)
        took = time_in_words(played.span[1] - played.span[0])
        lines.append(f"pointed at: {played.lane} from {since} to {until}: {took}{limit}")
    return [*lines, WORDS + (" X lost" if lanes.lost else "")]


def _events(played: Played, who: Thing) -> list[int]:
    if who.kind != "isr":
        return []
    events = played.bounds.system.isr(who.name).on
    inside = (time for event in events for time in event_instants(played.lanes, event))
    return [time for time in inside if played.lanes.begin <= time <= played.lanes.end]


def ruler(columns: int, scale: int) -> str:
    """A mark every twenty columns with its time since the beginning of the window."""
    text = [" "] * (columns + 12)
    for column in range(0, columns, 20):
        word = f"|{time_in_words(column * scale)}"
        if column + len(word) <= columns:
            text[column : column + len(word)] = word
    return "".join(text[:columns]).rstrip()
