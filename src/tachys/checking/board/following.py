"""From-to needs on a capture: every event followed along the chain of causes of the model to its answer.

Where some link of the chain has no line, each event is answered by the next ``to`` that can be its own: not sooner than
the least time of the way. That may shorten a delay, but never invents one.
"""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from tachys.capture.table import Instants
from tachys.checking.board.accepting import EMPTY
from tachys.checking.board.filling import LOST, OPEN, UNSURE
from tachys.checking.board.measuring import Measurement, takes_of
from tachys.checking.probes.lines import Bodies
from tachys.model.events import Event, Thing
from tachys.model.graph import Link
from tachys.needs.seen import Delays, Following
from tachys.stretches import NEVER, place_of


class Followed(Struct, frozen=True):
    """The answers of a need; ``waiting`` is the thing that waited, ``by_order``: some link had no line.

    ``since``: what is measured from where no line shows the event, nor any rate when it came. ``nth``: by runs of which
    each n-th alone goes on, from the last that can have led to each answer.
    """

    delays: Delays
    waiting: Thing
    by_order: bool = False
    since: Event | None = None
    nth: bool = False


def follow(board: Measurement, need: Following) -> Followed | None:
    """Every event of the need and its answer; None where the capture shows too little."""
    hops = board.system.graph.chain(need.begins, need.ends)
    begins, ends = board.events(need.begins), board.events(need.ends)
    waiting = need.ends.thing
    if hops is not None and any("nth" in (hop.before.moment, hop.after.moment) for hop in hops):
        return _behind_nth(board, hops, need)
    if begins is None:
        return None if hops is None else _behind_hidden(board, hops, need)
    now = None if hops is None else _along(board, hops, begins, need.age)
    if now is not None:
        return Followed(_answers(begins, now), waiting)
    if ends is None:
        return None
    least = _least_way(board, hops)
    place = place_of(ends, begins + max(0, least - board.resolution))
    known = place < len(ends)
    return Followed(
        Delays(begins[known], ends[place[known]] - begins[known], EMPTY, begins[~known]), waiting, hops is not None
    )


def _along(board: Measurement, hops: tuple[Link, ...], times: Instants, age: bool) -> Instants | None:
    """When each event was answered over all hops, as over one."""
    for hop in hops:
        found = _over(board, hop, times, age)
        if found is None:
            return None
        times = found
    return times


def _answers(at: Instants, now: Instants) -> Delays:
    """From when the events came to what became of each."""
    done = now >= 0
    return Delays(at[done], now[done] - at[done], at[now == LOST], at[now == OPEN])


def _least_way(board: Measurement, hops: tuple[Link, ...] | None) -> int:
    total = 0
    for hop in hops or ():
        kind, name, moment = hop.after.kind, hop.after.name, hop.after.moment
        if hop.kind == "ends" and hop.before.moment != "start":
            continue
        if hop.kind in ("begins", "serves") and kind == "isr":
            total += board.paper.isrs[name].until(moment).least
        elif hop.kind == "ends" and kind == "isr":
            total += board.paper.isrs[name].within(moment).least
        elif kind == "unit" and moment == "end":
            total += board.system.unit(name).takes.least
    return total


def _behind_hidden(board: Measurement, hops: tuple[Link, ...], need: Following) -> Followed | None:
    """Delays of events that no line shows, from when each run came at the latest that serves them alone.

    That is the release that fits the fastest of them, where they are regular, and else the beginning of the run.
    """
    first, starts = hops[0], board.events(hops[0].after.thing.start)
    came = _came(board, first)
    if came is None or starts is None:
        return None
    inner = () if first.after.moment == "start" else (Link(first.after.thing.start, first.after, "ends"),)
    now = _along(board, (*inner, *hops[1:]), starts, need.age)
    if now is None:
        return None
    delays = _answers(came.at, now)
    lost = np.sort(np.concatenate([delays.lost, came.lost]))
    return Followed(replace(delays, lost=lost, relative=True), need.ends.thing, since=_from(board, first))


