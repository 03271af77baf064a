"""Needs in a record of what happened: which event was answered when, which was lost on the way, which is still open.

Every record of a routine, unit or flag names the time of its cause, so an event is followed from hop to hop by that
time (see ``model.ways``). Records come in slices; what is unanswered at the end of one is taken into the next.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tachys.model.system import System, WithinNeed
from tachys.model.ways import Hop, way
from tachys.simulation import layout as at
from tachys.simulation.engine import Records
from tachys.simulation.index import Index
from tachys.simulation.layout import Ints

Bools = NDArray[np.bool_]
LOST_ON_WAY = -2
OPEN = -1
_STARTS = {"unit": at.UNIT_START, "isr": at.START, "step": at.STEP_START}
_ENDS = {"unit": at.UNIT_END, "isr": at.LAST, "step": at.STEP_END}


@dataclass(frozen=True, slots=True)
class Answers:
    """Instants of events in ps and how long each was answered after; ``lost`` never will be, ``open`` not yet."""

    at: Ints
    after: Ints
    lost: Ints
    open: Ints


def empty(times: list[int] | None = None) -> Ints:
    """An array of times."""
    return np.array(times or [], np.int64)


def event_times(records: Records, index: Index, event: str) -> Ints:
    """The instants at which an event happened."""
    kind, name, *moment = event.split(".")
    if kind == "source":
        mask = (records.kind == at.SOURCE) & (records.index == index.sources.index(name))
    else:
        table = _STARTS if moment == ["start"] else _ENDS
        mask = (records.kind == table[kind]) & of_body(records, index, kind, name)
    times: Ints = records.time[mask]
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


def answers(records: Records, system: System, index: Index, need: WithinNeed) -> Answers:
    """Follow every event of ``need.begins`` that is in the records."""
    hops = way(system, need.begins, need.ends)
    began = event_times(records, index, need.begins)
    if hops is None:
        ends = event_times(records, index, need.ends)
        place = np.searchsorted(ends, began)
        found = place < len(ends)
        return Answers(began[found], ends[place[found]] - began[found], empty(), began[~found])
    now = began.copy()
    for hop in hops:
        going = now >= 0
        now[going] = _hop(records, system, index, hop, now[going], need.age)
    done = now >= 0
    return Answers(began[done], now[done] - began[done], began[now == LOST_ON_WAY], began[now == OPEN])


def _hop(records: Records, system: System, index: Index, hop: Hop, times: Ints, age: bool) -> Ints:
    """When each event, at its time, was answered over one hop; OPEN or LOST_ON_WAY where it was not."""
    kind, name, moment = hop.after.split(".")
    table = _STARTS if moment == "start" else _ENDS
    body = of_body(records, index, kind, name)
    if hop.kind == "sets":
        return _taken(records, index, hop, times, age)
    if hop.kind == "ends":
        starts = records.time[(records.kind == _STARTS[kind]) & body]
        ends = records.time[(records.kind == _ENDS[kind]) & body]
        if kind == "unit":
            return _unit_end(records, body, times, ends, system.unit(name).busy == "restart")
        # one body ends before it begins again: the n-th end after the first start belongs to the n-th start
        ends = ends[np.searchsorted(ends, starts[0]) :] if len(starts) else ends
        return _at_place(ends, np.searchsorted(starts, times))
    answered = (records.kind == table[kind]) & body
    if kind == "unit":
        lost = records.cause[(records.kind == at.UNIT_LOST) & body]
        return _by_cause(times, records.cause[answered], records.time[answered], lost)
    row = index.rows.index((name, hop.before))
    isr = system.isr(name)
    mine = body if isr.serves_all else records.index == row
    runs, told = (records.kind == at.TAKEN) & mine, (records.kind == table[kind]) & mine
    lost = records.time[(records.kind == at.LOST) & (records.index == row)]
    if not isr.serves_all:
        return _by_cause(times, records.cause[told], records.time[told], lost)
    return _by_run(times, records.cause[runs], records.time[runs], records.time[told], lost)


def _at_place(values: Ints, place: Ints) -> Ints:
    found = np.full(len(place), OPEN, np.int64)
    known = place < len(values)
    found[known] = values[place[known]]
    return found


def _by_cause(times: Ints, causes: Ints, told: Ints, lost: Ints) -> Ints:
    """The answer whose cause is the event: the n-th of events at one instant has the n-th answer."""
    again = np.arange(len(times)) - np.searchsorted(times, times)  # how many of the same instant came before
    place = np.searchsorted(causes, times) + again
    found = _at_place(told, place)
    wrong = (place >= len(causes)) | (
        causes[np.minimum(place, max(len(causes) - 1, 0))] != times if len(causes) else True
    )
    found[wrong] = OPEN
    found[wrong & np.isin(times, lost)] = LOST_ON_WAY
    return found


def _by_run(times: Ints, firsts: Ints, taken: Ints, told: Ints, lost: Ints) -> Ints:
    """Each run takes all that waits: an event belongs to the first run that took its events at or after it."""
    place = np.searchsorted(taken, times)
    # an event raised at the very instant at which a run has taken what waited waits for the next one
    known = place < len(firsts)
    late = np.zeros(len(times), np.bool_)
    late[known] = firsts[place[known]] > times[known]
    found = _at_place(told, place + late)
    found[np.isin(times, lost)] = LOST_ON_WAY
    return found


def _unit_end(records: Records, body: Bools, times: Ints, ends: Ints, restarts: bool) -> Ints:
    found = _at_place(ends, np.searchsorted(ends, times, side="right"))
    if restarts:
        again = records.time[(records.kind == at.UNIT_LOST) & body]
        sooner = _at_place(again, np.searchsorted(again, times, side="right"))
        found[(sooner >= 0) & ((found < 0) | (sooner < found))] = LOST_ON_WAY
    return found


def _taken(records: Records, index: Index, hop: Hop, times: Ints, age: bool) -> Ints:
    """When the step took the flag that was set at each of the times."""
    flag, step = index.flags.index(hop.flag), index.steps.index(hop.after.split(".")[1])
    takes = np.flatnonzero((records.kind == at.FLAG_TAKEN) & (records.index == flag))
    following = np.minimum(takes + 1, len(records.kind) - 1)
    by_step = (records.kind[following] == at.STEP_START) & (records.index[following] == step)
    causes, told = records.cause[takes], records.time[takes]
    over = records.time[(records.kind == at.FLAG_OVER) & (records.index == flag)]
    if age:  # of the sets before one take only the last counts
        place = np.searchsorted(told, times)
        last = np.append(place[1:] != place[:-1], True) if len(place) else np.zeros(0, np.bool_)
        found = _at_place(told, place)
        known = place < len(told)
        found[known & ~_at(by_step, place)] = LOST_ON_WAY
        found[known & ~last] = -3  # superseded: neither answered nor lost
        return found
    found = _by_cause(times, causes, told, over)
    place = np.searchsorted(causes, times)
    found[(found >= 0) & ~_at(by_step, place)] = LOST_ON_WAY
    return found


def _at(flags: Bools, place: Ints) -> Bools:
    if not len(flags):
        return np.zeros(len(place), np.bool_)
    picked: Bools = flags[np.minimum(place, len(flags) - 1)]
    return picked
