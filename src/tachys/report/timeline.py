"""A whole capture as data for the timeline of a page: bars and marks of every lane, packed, and thinned where too many.

Times are whole numbers of a unit from the beginning on. A stream is a list of whole numbers, none below zero, each as
seven bits a byte, the lowest first, the highest bit set on all bytes but its last (LEB128), in base64. Bars are two
streams: from each begin to the next, and how long each lasts.
"""

from __future__ import annotations

import base64
import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from msgspec import Struct, field

from tachys.capture.table import Instants
from tachys.checking.board.measuring import Measurement
from tachys.checking.result import CheckResult
from tachys.drawing.scene import Lane, Moment, empty_lanes, events_of, lost_of, scene_of_capture, state_on_top
from tachys.stretches import joined

Bars = tuple[Instants, Instants]
_AT_MOST = 40  # moments that are kept whole
_WAITS_APART = 200  # waits, the longest, of which it is looked at what held them off


class _Drawn(Struct):
    """A lane as arrays in ps."""

    lane: Lane
    bars: dict[str, Bars] = field(default_factory=dict)
    marks: dict[str, Instants] = field(default_factory=dict)
    levels: Bars | None = None  # from when on, how many

    @property
    def size(self) -> int:
        """Numbers to be packed."""
        levels = 0 if self.levels is None else 2 * len(self.levels[0])
        return levels + sum(2 * len(begin) for begin, _ in self.bars.values()) + sum(map(len, self.marks.values()))