def _came(board: Measurement, first: Link) -> Delays | None:
    """When the event of each run came at the latest, of a routine that serves it alone, and which had no run."""
    runs = board.isrs.get(first.after.name) if first.after.kind == "isr" else None
    starts = board.events(first.after.thing.start)
    if runs is None or starts is None or runs.isr.on != (first.before,) or first.kind not in ("begins", "serves"):
        return None
    if runs.latency is None or not runs.latency.relative:
        return Delays(starts, starts)
    assert len(runs.latency.at) == len(starts)
    return runs.latency


def _from(board: Measurement, first: Link) -> Event | None:
    """What is measured from, where nothing tells when the event came."""
    latency = board.isrs[first.after.name].latency
    return None if latency is not None and latency.relative else first.after.thing.start


def _behind_nth(board: Measurement, hops: tuple[Link, ...], need: Following) -> Followed | None:
    """Delays of what only each n-th run leads to: no line shows which, so each answer is that of the last it can be."""
    if len(hops) != 2 or hops[0].after.moment != "nth":
        return None
    first, last = hops
    came, bodies, answers = _came(board, first), board.shown.bodies.get(first.after.thing), board.events(need.ends)
    begun, waits = board.events(last.after.thing.start), last.after.thing
    alone = board.system.graph.causes.get(waits, ()) == (last.before,)
    if came is None or bodies is None or answers is None or begun is None or not alone or not len(begun):
        return None
    events = board.events(need.begins)
    own = place_of(begun, answers, behind=True) - 1
    run = place_of(bodies.ended, begun[own] + board.resolution, behind=True) - 1
    known = (own >= 0) & (run >= int(bodies.cut_begin))
    answers, run = answers[known], run[known] - int(bodies.cut_begin)
    at = came.at[run]
    if events is not None:
        at = np.append(events, NEVER)[place_of(events, bodies.begun[run] + board.resolution, behind=True) - 1]
        answers, at = answers[at < NEVER], at[at < NEVER]
    since = None if events is not None else _from(board, first)
    return Followed(Delays(at, answers - at, relative=True), waits, since=since, nth=True)


def _over(board: Measurement, hop: Link, times: Instants, age: bool) -> Instants | None:
    """When each event was answered over one hop, or OPEN, LOST, UNSURE; None where no line tells."""
    kind, name, moment = hop.after.kind, hop.after.name, hop.after.moment
    if hop.kind == "sets":
        return _taken(board, hop, times, age)
    if hop.kind == "drains":
        return _drained(board, hop, times)
    if kind == "isr" and moment not in ("start", "end"):
        return _inner(board, hop, times, age)
    if hop.kind == "ends" and kind != "unit":
        bodies = board.shown.bodies.get(hop.after.thing)
        if bodies is None:
            return None
        if hop.before.moment != "start":
            return _behind_moment(board, bodies, times)
        ends = bodies.ended[int(bodies.cut_begin) :]
        begun, going = bodies.begun[: len(ends)], bodies.begun[len(ends) :]
        single = board.isrs[name].single if kind == "isr" else None
        if single is not None and len(single) == len(ends):
            begun, ends = begun[single], ends[single]
        return _answered(times, begun, ends, EMPTY, going)
    if kind == "unit":
        paired = board.units[name].paired
        if paired is None or not paired.judged or moment != "end":
            return None
        return _answered(times, paired.at, paired.at + paired.after, paired.unanswered, paired.open)
    runs = board.isrs[name]
    delays = runs.latency if moment == "start" else runs.response
    if runs.matched is None or delays is None or delays.relative:
        return None
    mine = runs.isr.on.index(hop.before)
    kinds = runs.matched.kind[: len(delays.at)]
    lost = runs.matched.lost[runs.matched.lost_kind == mine]
    return _answered(times, delays.at[kinds == mine], (delays.at + delays.after)[kinds == mine], lost, delays.open)


