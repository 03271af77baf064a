"""Which run serves which event: oldest first, as many waiting as the hardware remembers, the others lost.

The mark of a line clears when the routine is accepted, which the capture does not show: it lies at least one entry
before the first instruction. An event that comes after that instant surely waits for the next run; one that comes
while the memory is full and earlier than that is lost, unless a run follows that nothing else can explain.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from tachys.capture.table import Instants
from tachys.compiled import kernel, zeros, zeros_of
from tachys.stretches import place_of

UNSURE, SERVED, LOST, WAITING = range(4)


class Merging(Struct, frozen=True):
    """Which runs ``may`` be several that the sampling has put together, when each of them ``ends``, and how long an
    event may ``wait`` behind them, in ps."""

    ends: Instants
    may: npt.NDArray[np.bool_]
    wait: int


class Matched(Struct, frozen=True):
    """Events and the runs that serve them. ``event[k]`` ps, of kind ``kind[k]``, is served by run number ``run[k]``.

    A kind is a place in the routine's list of events. ``lost`` and ``waiting`` were never served: lost for good, or
    still waiting as the capture ends; with ``lost_kind`` and ``waiting_kind``. ``left_out`` events are of none of
    these, since what became of them cannot be told. ``orphans`` are runs for which no event was left; ``doubted`` runs
    may have served an earlier event than is said here. ``merged`` ones may be several, between which the capture shows
    no gap.
    """

    event: Instants
    kind: Instants
    run: Instants
    lost: Instants
    lost_kind: Instants
    waiting: Instants
    waiting_kind: Instants
    orphans: Instants
    doubted: npt.NDArray[np.bool_]
    lost_count: int
    left_out: int
    merged: npt.NDArray[np.bool_]

    @property
    def firsts(self) -> npt.NDArray[np.bool_]:
        """Which of the events are the earliest of their runs, as far as that is sure: an activation belongs to them."""
        first = np.ones(len(self.run), np.bool_)
        first[1:] = self.run[1:] != self.run[:-1]
        found: npt.NDArray[np.bool_] = first & ~self.doubted[self.run]
        return found

    def only(self, sure: npt.NDArray[np.bool_]) -> Matched:
        """Some of the pairs, where instants are not what they seem: what became of all else cannot be told."""
        none = self.lost[:0]
        left_out = self.left_out + int((~sure).sum()) + len(self.lost) + len(self.waiting)
        return Matched(self.event[sure], self.kind[sure], self.run[sure], none, self.lost_kind[:0], none,
                       self.waiting_kind[:0], self.orphans[:0], self.doubted, 0, left_out, self.merged)  # fmt: skip


def match(
    events: Sequence[Instants],
    runs: Instants,
    *,
    pending: int,
    lead: int | Instants,
    takes_all: bool = False,
    hidden_until: int | None = None,
    longest: Instants | None = None,
    several: Merging | None = None,
) -> Matched:
    """Match events (one array a kind) to runs, all ascending in ps.

    ``lead`` is the least time from acceptance to first instruction, of all runs or of each; ``pending`` events of each
    kind may wait. How many waited already as the capture began is unknown: the number that leaves least unexplained is
    taken. Runs up to ``hidden_until`` may have served such events; what came before them is left out, since it cannot
    be told what it waited for. ``longest`` is the most time from acceptance to first instruction of each run: events
    whose run hangs on where between the two the core accepted are left out, but ``lost_count`` counts them. Of runs
    that may be ``several`` nothing is concluded for events that came meanwhile, nor for those behind them for a while.
    A lead below zero lets an event count for a run that is seen so long before it.
    """
    at, kind = _in_order(events)
    leads = np.full(len(runs), lead, np.int64) if isinstance(lead, int) else lead
    early = max(0, -int(leads.min())) if len(leads) else 0
    if early:  # no run is before its event then
        runs, leads = runs + early, leads + early
        longest = None if longest is None else longest + early
        hidden_until = None if hidden_until is None else hidden_until + early
        several = None if several is None else Merging(several.ends + early, several.may, several.wait)
    most = pending + 1 if len(events) == 1 else 2
    ends = runs if several is None else several.ends
    may = np.zeros(len(runs), np.bool_) if several is None else several.may
    left = len(at) + len(runs) + 1
    for carried in range(most):
        tried = _serve(at, kind, len(events), runs, pending, leads, takes_all, carried, ends, may)
        unexplained = int(np.count_nonzero(tried[0] == LOST) + np.count_nonzero(tried[2]))
        if unexplained < left:
            (fate, by, orphan, merged), left = tried, unexplained
        if not left:
            break
    if several is not None:
        _cloud(at, by, fate, orphan, runs, several, merged)
    first = runs[: 1 if takes_all else pending]
    doubtful = first[first <= hidden_until] if hidden_until is not None else first[:0]
    sure = at >= doubtful[-1] if len(doubtful) else np.ones(len(at), np.bool_)
    sure &= fate != UNSURE
    lost_count = int((sure & (fate == LOST)).sum())
    if longest is not None and not takes_all:
        hanging, perhaps = _hanging(at, by, runs, leads, longest)
        unsure = sure & (fate == LOST) & hanging
        # a run for which no event is left is that of one which may have come just behind another
        perhaps_served = int(orphan.sum())
        if len(runs):  # what came as the last run was accepted may have a run behind the end of the capture
            perhaps_served += int((unsure & (at >= runs[-1] - longest[-1])).sum())
        lost_count -= min(int(unsure.sum()), perhaps_served)
        sure &= ~hanging
        if len(at):  # a run behind such an event may be the one that served it
            before = place_of(at, runs, behind=True) - 1
            orphan &= ~((before >= 0) & perhaps[np.maximum(before, 0)])
    doubted = np.broadcast_to(np.False_, len(runs))
    if takes_all and longest is not None:
        either = _of_either(at, by, runs, longest)
        sure[either] = False
        doubted = np.zeros(len(runs) + 1, np.bool_)
        doubted[by[either] + 1] = True
        doubted = doubted[:-1]
    served, lost, waiting = (sure & (fate == what) for what in (SERVED, LOST, WAITING))
    if len(events) == 1:
        kind = np.broadcast_to(np.int32(0), len(at))
    return Matched(
        those(at, served),
        those(kind, served),
        those(by, served),
        at[lost],
        kind[lost],
        at[waiting],
        kind[waiting],
        np.flatnonzero(orphan & ~doubted),
        doubted,
        lost_count,
        int((~sure).sum()),
        merged if merged.any() else np.broadcast_to(np.False_, len(runs)),
    )


def those(column: Instants, which: npt.NDArray[np.bool_]) -> Instants:
    """Part of a column, which is no copy where that is all of it."""
    return column if which.all() else column[which]


def _in_order(events: Sequence[Instants]) -> tuple[Instants, Instants]:
    """(all events in order of time, the kind of each)."""
    if len(events) == 1:
        return events[0], np.zeros(len(events[0]), np.int32)
    at = np.concatenate([np.zeros(0, np.int64), *events])
    kinds = (np.full(len(each), k, np.int32) for k, each in enumerate(events))
    kind = np.concatenate([np.zeros(0, np.int32), *kinds])
    order = np.argsort(at, kind="stable")
    return at[order], kind[order]


def _of_either(at: Instants, by: Instants, runs: Instants, longest: Instants) -> Instants:
    """The places of events that a run which takes all may have taken, or the one behind it."""
    known = np.flatnonzero(by >= 0)
    later = np.append(False, by[known][1:] == by[known][:-1])[: len(known)]  # the first is surely of its run
    found: Instants = known[later & (at[known] > runs[by[known]] - longest[by[known]])]
    return found


def _cloud(
    at: Instants, by: Instants, fate: Any, orphan: Any, runs: Instants, several: Merging, merged: npt.NDArray[np.bool_]
) -> None:
    """Behind runs that may have been several it cannot be told for a while which run serves what."""
    if not merged.any():
        return

    def inside(times: Instants) -> npt.NDArray[np.bool_]:
        begins, ends = runs[merged], several.ends[merged] + several.wait
        place = np.searchsorted(begins, times, side="left") - 1  # the last that began before
        found: npt.NDArray[np.bool_] = (place >= 0) & (times <= np.maximum.accumulate(ends)[np.maximum(place, 0)])
        return found

    while (more := inside(runs) & several.may & ~merged).any():  # what it served may have waited all the while
        merged |= more
    served = by >= 0
    fate[inside(at)] = UNSURE
    fate[served & inside(runs[np.maximum(by, 0)])] = UNSURE
    orphan &= ~inside(runs)


def _hanging(
    at: Instants, by: Instants, runs: Instants, leads: Instants, longest: Instants
) -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
    """Events whose run hangs on when exactly the core accepted one: those that came in that time, served by another.

    With them all that follow until the line had nothing waiting: which run they got hangs on the same. And those that
    perhaps hang on it, if each was served by the run behind its own.
    """
    hanging = np.zeros(len(at), np.bool_)
    if not len(runs) or not len(at):
        return hanging, hanging
    following = place_of(runs, at)  # the first run that begins at or after each event
    for later in range(3):
        run = np.minimum(following + later, len(runs) - 1)
        inside = (at >= runs[run] - longest[run]) & (at <= runs[run] - leads[run]) & (following + later < len(runs))
        hanging |= inside & (by != run)
    started = np.where(by >= 0, runs[np.maximum(by, 0)], at)
    otherwise = runs[np.minimum(following + 1, len(runs) - 1)]  # it may have waited until then
    until = np.where(hanging, np.maximum(started, otherwise), started)
    later = np.maximum(until, runs[np.minimum(np.maximum(by, following) + 1, len(runs) - 1)])
    surely, perhaps = np.zeros((2, len(at)), np.bool_)
    _hang_on(at, until, until, hanging, surely)
    _hang_on(at, until, later, hanging, perhaps)
    return surely, perhaps


@kernel()
def _hang_on(at: Instants, started: Instants, otherwise: Instants, hanging: Any, found: Any) -> None:
    """What hangs, and all behind it until nothing waits; what hangs may have waited until ``otherwise``."""
    hangs, until = False, at[0]
    for event in range(len(at)):
        if at[event] > until:
            hangs = False
        hangs = hangs or hanging[event]
        found[event] = hangs
        until = max(until, otherwise[event] if hangs else started[event])


@kernel()
def _room_again(kind: Instants, fate: Any, doubt: Instants, doubts: int, own: int) -> int:
    """Once there is room again, what of a kind was in doubt before is lost; how many are still in doubt."""
    kept = 0
    for k in range(doubts):
        if kind[doubt[k]] == own:
            fate[doubt[k]] = LOST
        else:
            doubt[kept] = doubt[k]
            kept += 1
    return kept


@kernel(weight=2)
def _serve(
    at: Instants, kind: Instants, kinds: int, runs: Instants, pending: int, leads: Instants, takes_all: bool,
    carried: int, ends: Instants, may: Any,
) -> tuple[Any, Any, Any, Any]:  # fmt: skip
    """(fate of every event, the run that served it, whether each run is an orphan, whether it may be several)."""
    count = len(at)
    merged = zeros_of(len(runs), np.bool_)
    fate, by = zeros_of(count, np.int8), zeros_of(count, np.int32)
    for event in range(count):
        by[event] = -1
    orphan = zeros_of(len(runs), np.bool_)
    queue = zeros(count)  # places of those that wait, oldest first
    head, tail = 0, 0
    waits = zeros(kinds)
    doubt = zeros(count)  # came while the memory seemed full
    doubts = 0
    hidden = carried  # came before the capture began
    place = 0
    for number in range(len(runs) + 1):
        if number > 0 and may[number - 1]:  # whoever waits, or came meanwhile, may have been served in it
            before = place
            while place < count and at[place] <= ends[number - 1]:
                place += 1
            merged[number - 1] = place > before or head < tail or doubts > 0
            head, doubts = tail, 0  # their fate is UNSURE
            for own in range(kinds):
                waits[own] = 0
            hidden = 0
        if number == len(runs):
            break
        begun = runs[number]
        # what came after the acceptance waits for the next run; at one instant the event comes first
        while place < count and at[place] <= begun - leads[number]:
            own = kind[place]
            if waits[own] + (hidden if own == 0 else 0) >= pending:
                doubt[doubts] = place
                doubts += 1
            else:
                doubts = _room_again(kind, fate, doubt, doubts, own)
                queue[tail] = place
                tail += 1
                waits[own] += 1
            place += 1
        if head == tail and hidden == 0:
            if doubts:
                doubts -= 1
                queue[tail] = doubt[doubts]
                tail += 1
                waits[kind[doubt[doubts]]] += 1
            else:
                orphan[number] = count > 0 and begun >= at[0]
                continue
        first = True
        accepted = begun - leads[number]
        if hidden == 0 and head < tail:
            accepted = max(accepted, at[queue[head]])  # not before there was anything to accept
        while (first or takes_all) and (hidden > 0 or head < tail):
            first = False
            if hidden > 0:
                hidden -= 1
                continue
            fate[queue[head]] = SERVED
            by[queue[head]] = number
            waits[kind[queue[head]]] -= 1
            head += 1
        doubts = _settle(at, kind, fate, queue, tail, waits, doubt, doubts, accepted, pending, hidden)
        tail += doubts >> 32
        doubts &= 0xFFFFFFFF
    for later in range(place, count):  # no run came after these
        own = kind[later]
        full = waits[own] + (hidden if own == 0 else 0) >= pending
        fate[later] = LOST if full else WAITING
        waits[own] += not full
    for k in range(doubts):
        fate[doubt[k]] = LOST
    for k in range(head, tail):
        fate[queue[k]] = WAITING
    return fate, by, orphan, merged


@kernel()
def _settle(
    at: Instants, kind: Instants, fate: Any, queue: Instants, tail: int, waits: Instants, doubt: Instants, doubts: int,
    accepted: int, pending: int, hidden: int,
) -> int:  # fmt: skip
    """What a run that was accepted at ``accepted`` or before says of the events in doubt.

    Returns how many are in doubt still, and in the upper half how many joined the queue.
    """
    joined, kept = 0, 0
    for k in range(doubts):
        event = doubt[k]
        own = kind[event]
        if at[event] > accepted:
            if waits[own] + (hidden if own == 0 else 0) < pending:
                queue[tail + joined] = event
                joined += 1
                waits[own] += 1
            else:
                fate[event] = LOST
        else:
            doubt[kept] = event
            kept += 1
    left = 0
    for k in range(kept):  # of each kind only the last may still be served
        event, last = doubt[k], True
        for later in range(k + 1, kept):
            if kind[doubt[later]] == kind[event]:
                last = False
        full = waits[kind[event]] + (hidden if kind[event] == 0 else 0) >= pending
        if last and not full:
            doubt[left] = event
            left += 1
        else:
            fate[event] = LOST
    return left + (joined << 32)
