"""What a pin did beside what writes it: too few or too many edges, the wrong way round, by another thing."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from msgspec import Struct

from tachys.capture.table import Instants
from tachys.checking.probes.lines import Bodies, LineReading
from tachys.checking.probes.readings import Readings
from tachys.model.events import Event
from tachys.model.nodes import Pin
from tachys.model.system import System

MOSTLY = 0.9  # of its edges, from where on they are told to follow something


class PinSeen(Struct, frozen=True):
    """``events``: what brings edges, with how often it came; ``wrong``: how often it brought another number.

    ``due`` edges each, ``most`` of those that it brought instead; ``alone``: edges far from all that writes it;
    ``turned``: it went the other way; ``follows``: the event of another thing that its edges follow; ``first``: whether
    its level before anything ran was another. ``lengths`` of pulses in ps; ``at``: where the first fault is seen.
    """

    pin: Pin
    edges: int
    events: Mapping[Event, int]
    wrong: Mapping[Event, int]
    due: int = 1
    most: int = 0
    alone: int = 0
    turned: bool = False
    follows: Event | None = None
    first: bool = False
    lengths: tuple[Instants, Instants] | None = None
    at: int | None = None


def look_at_pins(system: System, shown: Readings, resolution: int) -> dict[str, PinSeen]:
    """Each pin that has a line, where all that writes it is shown by other lines."""
    found = {}
    for pin in system.pins:
        line = shown.pins.get(pin.name)
        known = all(write.event in shown.instants and not shown.by_pins_alone(write.event) for write in pin.writes)
        if line is not None and known:
            found[pin.name] = _look(pin, line, shown, system, resolution)
    return found


def _look(pin: Pin, line: LineReading, shown: Readings, system: System, resolution: int) -> PinSeen:
    at, rises = _edges(line)
    came = np.concatenate([shown.instants[write.event] for write in pin.writes])
    which = np.concatenate([np.full(len(shown.instants[w.event]), n, np.int64) for n, w in enumerate(pin.writes)])
    order = np.argsort(came, kind="stable")
    came, which = came[order], which[order]
    counts = {write.event: int((which == number).sum()) for number, write in enumerate(pin.writes)}
    if not len(came):
        return PinSeen(pin, len(at), counts, {}, alone=len(at), at=int(at[0]) if len(at) else None)
    pulses = pin.writes[0].does == "pulse"
    owner = _nearest(came, at)
    if pulses:  # the second edge of a pulse is its first one's
        owner = np.maximum(np.searchsorted(came, at + resolution, side="right") - 1, 0)
    many = np.bincount(owner, minlength=len(came)) if len(at) else np.zeros(len(came), np.int64)
    apart = np.diff(came) > 2 * resolution  # of two at once it is not known which was the last
    due, told = _due(pin, which, apart), np.ones(len(came), np.bool_)
    told[[0, -1]] = False  # what lies before the first or behind the last may belong to one that is not in the capture
    told[1:] &= apart
    told[:-1] &= apart
    if pulses and pin.writes[0].length is not None:
        told[:-1] &= np.diff(came) > pin.writes[0].length.most + 2 * resolution
    told &= due >= 0
    off = told & (many != due)
    wrong = {write.event: int((off & (which == n)).sum()) for n, write in enumerate(pin.writes)}
    one_way = _ways(pin, which, owner, rises, told, many)
    turned = len(one_way) >= 3 and float(np.mean(one_way)) <= 1 - MOSTLY
    first = np.flatnonzero(off)
    worst = int(many[off].max(initial=0)) if (many[off] > due[off]).any() else int(many[off].min(initial=0))
    alone = _alone(pin, shown, at, came, resolution)
    where = next((int(each[0]) for each in (came[first], alone) if len(each)), None)
    lengths = None
    if pulses and pin.writes[0].length is not None:
        place = np.flatnonzero(told & (many == 2))
        starts = np.searchsorted(owner, place)
        lengths = at[starts], at[starts + 1] - at[starts]
    return PinSeen(
        pin, len(at), counts, {event: n for event, n in wrong.items() if n}, int(due[first[0]]) if len(first) else 1,
        worst, len(alone), turned, _follows(pin, shown, system, at, resolution) if off.sum() * 2 > told.sum() else None,
        _wrong_first(pin, line, shown, system), lengths, where,
    )  # fmt: skip


def _edges(line: LineReading) -> tuple[Instants, Instants]:
    """(instants of all edges, 1 where it rises)."""
    known = (line.level[:-1] >= 0) & (line.level[1:] >= 0)
    return line.at[1:][known], line.level[1:][known].astype(np.int64)


def _nearest(came: Instants, at: Instants) -> Instants:
    """The place of the event that lies nearest to each edge."""
    right = np.clip(np.searchsorted(came, at), 1, max(1, len(came) - 1))
    left = right - 1
    right = np.minimum(right, len(came) - 1)
    found: Instants = np.where(at - came[left] <= came[right] - at, left, right)
    return found


def _due(pin: Pin, which: Instants, apart: np.ndarray) -> Instants:
    """How many edges each event brings; -1 where that is not known."""
    does = np.array([{"low": 0, "high": 1, "toggle": 2, "pulse": 3}[write.does] for write in pin.writes])[which]
    if (does == 3).all():
        return np.full(len(which), 2, np.int64)
    due = np.where(does == 2, 1, -1).astype(np.int64)
    level = -1
    for place, action in enumerate(does.tolist()):
        if place and not apart[place - 1] and action != does[place - 1]:
            level = -1
            continue
        if action == 2:
            level = 1 - level if level >= 0 else -1
        else:
            if level >= 0:
                due[place] = int(level != action)
            level = action
    return due


def _ways(pin: Pin, which: Instants, owner: Instants, rises: Instants, told: np.ndarray, many: Instants) -> Instants:
    """Of each event that made one edge to a level that is known, whether the edge went there."""
    goal = np.array([{"low": 0, "high": 1}.get(write.does, -1) for write in pin.writes], np.int64)[which]
    sure = (goal[owner] >= 0) & told[owner] & (many[owner] == 1)
    found: Instants = (rises[sure] == goal[owner][sure]).astype(np.int64)
    return found


def _alone(pin: Pin, shown: Readings, at: Instants, came: Instants, resolution: int) -> Instants:
    """The edges that lie outside of every run of all that writes it."""
    if pin.writes[0].does == "pulse" or not len(at):
        return at[:0]
    near = np.abs(came[_nearest(came, at)] - at) <= 2 * resolution
    for thing in {write.event.thing for write in pin.writes}:
        bodies = shown.bodies.get(thing)
        if bodies is None:
            return at[:0]  # how long it runs no line shows
        near |= _inside(bodies, at, resolution)
    far: Instants = at[~near]
    return far


def _inside(bodies: Bodies, at: Instants, resolution: int) -> np.ndarray:
    place = np.searchsorted(bodies.start - 2 * resolution, at, side="right") - 1
    good = place >= 0
    found: np.ndarray = good & (at <= bodies.end[np.maximum(place, 0)] + 2 * resolution) if len(bodies.end) else good
    return found | ((at < bodies.end[0]) & bodies.cut_begin) if len(bodies.end) else found


def _follows(pin: Pin, shown: Readings, system: System, at: Instants, resolution: int) -> Event | None:
    """The event of another thing that nearly all of its edges lie at."""
    mine = {write.event.thing for write in pin.writes}
    for event, instants in shown.instants.items():
        if event.thing in mine or shown.by_pins_alone(event) or not len(instants) or len(at) < 4:
            continue
        others = np.sort(np.concatenate([instants, shown.instants.get(_other(event), instants[:0])]))
        near = np.abs(others[_nearest(others, at)] - at) <= 2 * resolution
        if near.mean() >= MOSTLY:
            return event
    return None


def _other(event: Event) -> Event:
    return event.thing.end if event.moment == "start" else event.thing.start


def _wrong_first(pin: Pin, line: LineReading, shown: Readings, system: System) -> bool:
    """Whether a board that is seen to be switched on begins with another level."""
    startup = system.startup
    bodies = None if startup is None else shown.bodies.get(startup.thing)
    if pin.first is None or bodies is None or bodies.cut_begin or not len(bodies.start):
        return False
    before = int(np.searchsorted(line.at, bodies.start[0], side="right")) - 1
    first_write = min(
        (int(shown.instants[w.event][0]) for w in pin.writes if len(shown.instants[w.event])), default=None
    )
    early = first_write is None or first_write > bodies.start[0]
    return early and before >= 0 and int(line.level[before]) == 1 - pin.first
