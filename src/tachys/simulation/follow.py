"""Needs in a record of what happened: which event was answered when, which was lost on the way, which is still open.

Every record of a routine or unit names the time of its cause, so an event is followed from hop to hop by that time
(see ``model.ways``); within a body, and from a flag to who takes it, by the order of the records. An event is known by
the place of its record, not by its time: several can lie at one instant. Records come in slices; what is unanswered at
the end of one is taken into the next.
"""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from tachys.model.events import Event
from tachys.model.graph import Link
from tachys.model.system import System
from tachys.needs.seen import Following
from tachys.simulation import layout as at
from tachys.simulation.engine import Records
from tachys.simulation.index import Index
from tachys.simulation.layout import Ints
from tachys.stretches import place_of

Bools = NDArray[np.bool_]
LOST_ON_WAY = -2
OPEN = -1
SUPERSEDED = -3  # by a later cause of the same answer: neither answered nor lost
_STARTS = {"unit": at.UNIT_START, "isr": at.START, "step": at.STEP_START}
_ENDS = {"unit": at.UNIT_END, "isr": at.LAST, "step": at.STEP_END}


class Answers(Struct, frozen=True):
    """Instants of events in ps and how long each was answered after; ``lost`` never will be, ``open`` not yet."""

    at: Ints
    after: Ints
    lost: Ints
    open: Ints


def empty(times: list[int] | None = None) -> Ints:
    """An array of times."""
    return np.array(times or [], np.int64)


def places(records: Records, index: Index, event: str) -> Ints:
    """Where an event stands in the records."""
    event = Event(event)
    if event.kind == "source":
        return np.flatnonzero((records.kind == at.SOURCE) & (records.index == index.sources.index(event.name)))
    return np.flatnonzero(_tells(records, index, event))


def _tells(records: Records, index: Index, event: Event) -> Bools:
    """Which records tell of an event of a body."""
    if event in index.inner:
        told: Bools = (records.kind == at.INNER) & (records.index == index.inner.index(event))
        return told
    if event.kind == "buffer":
        kinds = (records.kind == at.ITEM_LOST) | (records.kind == at.ITEM_OVER)
        lost: Bools = kinds & (records.index == index.buffers.index(event.name))
        return lost
    table = _STARTS if event.moment == "start" else _ENDS
    of_it: Bools = (records.kind == table[event.kind]) & of_body(records, index, event.kind, event.name)
    return of_it


def event_times(records: Records, index: Index, event: str) -> Ints:
    """The instants at which an event happened."""
    times: Ints = records.time[places(records, index, event)]
    return times


def of_body(records: Records, index: Index, kind: str, name: str) -> Bools:
    """Which records are of a body: of any row of a routine, of a unit or a step."""
    mask: Bools
    if kind == "isr":
        rows = [number for number, (isr, _) in enumerate(index.rows) if isr == name]
        mask = (records.index >= rows[0]) & (records.index <= rows[-1])
    else:
        mask = records.index == (index.units if kind == "unit" else index.steps).index(name)
    return mask


def answers(records: Records, system: System, index: Index, need: Following, *, whole: bool = True) -> Answers:
    """Follow every event of ``need.begins`` that is in the records; ``whole``: nothing follows on them."""
    hops = system.graph.chain(need.begins, need.ends)
    now = places(records, index, need.begins)
    began = records.time[now]
    if hops is None:
        ends = event_times(records, index, need.ends)
        place = place_of(ends, began)
        found = place < len(ends)
        return Answers(began[found], ends[place[found]] - began[found], empty(), began[~found])
    since = began.copy()
    for hop in hops:
        going = now >= 0
        now[going] = _hop(records, system, index, hop, now[going], need.age, whole)
        going = now >= 0  # what takes it may have begun before
        since[going] = np.maximum(since[going], records.time[now[going]])
    done = now >= 0
    return Answers(began[done], since[done] - began[done], began[now == LOST_ON_WAY], began[now == OPEN])


