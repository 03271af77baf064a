"""Which part of a played model is worth a look: the need that came nearest to its limit, or the figure to its bound."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from tachys.model.events import Thing
from tachys.simulation import layout as at
from tachys.simulation.engine import Records, Run
from tachys.simulation.follow import answers
from tachys.simulation.lanes import Lanes, lanes
from tachys.simulation.options import RunOptions
from tachys.worstcase.bounds import Bounds


class Played(Struct, frozen=True):
    """A drawn part of a run: what it shows, and the span that is pointed at with its limit, if there is one."""

    bounds: Bounds
    lanes: Lanes
    title: str
    span: tuple[int, int] | None = None
    lane: str = ""
    limit: int | None = None


def play_moment(
    bounds: Bounds,
    ways: RunOptions,
    length: int,
    window: tuple[int, int] | None = None,
    span: tuple[int, int] | None = None,
) -> Played:
    """Play a model for ``length`` ps and take the lanes of a window; without one, of its worst moment.

    ``span`` in ps is what to point at, where that is known already.
    """
    run = Run(bounds.system, ways, length, record=True)
    records = run.play()
    if window is not None and span is None:
        return Played(bounds, lanes(records, run.index, *window), "played")
    found = _worst_need(bounds, records, run) if span is None else None
    title, limit, lane = "played", None, ""
    if span is None:
        title, span, limit, lane = found or _worst_latency(bounds, records, run)
    if window is None:
        around = max(span[1] - span[0], limit or 0, 10**6)
        window = (max(0, span[0] - around), min(length, span[1] + around))
    return Played(bounds, lanes(records, run.index, *window), title, span, lane, limit)


Found = tuple[str, tuple[int, int], int | None, str]


def _worst_need(bounds: Bounds, records: Records, run: Run) -> Found | None:
    """The longest answer of the need that came nearest to its limit, or went furthest beyond it."""
    worst: tuple[float, Found] | None = None
    for each in bounds.system.needs:
        need = each.follows
        if need is None:
            continue
        found = answers(records, bounds.system, run.index, need)
        if not len(found.after):
            continue
        place = int(np.argmax(found.after))
        begin, after = int(found.at[place]), int(found.after[place])
        title = f"the longest wait of need {need.name}"
        entry = (after / need.within, (title, (begin, begin + after), need.within, need.ends.thing))
        if worst is None or entry[0] > worst[0]:
            worst = entry
    return worst[1] if worst else None


def _worst_latency(bounds: Bounds, records: Records, run: Run) -> Found:
    told = records.kind == at.START
    if not told.any():
        return "the beginning", (0, min(run.end, 10**9)), None, ""
    waits = records.time[told] - records.cause[told]
    place = int(np.argmax(waits))
    name = run.index.rows[int(records.index[told][place])][0]
    end = int(records.time[told][place])
    thing = Thing(f"isr.{name}")
    return f"the longest latency, of {thing}", (end - int(waits[place]), end), None, thing
