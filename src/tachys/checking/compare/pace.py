"""What runs more often than its sources allow, more seldom than they promise, not any more, or without being asked."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from itertools import pairwise

import numpy as np

from tachys.capture.table import Instants
from tachys.checking.board.accepting import EMPTY
from tachys.checking.board.measuring import Measurement, may_merge, spans_of_several
from tachys.checking.board.nesting import NOBODY
from tachys.checking.compare.rhythm import FEWEST, ordinal
from tachys.checking.compare.sentences import FOLLOWS_EACH, sentence
from tachys.checking.compare.timers import mistakes_behind
from tachys.checking.result import Finding
from tachys.model.events import Event, Thing
from tachys.model.nodes import Buffer, Isr, Source, Step, Unit
from tachys.model.quantities import time_in_words
from tachys.worstcase.arrivals import NoBound
from tachys.worstcase.bounds import Bounds

_KNOWN_TO = Fraction(1, 50)  # a period that is read off starts which may be late
_LOOK = "; look at "
_A_STORM = 10  # starts
_SIZES = (2, 3, 5, 10, 20, 50, 100, 200, 500, 1000, 5000, 20_000)


def paces(board: Measurement, paper: Bounds) -> Iterator[Finding]:
    """Events that come denser, or further apart, than these bounds allow; one finding of each thing."""
    yield from _without_flag(board)
    transfers = {found.about: found for found in _other_transfers(board, paper)}
    yield from transfers.values()
    moves = (int(line.at[1]) for line in board.capture.signals.values() if len(line.at) > 1)
    first_edge = min(moves, default=board.capture.begin)
    for node in board.system.nodes.values():
        if isinstance(node, Buffer):
            continue
        event = node.event if isinstance(node, Source) else node.start
        seen = board.events(event)
        if seen is None and node.thing in board.shown.silent and not (isinstance(node, Unit) and node.may_stay_silent):
            seen = EMPTY
        if seen is None or node.thing in transfers:
            continue
        dense = None if isinstance(node, Source) else _too_often(board, paper, event, seen)  # its figures say it
        found = dense or _too_seldom(board, paper, event, seen, first_edge)
        if found is not None:
            yield found


def _too_often(board: Measurement, paper: Bounds, event: Event, seen: Instants) -> Finding | None:
    assert paper.reach is not None
    curve = paper.reach.events.curve(event)
    worst: tuple[Fraction, int, int, int, int] | None = None
    for size in (*(size for size in _SIZES if size <= len(seen)), len(seen)):
        if size < 2:
            continue
        spans = seen[size - 1 :] - seen[: len(seen) - size + 1]
        place = int(np.argmin(spans))
        span = int(spans[place])
        allowed = curve.least_span(size)
        if span + board.slack(span) < allowed:
            excess = Fraction(allowed, span + board.slack(span))
            worst = max(worst or (excess, 0, 0, 0, 0), (excess, size, span, allowed, int(seen[place])))
    if worst is None:
        return None
    _, size, span, allowed, at = worst
    try:
        most = curve.most_within(span)
    except NoBound:
        return None
    text = sentence("runs-too-often", f"{size} starts within {time_in_words(span)}, where {most} at most can come")
    counted = _each_other_run(board, event, seen)
    if counted:
        return Finding("runs-too-often", event.thing, text + counted, allowed, span, (), (), at)
    text += storm(board, seen, int(np.searchsorted(seen, at)), curve.least_span(2))
    behind, holder = _behind(board, event, seen), _holder(board, event, at)
    in_all = int(seen[-1] - seen[0]) < curve.least_span(max(2, len(seen) - 1))  # more than can come, whoever waited
    if holder and not in_all and (not behind or behind.startswith(_LOOK)):
        text += f"; {holder} may have held the first of them off for longer than modelled"
        text += f", or else {behind.removeprefix('; ')}" if behind else ""
    else:
        text += behind + (f", or at {holder}, if that held the first of them off" if holder else "")
    return Finding("runs-too-often", event.thing, text, allowed, span, (), (), at)


def _holder(board: Measurement, event: Event, at: int) -> str:
    """What ran just before the first of starts that are too close, of which no line shows when they were due."""
    if any(board.events(cause) is not None for cause in board.system.graph.causes.get(event.thing, ())):
        return ""
    before = at - 2 * (board.system.core.entry.most + board.resolution) - 1
    under = [who for _, _, who in board.tops.between(max(before, board.capture.begin), at) if who != NOBODY]
    names = [board.things[who] for who in under if board.things[who] != event.thing]
    return names[-1] if names else ""


def storm(board: Measurement, seen: Instants, place: int, least: int) -> str:
    """Of starts that follow each other too closely: from when to when, how many, how long no loop ran."""
    apart = np.flatnonzero(np.diff(seen) + board.resolution >= least)
    first = int(apart[apart < place].max(initial=-1)) + 1
    last = int(apart[apart >= place].min(initial=len(seen) - 1))
    if last - first < _A_STORM:
        return ""
    begin, end, core = int(seen[first]), int(seen[last]), board.system.core
    between = core.exit.most + core.entry.most + board.resolution
    stood, since = 0, begin
    for a, b, who in board.tops.between(begin, end):
        if (board.things[who].kind if who != NOBODY else "") != "isr" and (who != NOBODY or b - a > between):
            stood, since = max(stood, a - since), b
    stood = max(stood, end - since)
    words = f"; a storm of {last - first + 1} starts from {_instant(board, begin)} to {_instant(board, end)}"
    return f"{words} of the capture, in which the loop stood for {time_in_words(stood)} at a stretch"


def _instant(board: Measurement, at: int) -> str:
    return time_in_words(at - board.capture.begin)


def _runs_from(board: Measurement, seen: Instants, first_edge: int) -> int:
    """From when on the board is sure to run: a capture may begin before it is switched on, and then nothing moves."""
    if board.switched_on is not None:
        return board.switched_on
    startup = board.system.startup
    hidden = startup is not None and startup.thing not in board.shown.bodies
    return int(seen[0]) if hidden and len(seen) else first_edge


def _too_seldom(board: Measurement, paper: Bounds, event: Event, seen: Instants, first_edge: int) -> Finding | None:
    assert paper.reach is not None
    gap = paper.reach.gap(event)
    if gap is None or _may_vanish(board, event):
        return None
    capture, known_since = board.capture, board.known_since(event.thing)
    if known_since is None:
        return None
    # what may be several runs in one may hold the last of them at its end
    bodies, until = board.shown.bodies.get(event.thing), seen
    if bodies is not None and event.kind in ("isr", "step") and may_merge(board, event.thing):
        until = bodies.end[int(bodies.cut_begin) :][: len(seen)]
    begins = np.append(np.int64(max(known_since, _runs_from(board, seen, first_edge))), until)
    if until is not seen and bodies is not None and bodies.cut_begin and len(bodies.end):
        begins[0] = max(int(begins[0]), int(bodies.end[0]))  # so may what had begun before the capture
    apart = np.append(seen, np.int64(capture.end)) - begins
    place = int(np.argmax(apart))
    longest = int(apart[place])
    if longest - board.slack(longest) <= gap:
        return None
    at = int(begins[place])
    if not len(seen):
        text = sentence("never-comes", f"it is due at least {capture.length // gap} times")
        return Finding("never-comes", event.thing, text, gap, longest, (), (), None)
    if place == len(seen):
        text = sentence("comes-no-more", f"the last at {_instant(board, at)} of the capture")
        return Finding("comes-no-more", event.thing, text, gap, longest, (), (), at)
    text = sentence("comes-too-seldom") + (_each_other_run(board, event, seen) or _behind(board, event, seen))
    return Finding("comes-too-seldom", event.thing, text, gap, longest, (), (), at)


def _may_vanish(board: Measurement, event: Event) -> bool:
    """Whether a body may be so short that no sample falls into it."""
    node = board.system.nodes[event.thing]
    return isinstance(node, Isr | Step) and node.cost.least < board.resolution


def _behind(board: Measurement, event: Event, seen: Instants) -> str:
    """The source behind a wrong pace, and the mistake that its timer makes likely, where one fits."""
    causes = [cause for cause in board.system.graph.causes.get(event.thing, ()) if cause.kind == "source"]
    if len(seen) < 3 or not causes:
        return ""
    sources = [board.system.source(cause.name) for cause in causes if board.events(cause) is None]
    rate = Fraction(len(seen) - 1, int(seen[-1] - seen[0]))
    for source in sources:
        if source.steady is None:
            continue
        others = [board.system.source(cause.name) for cause in causes if cause != source.event]
        left = rate - sum(1 / other.period for other in others if other.period is not None)
        periods = [Fraction(int(np.median(np.diff(seen)))), *([1 / left] if left > 0 else [])]
        tried = [mistakes_behind(board.system, source, period, _KNOWN_TO) for period in periods]
        found = next((each for each in tried if each), ())
        if found:
            return f"; likely {source.thing}: {found[0].text}"
    return f"{_LOOK}{' and '.join(source.thing for source in sources)}" if sources else ""


def _each_other_run(board: Measurement, event: Event, seen: Instants) -> str:
    """Of what each n-th run of a routine brings about: which run it follows, where that is another one."""
    causes = board.system.graph.causes.get(event.thing, ())
    ends = board.events(causes[0].thing.end) if len(causes) == 1 and causes[0].moment == "nth" else None
    if ends is None or len(seen) <= FEWEST:
        return ""
    nth = board.system.isr(causes[0].name).nth
    assert nth is not None
    first, last = np.searchsorted(ends, seen[[0, -1]] + board.resolution, side="right").tolist()
    runs, times = last - first, len(seen) - 1
    each = round(runs / times)
    if each == nth.n or abs(runs - each * times) > 1:
        return ""
    return f"; {FOLLOWS_EACH} {ordinal(each)} run of {causes[0].thing}, by the model each {ordinal(nth.n)}"


def _other_transfers(board: Measurement, paper: Bounds) -> Iterator[Finding]:
    """Routines that work a transfer off item by item, more or fewer than are put; each is over before the next begins.

    What comes as near as can be seen to a put belongs to either side: such transfers are left out.
    """
    assert paper.reach is not None
    room = board.resolution
    asks = {event.thing: unit for unit in board.system.units for event in unit.asked_at}
    for isr in board.system.isrs:
        unit = asks.get(isr.thing)
        if unit is None or isr.on != (unit.end,):
            continue
        buffer = paper.reach.system.buffer(unit.drains) if unit.drains else None
        if buffer is None or buffer.apart is None or paper.buffers[buffer.name].lost:
            continue
        feed = buffer.fed_by[0]
        puts, runs = board.events(feed.event), board.events(isr.start)
        if puts is None or runs is None or not (_shows_each(board, isr.thing) and _shows_each(board, feed.event.thing)):
            continue
        before, after = np.searchsorted(runs, puts - room), np.searchsorted(runs, puts + room, side="right")
        sure = (before == after)[:-1] & (before == after)[1:]
        counts = np.diff(before)[sure]
        other = counts != feed.items
        if np.count_nonzero(other) < 2:
            continue
        few, many = int(counts[other].min()), int(counts[other].max())
        told = f"{few}" if few == many else f"{few} to {many}"
        often = f"{np.count_nonzero(other)} of {len(counts)} times {told} runs follow {feed.event.thing}"
        text = sentence("transfer-other", f"{often}, by the model {feed.items}")
        at = int(puts[:-1][sure][other][0])
        yield Finding("transfer-other", isr.thing, text, None, None, (), (), at)


def _shows_each(board: Measurement, body: Thing) -> bool:
    """Whether every run of a routine or step shows by itself."""
    if body.kind == "isr":
        return board.shows_each(board.system.isr(body.name))
    return not may_merge(board, body) and board.known_since(body) is not None


def _flags(names: tuple[str, ...]) -> str:
    named = " and ".join(f"flag.{name}" for name in names)
    return f"{named} was not" if len(names) == 1 else f"none of {named} was"


def _without_flag(board: Measurement) -> Iterator[Finding]:
    """A polled step that began although no flag of it had been set since it last took it, or not each of all."""
    graph, room = board.system.graph, board.resolution
    polled = dict.fromkeys(
        (step, (name,) if step.polls_all else step.polls) for name in board.flags for step in graph.pollers[name]
    )
    for taker, names in polled:
        takes = board.events(taker.start)
        setting = {event for name in names for event in graph.sets_of(name)}
        sets = board.shown.all_of(setting)
        if takes is None or sets is None:
            continue
        # one of them may have ended within
        hidden = [spans_of_several(board, setter) for setter in {event.thing for event in setting}]
        unasked = [
            later
            for before, later in pairwise(takes.tolist())
            if np.searchsorted(sets, later + room, side="right") == np.searchsorted(sets, before - room)
            and not any(((begins <= later) & (ends >= before)).any() for begins, ends in hidden)
        ]
        if len(unasked) >= 2:
            text = sentence("runs-unasked", f"{len(unasked)} of its {len(takes)} runs, {_flags(names)} set")
            yield Finding("runs-unasked", taker.thing, text, 0, len(unasked), (), (), unasked[0])