def _hop(records: Records, system: System, index: Index, hop: Link, going: Ints, age: bool, whole: bool) -> Ints:
    """Where each event, at its place, was answered over one hop; OPEN or LOST_ON_WAY where it was not."""
    kind, name, moment = hop.after.kind, hop.after.name, hop.after.moment
    if hop.kind == "sets":
        return _taken(records, index, hop, going, age)
    if hop.kind == "drains":
        return _drained(records, system, index, hop, going, whole)
    if hop.after in index.inner:
        return _inner(records, system, index, hop, going, age, whole)
    body = of_body(records, index, kind, name)
    if hop.kind == "ends":
        return _ended(records, system, kind, name, body, going)
    if kind == "unit":
        unit, lost = system.unit(name), records.cause[(records.kind == at.UNIT_LOST) & body]
        asked = np.sort(np.concatenate([places(records, index, event) for event in unit.on]))
        starts = (records.kind == at.UNIT_START) & body
        if unit.counts is not None and unit.counts.repeats:  # it begins anew right behind its end, by itself
            starts &= ~np.append(False, ((records.kind == at.UNIT_END) & body)[:-1])
        begun = np.flatnonzero(starts)
        found = _by_cause(records, asked, going, begun, lost, first=int(unit.primed))
        if moment == "end":
            found[found >= 0] = _ended(records, system, kind, name, body, found[found >= 0])
        return found
    told = _tells(records, index, hop.after)
    row, asked = index.rows.index((name, hop.before)), places(records, index, hop.before)
    if system.isr(name).serves_all:  # each run takes all that waits: an event belongs to the first that takes after it
        found = _end(records, (records.kind == at.TAKEN) & body, going)
        found[found >= 0] = _end(records, told, found[found >= 0])
    else:
        found = _by_cause(records, asked, going, np.flatnonzero(told & (records.index == row)), empty())
    lost = _latest_before(asked, np.flatnonzero((records.kind == at.LOST) & (records.index == row)))
    found[np.isin(going, lost)] = LOST_ON_WAY
    off = records.cause[(records.kind == at.CLEARED) & (records.index == row)]
    found[(found == OPEN) & np.isin(records.time[going], off)] = SUPERSEDED
    return found


def _inner(records: Records, system: System, index: Index, hop: Link, going: Ints, age: bool, whole: bool) -> Ints:
    """Where an event within a routine follows each: between the start and the end of that run, if there is one.

    Of an n-th run it stands behind the record of the end. Events that other runs serve have no answer.
    """
    start, found = hop.after.thing.start, going.copy()
    if hop.kind != "ends":
        found = _hop(records, system, index, Link(hop.before, start, "begins"), going, age, whole)
    begun = found >= 0
    after = _end(records, _tells(records, index, hop.after), found[begun])
    again = _end(records, _tells(records, index, start), found[begun])
    over = _end(records, _tells(records, index, hop.after.thing.end), found[begun])
    other = (again >= 0) & ((after < 0) | (again < after))
    found[begun] = np.where(other | ((after < 0) & (over >= 0) & whole), SUPERSEDED, after)
    return found


