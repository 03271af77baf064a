"""The verdict on every need: what the paper proves, what the capture shows, and each miss taken apart."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np

from tachys.bounds.needs import verdict_of
from tachys.bounds.result import Figure, NeedBounds
from tachys.capture.table import Instants
from tachys.check.following import Followed, follow
from tachys.check.load import busiest, load_seen
from tachys.check.measuring import EMPTY, Board, Delays
from tachys.check.result import Miss, NeedCheck, Seen, seen
from tachys.check.tail import tail_of
from tachys.check.waits import Cause, causes_of, stretches_of
from tachys.model.events import Event, Thing
from tachys.model.system import FeedNeed, JitterNeed, LoadNeed, LossNeed, PeriodNeed, WithinNeed

APART = 2000  # misses that are taken apart, of each need; the others are counted


def judge(board: Board, paper: NeedBounds) -> NeedCheck:
    """One need."""
    need = paper.need
    if isinstance(need, WithinNeed):
        return _within(board, paper, need)
    if isinstance(need, LoadNeed):
        return _load(board, paper, need)
    if isinstance(need, LossNeed):
        return _loss(board, paper, need)
    if isinstance(need, PeriodNeed):
        times = board.events(need.of)
        return _distances(board, paper, times, need.every - need.give_or_take, need.every + need.give_or_take,
                          need.every)  # fmt: skip
    if isinstance(need, FeedNeed):
        dog = need.watchdog
        return _feeds(board, paper, board.events(dog.fed_by), dog.not_before, dog.timeout)
    return _jitter(board, paper, need)


def _made(
    paper: NeedBounds, measured: Seen | None, misses: list[Miss], value: int | Fraction | None, note: str = ""
) -> NeedCheck:
    can_tell = paper.bound is not None or value is not None or bool(misses)
    verdict = verdict_of(proved=paper.proved, can_tell=can_tell, seen_beyond=bool(misses))
    reason = paper.reason or ("no line shows it" if not can_tell else "")
    return NeedCheck(
        paper.need, paper.limit, paper.bound, measured, tuple(sorted(misses, key=lambda miss: miss.at)), verdict,
        reason, value, note=note,
    )  # fmt: skip


# --- from an event to its answer ----------------------------------------------------------------------------


def _within(board: Board, paper: NeedBounds, need: WithinNeed) -> NeedCheck:
    followed = follow(board, need)
    if followed is None:
        return _made(paper, None, [], None)
    delays = followed.delays
    measured = seen(delays.after, board.resolution, relative=delays.relative)
    made = _made(paper, measured, _misses(board, paper, need, followed), measured.most if measured else None,
                 _note(followed))  # fmt: skip
    if not len(delays.after):
        return made
    worst = int(np.argmax(delays.after))
    at, after = int(delays.at[worst]), int(delays.after[worst])
    apart = tuple(stretches_of(board, at, at + after, followed.waiting))
    tail = None if delays.relative or made.misses or paper.proved else tail_of(delays.after)
    return replace(made, worst_at=at, worst=apart, tail=tail)


def _note(followed: Followed) -> str:
    if followed.delays.relative:
        return "against the fastest one seen, since no line shows the event"
    if followed.by_order:
        return "each event is answered by the next that can be its own, since part of the way has no line"
    return ""


def _misses(board: Board, paper: NeedBounds, need: WithinNeed, followed: Followed) -> list[Miss]:
    delays, bound = followed.delays, paper.figure
    beyond = need.within + board.resolution
    late = delays.after > beyond
    found = [
        (at, at + after, after, "late")
        for at, after in zip(delays.at[late].tolist(), delays.after[late].tolist(), strict=True)
    ]
    found += [(at, at + need.within, None, "lost") for at in delays.lost.tolist()]
    still = delays.open[board.capture.end - delays.open > beyond]
    found += [(at, board.capture.end, None, "open") for at in still.tolist()]
    found.sort(key=lambda miss: -(miss[2] or 1 << 62))
    return [
        Miss(at, value, kind, _causes(board, at, end, followed.waiting, bound) if k < APART else ())
        for k, (at, end, value, kind) in enumerate(found)
    ]


def _causes(board: Board, at: int, end: int, waiting: Thing, bound: Figure | None) -> tuple[Cause, ...]:
    return causes_of(stretches_of(board, at, end, waiting), bound)


# --- the others ---------------------------------------------------------------------------------------------


def _load(board: Board, paper: NeedBounds, need: LoadNeed) -> NeedCheck:
    if need.over is not None:
        found = busiest(board, need.over)
        if found is None:
            return _made(paper, None, [], None)
        share, at = found
        slack = 2 * board.resolution / need.over
        missed = [Miss(at, None, "late")] if share > float(need.limit) + slack else []
        note = f"the busiest window begins at {at / 1e9:.6f} ms"
        return _made(paper, None, missed, Fraction(share).limit_denominator(10**6), note)
    load = load_seen(board)
    if load is None:
        return _made(paper, None, [], None)
    missed = [Miss(board.capture.begin, None, "late")] if load.least > float(need.limit) else []
    return _made(paper, None, missed, Fraction(load.least).limit_denominator(10**6), f"from {load.by}")


def _loss(board: Board, paper: NeedBounds, need: LossNeed) -> NeedCheck:
    lost = losses_of(board, need.of)
    if lost is None:
        return _made(paper, None, [], None)
    instants, count = lost
    misses = []
    if count > need.most:
        misses = [Miss(at, None, "lost", _lost_causes(board, need.of, at)) for at in instants.tolist()]
        misses = misses or [Miss(board.capture.begin, None, "lost")]
    return _made(paper, None, misses, count)


def _lost_causes(board: Board, thing: Thing, at: int) -> tuple[Cause, ...]:
    """What kept the earlier event waiting: from when it came to this one."""
    if thing.kind != "isr":
        return ()
    starts = board.events(f"{thing}.start")
    if starts is None:
        return ()
    place = int(np.searchsorted(starts, at))
    end = int(starts[place]) if place < len(starts) else board.capture.end
    return causes_of(stretches_of(board, at, max(at, end), thing), board.paper.isrs[thing.name].latency)


def losses_of(board: Board, thing: Thing) -> tuple[Instants, int] | None:
    """(when events of a thing were lost, how many): of a source where it is taken; None where no line tells."""
    kind, name = thing.kind, thing.name
    if kind == "isr":
        matched = board.isrs[name].matched
        return None if matched is None else (matched.lost, matched.lost_count)
    if kind == "unit":
        paired = board.units[name].paired
        return None if paired is None or not paired.judged else (paired.lost, len(paired.lost))
    if kind == "flag":
        flag = board.flags.get(name)
        return None if flag is None else (flag.overwritten, len(flag.overwritten))
    parts = []
    for isr in board.system.isrs:
        if Event(thing) in isr.on:
            matched = board.isrs[isr.name].matched
            if matched is None:
                return None
            parts.append(matched.lost[matched.lost_kind == isr.on.index(Event(thing))])
    for unit in board.system.units:
        if Event(thing) in unit.on:
            paired = board.units[unit.name].paired
            if paired is None or not paired.judged:
                return None
            parts.append(paired.lost)
    lost = np.sort(np.concatenate([EMPTY, *parts]))
    return (lost, len(lost)) if parts else None


def _distances(
    board: Board, paper: NeedBounds, times: Instants | None, least: int, most: int, wanted: int
) -> NeedCheck:
    if times is None or len(times) < 2:
        return _made(paper, None, [], None)
    apart, slack = np.diff(times), board.resolution
    wrong = np.flatnonzero((apart < least - slack) | (apart > most + slack))
    misses = [
        Miss(int(times[k + 1]), int(apart[k]), "early" if apart[k] < least else "late",
             causes_of(stretches_of(board, int(times[k]), int(times[k + 1]), Thing("loop"))) if n < APART else ())
        for n, k in enumerate(wrong.tolist())
    ]  # fmt: skip
    measured = seen(apart, board.resolution)
    assert measured is not None
    return _made(paper, measured, misses, max(measured.most - wanted, wanted - measured.least))


def _feeds(board: Board, paper: NeedBounds, times: Instants | None, not_before: int, timeout: int) -> NeedCheck:
    """Fed exactly at the timeout counts as too late. The first feed seen is not judged: time zero is not known."""
    made = _distances(board, paper, times, not_before, timeout - 1, 0)
    if times is None or not len(times) or board.capture.end - int(times[-1]) <= timeout + board.resolution:
        return made if made.seen is None else replace(made, value=made.seen.most)
    left = Miss(int(times[-1]), None, "open")
    return _made(paper, made.seen, [*made.misses, left], board.capture.end - int(times[-1]))


def _jitter(board: Board, paper: NeedBounds, need: JitterNeed) -> NeedCheck:
    delays = delays_of(board, need.of)
    if delays is None or not len(delays.after):
        return _made(paper, None, [], None)
    measured = seen(delays.after, board.resolution, relative=delays.relative)
    assert measured is not None
    width, misses = measured.most - measured.least, []
    if width > need.jitter + board.resolution:
        late = np.flatnonzero(delays.after > measured.least + need.jitter + board.resolution)
        waiting = need.of.thing
        misses = [
            Miss(int(delays.at[k]), int(delays.after[k]), "late",
                 causes_of(stretches_of(board, int(delays.at[k]), int(delays.at[k] + delays.after[k]), waiting))
                 if n < APART else ())
            for n, k in enumerate(late.tolist())
        ]  # fmt: skip
    return _made(paper, measured, misses, width)


def delays_of(board: Board, event: Event) -> Delays | None:
    """The delays of an event against what causes it."""
    kind, name, moment = event.kind, event.name, event.moment
    if kind == "isr":
        return board.isrs[name].latency if moment == "start" else board.isrs[name].response
    if kind == "unit":
        paired = board.units[name].paired
        return None if paired is None or moment != "end" else Delays(paired.at, paired.after)
    if kind == "step" and moment == "start":
        polls = board.system.step(name).polls
        if polls is not None and polls in board.flags:
            return board.flags[polls].reaction
        return board.steps[name].late
    return None