def packed(numbers: Instants) -> str:
    """A stream."""
    if not len(numbers):
        return ""
    rest = numbers.astype(np.uint64)
    sizes = np.maximum(
        1, -(-np.frexp(rest.astype(np.float64))[1] // 7)
    )  # a float may round up: one byte more is no harm
    out = np.zeros(int(sizes.sum()), np.uint8)
    place = np.cumsum(sizes) - sizes
    for byte in range(int(sizes.max())):
        some = sizes > byte
        more = sizes[some] > byte + 1
        out[place[some] + byte] = (rest[some] & np.uint64(127)).astype(np.uint8) | np.where(more, 128, 0).astype(
            np.uint8
        )
        rest >>= np.uint64(7)
    return base64.b64encode(out.tobytes()).decode()


def timeline_data(result: CheckResult, moments: Sequence[Moment], limit: int) -> dict[str, Any]:
    """The lanes of a capture for a page, at most about ``limit`` bytes; around ``moments`` nothing is left out."""
    capture, board = result.capture, result.board
    unit = 1000 if capture.resolution >= 10_000 else 1
    drawn = [_drawn(board, lane) for lane in empty_lanes(board, result.bounds.system)]
    kept = _windows(moments, capture.begin, capture.end)
    room = max(1, (limit * 3 // 4) // 4 // max(1, len(drawn)))  # numbers a lane, of some four bytes each as they stand
    lanes, thinned = [], False
    for each in drawn:
        thin: Bars | None = None
        if each.size > room:
            each, thin = _thinned(each, kept, room, capture.begin, capture.end)
            thinned = True
        lanes.append(_lane_data(each, thin, capture.begin, unit))
    number = {each.lane.thing: place for place, each in enumerate(drawn)}
    holds = [
        [_to(hold.begin, capture.begin, unit), _to(hold.end, capture.begin, unit), number.get(hold.who, -1),
         [number[lane] for lane in hold.lanes if lane in number], str(hold.who)]
        for hold in _holds(result, moments)
    ]  # fmt: skip
    return {
        "name": capture.name, "unit": unit / 1e12, "begin": capture.begin / 1e12,
        "length": _to(capture.end, capture.begin, unit), "resolution": capture.known_to / 1e12, "lanes": lanes,
        "holds": holds, "thinned": thinned,
        "moments": [
            {"title": moment.title, "begin": _to(max(moment.begin, capture.begin), capture.begin, unit),
             "end": _to(min(moment.end, capture.end), capture.begin, unit)}
            for moment in moments
        ],
    }  # fmt: skip


def _to(instant: int, begin: int, unit: int) -> int:
    return (instant - begin) // unit


def _drawn(board: Measurement, lane: Lane) -> _Drawn:
    """All that a lane shows, from the beginning to the end."""
    found = _Drawn(lane)
    bodies = board.shown.bodies.get(lane.thing)
    if bodies is not None:
        found.bars["works" if lane.kind == "unit" else "aside"] = bodies.start, bodies.end
    if lane.thing in board.things:
        mine = np.flatnonzero(board.tops.who == board.things.index(lane.thing))
        ends = np.append(board.tops.at, board.capture.end)
        found.bars[state_on_top(board.system, lane.thing)] = board.tops.at[mine], ends[mine + 1]
    seen = events_of(board, lane.thing)
    found.marks["events"] = np.sort(np.concatenate([np.zeros(0, np.int64), *seen]))
    found.marks["lost"] = np.sort(lost_of(board, lane.thing))
    if lane.kind == "buffer":
        filled = board.buffers[lane.thing.name]
        lane.depth, found.levels = filled.buffer.depth, filled.level_steps()
    delays = board.isrs[lane.thing.name].latency if lane.kind == "isr" else None
    if delays is not None and not delays.relative:
        some = delays.after > 0
        order = np.argsort(delays.at[some], kind="stable")
        begins = delays.at[some][order]
        found.bars["waits"] = begins, begins + delays.after[some][order]
        if not seen and board.isrs[lane.thing.name].grid is not None:
            lane.estimated, found.marks["events"] = True, np.sort(delays.at)
    return found


def _windows(moments: Sequence[Moment], begin: int, end: int) -> Bars:
    """The moments as stretches that do not overlap, with as much again on either side."""
    around = [(moment.begin, moment.end, moment.end - moment.begin) for moment in moments[:_AT_MOST]]
    first, last, margin = np.array(around, np.int64).reshape(-1, 3).T
    return joined(np.maximum(begin, first - margin), np.minimum(end, last + margin))


def _inside(begin: Instants, end: Instants, kept: Bars) -> Any:
    """Which stretches touch one of those that are kept."""
    place = np.searchsorted(kept[1], begin, side="left")
    known = place < len(kept[0])
    found = np.zeros(len(begin), np.bool_)
    found[known] = kept[0][place[known]] <= end[known]
    return found


def _thinned(each: _Drawn, kept: Bars, room: int, begin: int, end: int) -> tuple[_Drawn, Bars]:
    """What lies in the moments, and stretches in which there is anything else; no more than there is room for."""
    few = _Drawn(each.lane)
    width = max(1, math.ceil((end - begin) / max(1, room // 2)))
    busy = np.zeros(-(-(end - begin) // width) + 1, np.int64)
    for state, (first, last) in each.bars.items():
        inside = _inside(first, last, kept)
        few.bars[state] = first[inside], last[inside]
        if state != "waits":
            np.add.at(busy, (first[~inside] - begin) // width, 1)
            np.add.at(busy, np.minimum((last[~inside] - begin) // width + 1, len(busy) - 1), -1)
    if each.levels is not None:
        few.levels = _highest(*each.levels, kept, width)
    for kind, at in each.marks.items():
        few.marks[kind] = at[_inside(at, at, kept)] if kind == "events" else at
    some = np.diff(np.concatenate([[0], (np.cumsum(busy) > 0).astype(np.int64), [0]]))
    first, last = np.flatnonzero(some > 0) * width + begin, np.flatnonzero(some < 0) * width + begin
    return few, (first, np.minimum(last, end))


def _highest(at: Instants, level: Instants, kept: Bars, width: int) -> Bars:
    """The levels in the moments, and of all others the highest of each stretch of ``width`` ps."""
    inside, group = _inside(at, at, kept), at // width
    order = np.lexsort((-level, group))
    first = np.append(True, group[order][1:] != group[order][:-1])[: len(at)]
    keep = inside.copy()
    keep[order[first]] = True
    return at[keep], level[keep]


def _lane_data(each: _Drawn, thin: Bars | None, begin: int, unit: int) -> dict[str, Any]:
    def bars(pair: Bars) -> list[str]:
        first, last = ((side - begin) // unit for side in pair)
        return [packed(np.diff(first, prepend=0)), packed(np.maximum(0, last - first))]

    shown = {state: bars((np.maximum(pair[0], begin), pair[1])) for state, pair in each.bars.items() if len(pair[0])}
    marks = {kind: packed(np.diff((at - begin) // unit, prepend=0)) for kind, at in each.marks.items() if len(at)}
    lane, levels = each.lane, None
    if each.levels is not None:
        at, level = each.levels
        levels = [packed(np.diff((at - begin) // unit, prepend=0)), packed(level)]
    return {"name": lane.thing.name, "thing": str(lane.thing), "detail": lane.detail, "estimated": lane.estimated,
            "bars": shown, "marks": marks, "thin": None if thin is None else bars(thin),
            "levels": levels, "depth": lane.depth}  # fmt: skip


def _holds(result: CheckResult, moments: Sequence[Moment]) -> list[Any]:
    """Where interrupts were held off: in the moments, and in the longest waits of all."""
    begin, end = result.capture.begin, result.capture.end
    windows = [(moment.begin, moment.end) for moment in moments[:_AT_MOST]]
    for isr in result.board.isrs.values():
        delays = isr.latency
        if delays is not None and not delays.relative:
            longest = np.argsort(-delays.after, kind="stable")[: _WAITS_APART // max(1, len(result.board.isrs))]
            windows += [(int(delays.at[k]), int(delays.at[k] + delays.after[k])) for k in longest.tolist()]
    starts, ends = _windows([Moment(max(a, begin), min(b, end)) for a, b in windows if b > a], begin, end)
    scenes = [scene_of_capture(result, Moment(a, b)) for a, b in zip(starts.tolist(), ends.tolist(), strict=True)]
    return sorted({hold for scene in scenes for hold in scene.holds}, key=lambda hold: (hold.begin, hold.who))