def _drained(records: Records, system: System, index: Index, hop: Link, going: Ints, whole: bool) -> Ints:
    """Where the drain began that took what the event at each of the places has put: the last of it, if none is lost.

    All that feeds a buffer puts in the order of its records.
    """
    buffer, drain = system.buffer(hop.flag), system.graph.drain[hop.flag]
    of_buffer = records.index == index.buffers.index(hop.flag)
    puts = np.flatnonzero(((records.kind == at.ITEM_IN) | (records.kind == at.ITEM_LOST)) & of_buffer)
    mover = system.graph.mover.get(hop.flag)
    if mover is None:
        feeds = [(places(records, index, feed.event), feed.items) for feed in buffer.fed_by]
        events = np.sort(np.concatenate([np.repeat(found, items) for found, items in feeds]))
    else:  # it puts as many as it took, right behind its end
        ends = places(records, index, mover.end)
        events = ends[place_of(ends, puts) - 1]
    last = place_of(events, going, behind=True) - 1
    item = _at_place(puts, last)
    lost_yet = np.append(0, np.cumsum(_lost_items(records, of_buffer, puts)))
    first = np.minimum(place_of(events, going), len(puts))
    gone = lost_yet[np.minimum(last + 1, len(puts))] > lost_yet[first]
    found = np.full(len(going), OPEN, np.int64)
    if mover is not None:  # a run that took nothing puts nothing
        found[_at_place(events, last) != going] = SUPERSEDED
    there = (item >= 0) & ~gone & (found == OPEN)
    # what is overwritten is lost even while it is copied, so only its leave says that it was taken
    took = at.ITEM_TAKEN if drain.kind != "unit" and not buffer.overwrites else at.ITEM_OUT
    told = np.flatnonzero(((records.kind == took) | (records.kind == at.ITEM_OVER)) & of_buffer)
    came_in = puts[records.kind[puts] == at.ITEM_IN]
    taken = _by_cause(records, came_in, item[there], told, empty())
    begun = (records.kind == _STARTS[drain.kind]) & of_body(records, index, drain.kind, drain.name)
    starts, known = np.flatnonzero(begun), taken >= 0
    if hop.flag in system.graph.until_empty and drain.kind == "step":
        ended = (records.kind == _ENDS[drain.kind]) & of_body(records, index, drain.kind, drain.name)
        last, ends = place_of(starts, taken[known]) - 1, np.flatnonzero(ended)
        over = place_of(ends, taken[known]) > place_of(ends, _at_place(starts, last))
        goes_on = (last >= 0) & ~over  # a run that has begun before takes it too
        taken[known] = np.where(goes_on, _at_place(starts, last), _end(records, begun, taken[known]))
    elif drain.kind != "unit" and (buffer.overwrites or drain.kind == "isr"):  # its first instruction is told before
        taken[known] = starts[place_of(starts, taken[known]) - 1]
    else:
        taken[known] = _end(records, begun, taken[known])
    if whole and buffer.overwrites and drain.kind != "unit":  # what is being copied in the end has been taken
        copied = np.flatnonzero((records.kind == at.ITEM_TAKEN) & of_buffer)
        still = ~known & (_by_cause(records, came_in, item[there], copied, empty()) >= 0)
        taken[still] = starts[-1] if len(starts) else OPEN
    found[there] = np.where(taken == LOST_ON_WAY, OPEN, taken)
    found[gone & (found == OPEN)] = LOST_ON_WAY
    return found


def _lost_items(records: Records, of_buffer: Bools, puts: Ints) -> Bools:
    """Which of these puts found no room, or was overwritten later."""
    lost: Bools = records.kind[puts] == at.ITEM_LOST
    told = np.flatnonzero((records.kind == at.ITEM_OVER) & of_buffer)
    if len(told):
        went = np.flatnonzero(((records.kind == at.ITEM_OUT) | (records.kind == at.ITEM_OVER)) & of_buffer)
        left = _by_cause(records, puts, puts, went, empty())
        lost |= (left >= 0) & (records.kind[left] == at.ITEM_OVER)
    return lost


def _ended(records: Records, system: System, kind: str, name: str, body: Bools, going: Ints) -> Ints:
    """The end of the body that began at each place; lost where a unit is restarted before."""
    ends = (records.kind == _ENDS[kind]) & body
    restarts = kind == "unit" and system.unit(name).busy == "restart"
    found = _end(records, ends, going, (records.kind == at.UNIT_LOST) & body if restarts else None)
    if kind == "unit" and system.unit(name).may_stay_silent:  # that stands right behind the start
        silent = np.flatnonzero((records.kind == at.UNIT_SILENT) & body)
        found[np.isin(going + 1, silent)] = LOST_ON_WAY
    off = np.flatnonzero((records.kind == at.UNIT_OFF) & body) if kind == "unit" else empty()
    if len(off):  # what is cancelled has no answer, and lacks none
        sooner = _next(off, going)
        found[(sooner >= 0) & ((found < 0) | (sooner < found))] = SUPERSEDED
    return found


