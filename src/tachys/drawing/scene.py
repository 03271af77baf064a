"""What a timeline shows, played or captured, in one shape however it is drawn: lanes, bars, marks, guards, a span."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import pairwise

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from tachys.capture.table import Instants
from tachys.checking.board.measuring import Measurement
from tachys.checking.board.waits import WaitPart, stretches_of
from tachys.checking.result import CheckResult, NeedCheck
from tachys.drawing.moment import Played
from tachys.model.events import Event, Thing
from tachys.model.nodes import Pin
from tachys.model.system import System
from tachys.simulation.lanes import State, cut_levels
from tachys.simulation.timeline import TraceSignal, event_instants, pin_signal

# state: (fill, the same on a dark ground, hatching, height of the bar, words for the legend)
LOOKS: dict[State, tuple[str, str, str, float, str]] = {
    "waits": ("#d9d9d9", "#55585c", "////", 0.3, "waits"),
    "enters": ("#9fbcd6", "#4f7292", "....", 0.6, "entry, exit, waking"),
    "leaves": ("#9fbcd6", "#4f7292", "....", 0.6, ""),
    "runs": ("#2b5c8a", "#7fb2e0", "", 0.6, "runs"),
    "aside": ("#ffffff", "#1b1d20", "\\\\\\\\", 0.6, "put aside"),
    "spins": ("#ead9b5", "#8a7440", "xxxx", 0.45, "spins"),
    "sleeps": ("#f2f2f2", "#3a3d41", "", 0.2, "asleep"),
    "wakes": ("#c9c9c9", "#6c7075", "||||", 0.45, "wakes"),
    "works": ("#b9d3b0", "#5f8a52", "----", 0.45, "unit works"),
    "high": ("#c3b1d6", "#7d659b", "oo", 0.35, "pin is high"),
    "set": ("#777777", "#a5a8ac", "", 0.15, "flag is set"),
}


class Bar(Struct, frozen=True):
    """A state from ``begin`` to ``end`` ps."""

    state: State
    begin: int
    end: int


class Hold(Struct, frozen=True):
    """``who`` holds interrupts off from ``begin`` to ``end`` ps, for what stands in ``lanes``.

    Of a capture: as far as something waited for it.
    """

    who: Thing
    begin: int
    end: int
    lanes: tuple[Thing, ...]


class Lane(Struct):
    """A thing with its bars, events and losses in ps. ``estimated``: no line shows its events; a grid tells them.

    ``levels``: (from when on, how many) are in a buffer of so much ``depth``. ``moments``: of events within it.
    """

    thing: Thing
    detail: str
    bars: list[Bar] = field(default_factory=list)
    events: list[int] = field(default_factory=list)
    moments: list[int] = field(default_factory=list)
    lost: list[int] = field(default_factory=list)
    estimated: bool = False
    levels: list[tuple[int, int]] = field(default_factory=list)
    depth: int = 0

    @property
    def kind(self) -> str:
        """What it is of."""
        return self.thing.kind


class Span(Struct, frozen=True):
    """What is pointed at on a lane, in ps, with its limit if it has one."""

    lane: Thing
    begin: int
    end: int
    limit: int | None = None


class Scene(Struct):
    """A window [begin, end] in ps of a run or of a capture (``of``)."""

    title: str
    of: str
    begin: int
    end: int
    lanes: list[Lane]
    holds: list[Hold] = field(default_factory=list)
    span: Span | None = None
    limits: list[Span] = field(default_factory=list)

    def lane(self, thing: Thing) -> Lane | None:
        """The lane of a thing."""
        return next((lane for lane in self.lanes if lane.thing == thing), None)

    def only(self, names: Sequence[str]) -> Scene:
        """With the lanes of those names alone, in that order."""
        lanes = [lane for name in names for lane in self.lanes if name in (lane.thing, lane.thing.name)]
        return replace(self, lanes=lanes)


class Moment(Struct, frozen=True):
    """A window [begin, end] in ps of a capture, the need whose miss stands in it, if any, and what it shows."""

    begin: int
    end: int
    need: NeedCheck | None = None
    title: str = ""


# --- played ---------------------------------------------------------------------------------------------------------


def scene_of_played(played: Played) -> Scene:
    """The window of a played model: routines by urgency, then steps, units and flags with anything to show."""
    system, lanes = played.bounds.system, played.lanes
    active = {stretch.who for stretch in lanes.stretches} | set(lanes.lost) | set(lanes.levels)
    shown = []
    for thing in _order(system):
        if thing not in active and thing.kind != "isr":
            continue
        lane = Lane(thing, _detail(system, thing), [Bar(each.state, each.begin, each.end) for each in lanes.of(thing)])
        if thing.kind == "isr":
            inside = (time for event in system.isr(thing.name).on for time in event_instants(lanes, event))
            lane.events = sorted(time for time in inside if lanes.begin <= time <= lanes.end)
            within = (time for event in system.isr(thing.name).inner for time in event_instants(lanes, event))
            lane.moments = sorted(time for time in within if lanes.begin <= time <= lanes.end)
        lane.lost = list(lanes.lost.get(thing, ()))
        if thing.kind == "buffer":
            lane.levels, lane.depth = lanes.levels.get(thing, []), system.buffer(thing.name).depth
        shown.append(lane)
    shown += [_pin_lane(pin, pin_signal(pin, lanes), lanes.begin, lanes.end) for pin in system.pins]
    holds = [
        Hold(Thing(each.who), each.begin, each.end,
             tuple(isr.thing for isr in system.isrs if isr.urgency >= each.urgency and isr.thing != each.who))
        for each in lanes.held
    ]  # fmt: skip
    span = None if played.span is None else Span(Thing(played.lane), *played.span, played.limit)
    title = f"{system.title or 'model'}, played: {played.title}"
    limits = [span] if span is not None and span.limit is not None else []
    return Scene(title, "the run", lanes.begin, lanes.end, shown, holds, span, limits)


def _pin_lane(pin: Pin, line: TraceSignal, begin: int, end: int) -> Lane:
    """When an output of the board is high."""
    borders = [(begin, line.first), *line.changes, (end, 0)]
    bars = [Bar("high", first, last) for (first, level), (last, _) in pairwise(borders) if level == 1 and last > first]
    return Lane(pin.thing, "pin", bars)


def _order(system: System) -> Iterator[Thing]:
    """All things that have a lane: routines by urgency, then steps, units, flags and buffers."""
    yield from (isr.thing for isr in system.isrs)
    yield from (step.thing for step in system.steps)
    yield from (unit.thing for unit in system.units)
    yield from (Thing(f"flag.{flag}") for flag in system.graph.flags)
    yield from (buffer.thing for buffer in system.buffers)


def _detail(system: System, thing: Thing) -> str:
    if thing.kind == "isr":
        return f"level {system.core.level_text(system.isr(thing.name).urgency)}"
    if thing.kind == "buffer":
        return f"buffer of {system.buffer(thing.name).depth}"
    return {"step": "loop", "line": "not in the model"}.get(thing.kind, thing.kind)


# --- captured -------------------------------------------------------------------------------------------------------


def worst_moment(result: CheckResult) -> Moment:
    """The window around the worst miss; around the longest answer seen if there is none; else the beginning."""
    candidates = [need for need in result.needs.values() if need.need.follows or need.need.feeds]
    missed = sorted((need for need in candidates if need.misses), key=_overrun, reverse=True)
    lost = [need for need in result.needs.values() if need.misses and need.need.measures == "number"]
    if not missed and lost:
        at = lost[0].misses[0].at
        length = max(10**9, sum(cause.time for cause in lost[0].misses[0].causes))
        return Moment(at - length - length // 4, at + length // 2, lost[0])
    if not missed:
        begin = result.capture.begin
        return Moment(begin, begin + min(result.capture.length, 2 * 10**9))
    need = missed[0]
    worst = need.worst_miss
    assert isinstance(need.limit, int)
    length = max(worst.value or 0, need.limit)
    return Moment(worst.at - length, worst.at + 2 * length, need)


def _overrun(need: NeedCheck) -> float:
    """How far beyond its limit a need went, as a multiple of the limit."""
    return max((miss.value or 0) for miss in need.misses) / float(need.limit)


def scene_of_capture(result: CheckResult, moment: Moment, wait: tuple[str, int, int] | None = None) -> Scene:
    """A moment of a capture: what the model does not name first, then as of a played model.

    ``wait``: (thing, from, to) of one more wait that is shown, of a thing whose events have no line.
    """
    board, begin, end = result.board, moment.begin, moment.end
    lanes, holds = empty_lanes(board, result.bounds.system), list[Hold]()
    for lane in lanes:
        thing = lane.thing
        _fill(board, lane, begin, end)
        waits = _waits(board, lane, begin, end)
        if wait is not None and wait[0] == thing and not waits:
            waits = [(wait[1], wait[2])]
        for first, last in waits:
            parts = stretches_of(board, first, last, thing)
            lane.bars += _as_bars(parts)
            holds += [Hold(part.what, part.begin, part.end, (thing,)) for part in parts if part.how == "held off"]
    lanes += _pin_lanes(board, begin, end)
    scene = Scene(_title(result, moment), "the capture", begin, end, lanes, _joined(holds))
    _point(scene, result, moment)
    return scene


def _pin_lanes(board: Measurement, begin: int, end: int) -> Iterator[Lane]:
    """The pins that have a line, within a window."""
    for pin in board.system.pins:
        line = board.shown.pins.get(pin.name)
        if line is None:
            continue
        before = int(np.searchsorted(line.at, begin, side="right")) - 1
        last = int(np.searchsorted(line.at, end))
        changes = zip(line.at[before + 1 : last].tolist(), line.level[before + 1 : last].tolist(), strict=True)
        first = int(line.level[before]) if before >= 0 else 0
        yield _pin_lane(pin, TraceSignal(pin.thing, first, tuple(changes)), begin, end)


def _title(result: CheckResult, moment: Moment) -> str:
    what = f"the worst miss of {moment.need.need.name}" if moment.need else "a part of the capture"
    return f"{result.bounds.system.title or 'model'}: {moment.title or what} in {result.capture.name}"


def empty_lanes(board: Measurement, modelled: System) -> list[Lane]:
    """The lanes of all that a capture shows, without anything in them yet, by levels as they are ``modelled``."""
    found = []
    for thing in [thing for thing in board.shown.bodies if thing.kind == "line"] + list(_order(modelled)):
        if thing not in board.shown.bodies and not events_of(board, thing):
            continue
        if thing.kind == "buffer" and thing.name not in board.buffers:
            continue
        things = [*(Thing(event) for event in _on(board.system, thing)), thing]
        lines = dict.fromkeys(name for each in things for name in board.shown.through.get(each, []))
        found.append(Lane(thing, ", ".join([_detail(modelled, thing), *lines])))
    return found


def _on(system: System, thing: Thing) -> tuple[Event, ...]:
    if thing.kind == "isr":
        return system.isr(thing.name).on
    if thing.kind == "buffer":
        return tuple(feed.event for feed in system.buffer(thing.name).fed_by)
    return system.unit(thing.name).on if thing.kind == "unit" else ()


def events_of(board: Measurement, thing: Thing) -> list[Instants]:
    """The instants of each of the events that raise a routine or start a unit, as far as a line shows them."""
    return [at for event in _on(board.system, thing) if (at := board.events(event)) is not None]


def lost_of(board: Measurement, thing: Thing) -> Instants:
    """The instants of the events that a routine, or the starts that a unit, was seen to lose."""
    lost: Instants | None = None
    if thing.kind == "isr":
        lost, _ = board.isrs[thing.name].lost() or (None, 0)
    elif thing.kind == "buffer":
        lost = board.lost_items(thing.name)
    elif thing.kind == "unit" and thing.name in board.units:
        paired = board.units[thing.name].paired
        lost = None if paired is None else paired.lost
    return np.zeros(0, np.int64) if lost is None else lost


def state_on_top(system: System, thing: Thing) -> State:
    """What a thing does while nothing runs on top of it: a step that halts is asleep then."""
    return "sleeps" if thing in system.sleepers else "runs"


def _fill(board: Measurement, lane: Lane, begin: int, end: int) -> None:
    """Bodies, events and losses of a thing within a window."""
    thing, bodies = lane.thing, board.shown.bodies.get(lane.thing)
    number = board.things.index(thing) if thing in board.things else -2
    own = [(first, last) for first, last, who in board.tops.between(begin, end) if who == number]
    lane.bars += [Bar(state_on_top(board.system, thing), first, last) for first, last in own]
    whole = [] if bodies is None else list(_inside(bodies.start, bodies.end, begin, end))
    if thing.kind == "unit":
        lane.bars += [Bar("works", first, last) for first, last in whole]
    else:
        lane.bars += [Bar("aside", first, last) for first, last in _without(whole, own)]
    seen = events_of(board, thing)
    lane.events = sorted(at for each in seen for at in each[(each >= begin) & (each <= end)].tolist())
    inner = board.system.isr(thing.name).inner if thing.kind == "isr" else ()
    marked = [at for event in inner if (at := board.events(event)) is not None]
    lane.moments = sorted(at for each in marked for at in each[(each >= begin) & (each <= end)].tolist())
    lost = lost_of(board, thing)
    lane.lost = lost[(lost >= begin) & (lost <= end)].tolist()
    if thing.kind == "buffer":
        filled = board.buffers[thing.name]
        steps = list(zip(*(each.tolist() for each in filled.level_steps()), strict=True))
        lane.levels, lane.depth = cut_levels(steps, begin, end), filled.buffer.depth


def _inside(starts: np.ndarray, ends: np.ndarray, begin: int, end: int) -> Iterator[tuple[int, int]]:
    inside = (ends >= begin) & (starts <= end)
    return zip(np.maximum(starts[inside], begin).tolist(), np.minimum(ends[inside], end).tolist(), strict=True)


def _without(whole: list[tuple[int, int]], own: list[tuple[int, int]]) -> Iterator[tuple[int, int]]:
    """What of some stretches none of the others covers; both in order."""
    place = 0
    for begin, end in whole:
        at = begin
        while place < len(own) and own[place][1] <= begin:
            place += 1
        look = place
        while look < len(own) and own[look][0] < end:
            if own[look][0] > at:
                yield at, own[look][0]
            at = max(at, own[look][1])
            look += 1
        if at < end:
            yield at, end


def _waits(board: Measurement, lane: Lane, begin: int, end: int) -> list[tuple[int, int]]:
    """From each event in the window to the first instruction that answers it; hidden events as they are estimated."""
    runs = board.isrs[lane.thing.name] if lane.kind == "isr" else None
    delays = None if runs is None else runs.latency
    if runs is None or delays is None or delays.relative:
        return []
    until = delays.at + delays.after
    inside = (until > begin) & (delays.at < end)
    found = list(zip(delays.at[inside].tolist(), until[inside].tolist(), strict=True))
    if not lane.events and runs.grid is not None:
        lane.estimated, lane.events = True, [at for at, _ in found if at >= begin]
    return [(first, last) for first, last in found if last > first]


def _as_bars(parts: Iterable[WaitPart]) -> Iterator[Bar]:
    for part in parts:
        yield Bar("enters" if part.how == "entry and exit" else "waits", part.begin, part.end)


def _joined(holds: list[Hold]) -> list[Hold]:
    """Those of one body that overlap are one, for all lanes that waited."""
    found: list[Hold] = []
    for hold in sorted(holds, key=lambda each: (each.who, each.begin)):
        last = found[-1] if found else None
        if last is not None and last.who == hold.who and hold.begin <= last.end:
            lanes = tuple(dict.fromkeys((*last.lanes, *hold.lanes)))
            found[-1] = Hold(last.who, last.begin, max(last.end, hold.end), lanes)
        else:
            found.append(hold)
    return found


def _point(scene: Scene, result: CheckResult, moment: Moment) -> None:
    """The limits of the need that was missed, the losses of it, and its worst miss as what is pointed at."""
    need = moment.need
    answer = None if need is None else need.need.follows
    if need is None or answer is None:
        return
    lane = _lane_of(scene, result.bounds.system, answer.begins, answer.ends.thing)
    if lane is None:
        return
    inside = [miss for miss in need.misses if moment.begin <= miss.at <= moment.end]
    lane.lost = sorted({*lane.lost, *(miss.at for miss in inside if miss.kind == "lost")})
    late = [miss for miss in inside if miss.kind != "lost"]
    for miss in late:
        scene.limits.append(Span(lane.thing, miss.at, miss.at + (miss.value or answer.within), answer.within))
    if late:
        scene.span = max(scene.limits, key=lambda span: span.end - span.begin)


def _lane_of(scene: Scene, system: System, event: Event, ends: Thing) -> Lane | None:
    """Where an event is marked: the lane of a routine that it raises, else that of the answer."""
    for isr in system.isrs:
        if event in isr.on and scene.lane(isr.thing) is not None:
            return scene.lane(isr.thing)
    return scene.lane(ends)


# --- both -----------------------------------------------------------------------------------------------------------


def side_by_side(first: Scene, second: Scene) -> tuple[Scene, Scene]:
    """Two scenes over windows of one length, with the same lanes in the same order; the first says the order."""
    things = [lane.thing for lane in first.lanes]
    things += [lane.thing for lane in second.lanes if lane.thing not in things]
    length = max(first.end - first.begin, second.end - second.begin)
    made = []
    for scene, other in ((first, second), (second, first)):
        lanes = []
        for thing in things:
            theirs = other.lane(thing)
            lanes.append(scene.lane(thing) or Lane(thing, theirs.detail if theirs is not None else ""))
        made.append(replace(scene, lanes=lanes, end=scene.begin + length))
    return made[0], made[1]