def _behind_moment(board: Measurement, bodies: Bodies, times: Instants) -> Instants:
    """The end of the body in which each moment lies."""
    off = board.resolution
    place = place_of(bodies.ended, times - off)
    inside = place < len(bodies.ended)
    place = np.minimum(place, max(0, len(bodies.ended) - 1))
    inside &= (times >= 0) & (np.append(bodies.start, NEVER)[place] <= times + off)
    return np.where(times < 0, times, np.where(inside, np.append(bodies.ended, NEVER)[place], UNSURE))


def _inner(board: Measurement, hop: Link, times: Instants, age: bool) -> Instants | None:
    """When an event within a routine followed each, if a line shows it: between the start of that run and the next."""
    shown, starts = board.events(hop.after), board.events(hop.after.thing.start)
    if shown is None or starts is None:
        return None
    begun = times if hop.kind == "ends" else _over(board, Link(hop.before, hop.after.thing.start, "begins"), times, age)
    if begun is None:
        return None
    off, bodies = board.resolution, board.shown.bodies.get(hop.after.thing)
    place = place_of(shown, begun - off)
    at = np.append(shown, np.int64(0))[place]
    following = np.append(starts, np.iinfo(np.int64).max)[place_of(starts, begun + 1)]
    known = (begun >= 0) & (place < len(shown)) & (at < following - off)
    if bodies is not None and len(bodies.ended):  # what the run before did at its end may be all that is seen
        before = place_of(bodies.ended, begun, behind=True) - 1
        known &= (before < 0) | (bodies.ended[before] + 2 * off < begun)
    return np.where(begun < 0, begun, np.where(known, at, UNSURE))


def _drained(board: Measurement, hop: Link, times: Instants) -> Instants | None:
    """When the run began that took what each event has put, where that is sure."""
    filled = board.buffers.get(hop.flag)
    if filled is None or not len(filled.puts):
        return None
    last = place_of(filled.puts, times, behind=True) - 1  # of the items of one instant the last
    run = np.where((last >= 0) & (filled.puts[last] == times), filled.run[last], UNSURE)
    told = np.append(filled.starts, np.int64(0))[np.maximum(run, OPEN)]
    return np.where(times < 0, times, np.where(run >= 0, told, run))  # or what else became of it


def _answered(times: Instants, asked: Instants, told: Instants, lost: Instants, still: Instants) -> Instants:
    """The answers to ``asked`` looked up for each of the times."""
    found = np.full(len(times), UNSURE, np.int64)
    going = times >= 0
    found[~going] = times[~going]
    if len(asked):
        if (np.diff(asked) < 0).any():
            order = np.argsort(asked, kind="stable")
            asked, told = asked[order], told[order]
        place = np.minimum(place_of(asked, times), len(asked) - 1)
        hit = going & (asked[place] == times)
        found[hit] = told[place[hit]]
    free = going & (found == UNSURE)
    found[free & np.isin(times, lost)] = LOST
    found[free & np.isin(times, still)] = OPEN
    return found


def _taken(board: Measurement, hop: Link, times: Instants, age: bool) -> Instants | None:
    flag = board.flags.get(hop.flag)
    step = board.system.step(hop.after.name)
    if flag is None or hop.flag not in step.polls:
        return None
    reaction = flag.reaction
    if not age:
        return _answered(times, reaction.at, flag.taken, flag.overwritten, reaction.open)
    takes = board.events(hop.after)
    assert takes is not None
    sets = np.sort(np.concatenate([reaction.at, flag.overwritten, reaction.open]))
    place = takes_of(sets, takes, board.resolution)
    last = np.append(place[1:] != place[:-1], True)[: len(sets)]
    known = last & (place < len(takes))
    return _answered(times, sets[known], takes[place[known]], EMPTY, sets[last & (place >= len(takes))])