def _latest_before(asked: Ints, told: Ints) -> Ints:
    """Which of those that asked each of the records tells of: the latest before it of which none has told."""
    places = place_of(asked, told) - 1
    places = places[places >= 0]
    if len(places) < 2 or np.diff(places).min() > 0:
        return asked[places]
    left: list[int] = []  # several may ask before the first is told of
    known = 0
    found = []
    for place in places.tolist():
        left += range(known, place + 1)
        known = place + 1
        found += [left.pop()] if left else []
    return asked[found]


def _at_place(values: Ints, place: Ints) -> Ints:
    found = np.full(len(place), OPEN, np.int64)
    known = (place >= 0) & (place < len(values))
    found[known] = values[place[known]]
    return found


def _next(told: Ints, going: Ints) -> Ints:
    """The first of those that are told of behind each place."""
    return _at_place(told, place_of(told, going, behind=True))


def _end(records: Records, ends: Bools, going: Ints, broken: Bools | None = None) -> Ints:
    """The first record of ``ends`` behind each place; lost where one of ``broken`` stands before it."""
    found = _next(np.flatnonzero(ends), going)
    if broken is not None:
        sooner = _next(np.flatnonzero(broken), going)
        found[(sooner >= 0) & ((found < 0) | (sooner < found))] = LOST_ON_WAY
    return found


def _by_cause(records: Records, asked: Ints, going: Ints, told: Ints, lost: Ints, first: int = 0) -> Ints:
    """The answer whose cause is the event: the n-th of all that ask for it at one instant has the n-th answer.

    ``first``: how many begin at time zero before all of them, without a cause.
    """
    times, causes = records.time[going], records.cause[told]
    again = place_of(asked, going) - place_of(records.time[asked], times)
    place = place_of(causes, times) + again + first * (times == 0)
    found = _at_place(told, place)
    wrong = _at_place(causes, place) != times
    found[wrong] = OPEN
    # of those that ask at one instant the first find room, and the last are lost
    room = _many(records.time[asked], times) + first * (times == 0) - _many(lost, times)
    found[wrong & (again + first * (times == 0) >= room)] = LOST_ON_WAY
    return found


def _many(values: Ints, times: Ints) -> Ints:
    """How many of the sorted values are at each of the times."""
    found: Ints = place_of(values, times, behind=True) - place_of(values, times)
    return found


def _taken(records: Records, index: Index, hop: Link, going: Ints, age: bool) -> Ints:
    """Where the step took the flag that was set at each of the places."""
    flag, step = index.flags.index(hop.flag), index.steps.index(hop.after.name)
    of_flag = records.index == flag
    takes = np.flatnonzero((records.kind == at.FLAG_TAKEN) & of_flag)
    others = np.flatnonzero(records.kind != at.FLAG_TAKEN)  # those that a step takes at once stand in a row
    following = np.append(others, len(records.kind) - 1)[place_of(others, takes)]
    by_step = (records.kind[following] == at.STEP_START) & (records.index[following] == step)
    sets = ((records.kind == at.FLAG_SET) | (records.kind == at.FLAG_OVER)) & of_flag
    own = _end(records, sets, going)  # the record of the flag right behind the end of the routine
    place = place_of(takes, own)
    found = _at_place(following, place)
    found[_at_place(by_step.astype(np.int64), place) == 0] = LOST_ON_WAY
    if age:  # of the sets before one take only the last counts
        again = _end(records, sets, own)
        found[(again >= 0) & (again < _at_place(np.append(takes, len(records.kind)), place))] = SUPERSEDED
    else:
        found[records.kind[own] == at.FLAG_OVER] = LOST_ON_WAY
    found[own < 0] = OPEN
    return found
