"""Buffers on a capture: what was put, which run took it, and how many were surely in.

Nothing shows the level itself. It follows from the puts, all of which must have lines, and from the runs of who
drains: a run takes what is in at its first instruction, ``most`` at most, and one leaves as it has been copied. One
that goes on until nothing is in may have taken what came meanwhile, or not, where that was behind its last look. What
is said is a least: the buffer is taken to be empty as the capture begins, a run to take all that it can and to copy
as fast as the model lets it, and a put that came within the resolution of a first instruction to have come before it.
With slower copies as many are lost by any instant: more can be in now than with them only where some have been lost
before, and then it has been full. What is overwritten while it is copied does not leave once more. What a run took at
least leaves out what may have found no room, and which run took an item is said only where nothing is open.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from msgspec import Struct

from tachys.capture.table import Instants
from tachys.checking.board.accepting import EMPTY
from tachys.checking.probes.readings import Readings
from tachys.compiled import kernel, zeros
from tachys.model.events import Thing
from tachys.model.nodes import Buffer, Isr, Step, Unit
from tachys.model.system import System
from tachys.stretches import NEVER, place_of

OPEN, LOST, UNSURE = -1, -2, -3


class Filled(Struct, frozen=True):
    """What a capture says of one buffer.

    ``puts``: when items came, ascending; ``run``: which start of who drains took each, OPEN, LOST or UNSURE. ``lost``
    are the instants of puts that surely found it full. ``levels``: at least so many were in with each put. ``least``
    and ``most``: how many each start took; one that ``goes_on`` until nothing is in also what came meanwhile.
    """

    buffer: Buffer
    puts: Instants
    starts: Instants
    ends: Instants
    run: Instants
    lost: Instants
    levels: Instants
    least: Instants
    most: Instants
    goes_on: bool = False

    @property
    def deepest(self) -> int:
        """At least so many were in at once."""
        return int(self.levels.max(initial=0))

    @property
    def deepest_at(self) -> int:
        """When that was so first."""
        return int(self.puts[int(np.argmax(self.levels))]) if self.deepest else 0

    def beyond(self, level: int) -> Instants:
        """The puts with which surely more were in, or that found it full of more."""
        lost = self.lost if self.buffer.depth > level else self.lost[:0]
        found: Instants = np.sort(np.concatenate([self.puts[self.levels > level], lost]))
        return found

    @property
    def starved(self) -> Instants:
        """When it surely had nothing for who came to take something."""
        found: Instants = self.starts[self.most == 0]
        return found

    def wanted_before(self, instant: int) -> int:
        """When it asked, before an instant, for a run that had not come by then; its last run where it did not ask.

        Of one that waits for room beyond no line tells when it asked.
        """
        if self.buffer.room_in is not None:
            return instant
        place = int(np.searchsorted(self.starts, instant)) - 1
        since = int(self.starts[place]) if place >= 0 else int(self.puts[0])
        first = int(np.searchsorted(self.puts, since, side="right")) + (self.buffer.asks_from or 1) - 1
        asked = int(self.puts[first]) if first < len(self.puts) else instant
        return asked if asked < instant else since

    def level_steps(self) -> tuple[Instants, Instants]:
        """(from when on, how many were in), gone evenly over each run.

        What may be of two runs is of the later, or of one at work that goes on.
        """
        if (self.run == UNSURE).any() and not self.buffer.overwrites and (self.most <= 1).all():
            return self._one_by_one()
        later = place_of(self.starts, self.puts)
        if self.goes_on:
            at_work = (later > 0) & (self.puts < np.append(self.ends, NEVER)[later - 1])
            later = later - at_work
        later = np.where(later < len(self.starts), later, OPEN)
        of_run = np.where(self.run == UNSURE, later, self.run)
        of_run = np.where(of_run >= 0, np.maximum.accumulate(of_run), of_run)
        told = of_run >= 0
        run = of_run[told]
        first = np.searchsorted(run, run)
        place, many = np.arange(len(run)) - first + 1, np.searchsorted(run, run, side="right") - first
        ends = np.minimum(self.ends[run], NEVER // 2)
        gone = np.maximum(self.puts[told], self.starts[run] + (ends - self.starts[run]) // many * place)
        still = self.puts[of_run == OPEN]
        if self.buffer.overwrites:  # what was lost has been in until its place was wanted
            lost = np.flatnonzero(of_run == LOST)
            still = np.concatenate([still, self.puts[lost]])
            gone = np.concatenate([gone, self.puts[lost + self.buffer.depth]])
        at = np.concatenate([self.puts[told], still, gone])
        step = np.concatenate([np.ones(len(run) + len(still), np.int64), np.full(len(gone), -1)])
        order = np.lexsort((-step, at))
        return at[order], np.minimum(np.cumsum(step[order]), self.buffer.depth)

    def _one_by_one(self) -> tuple[Instants, Instants]:
        """As ``level_steps``, where each run takes one if there is one, whichever that is."""
        puts, ends = self.puts[self.run != LOST], self.ends[self.ends < NEVER]
        at = np.concatenate([puts, ends])
        step = np.concatenate([np.ones(len(puts), np.int64), np.full(len(ends), -1)])
        order = np.lexsort((-step, at))
        moved = np.cumsum(step[order])
        level = moved - np.minimum(np.minimum.accumulate(moved), 0)
        return at[order], np.minimum(level, self.buffer.depth)


def fill(
    system: System,
    shown: Readings,
    buffer: Buffer,
    resolution: int,
    known_of: Mapping[str, Filled],
    several: Callable[[Thing], Instants],
) -> Filled | None:
    """What is seen of a buffer; None where a put or who drains it has no line.

    ``known_of``: what is seen of others; ``several``: the starts of a thing's bodies that may be several runs.
    """
    drain, mover = system.graph.drain[buffer.name], system.graph.mover.get(buffer.name)
    other = None if mover is None or mover.drains is None else known_of.get(mover.drains.buffer)
    puts = _puts(shown, buffer) if mover is None else _moved(other)
    if buffer.room_in is not None and isinstance(drain, Isr) and drain.drains is not None and drain.drains.most > 1:
        return None  # how many a run takes hangs on the room beyond
    asked = isinstance(drain, Unit) and bool(drain.asked_at)
    starts = _looks(shown, drain) if isinstance(drain, Unit) and asked else shown.instants.get(drain.start)
    if puts is None or starts is None:
        return None
    first, each, most = (0, 0, 1) if isinstance(drain, Unit) else _copies(drain)
    at_rest = isinstance(drain, Unit) and not asked  # it takes what comes at once
    bodies, merged = shown.bodies.get(drain.thing), several(drain.thing)
    if bodies is not None and bodies.always:
        return None  # it seems to run all the time, and may well be several runs
    ends = None if asked else shown.instants.get(drain.end)
    goes_on = buffer.name in system.graph.until_empty
    begun = bodies is not None and bodies.cut_begin
    if (goes_on and begun) or (len(merged) and merged[0] not in starts):
        # what had begun before the capture takes what comes meanwhile, or may be several that begin within it
        until = NEVER if ends is None or not len(ends) else int(ends[0])
        puts = puts[puts > until + resolution]
    known = starts if ends is None else _ends_of(starts, ends)
    run, lost, levels, least, taken = _play(
        puts,
        starts,
        known,
        buffer.depth,
        most,
        first,
        each,
        resolution,
        at_rest,
        buffer.overwrites,
        goes_on,
        np.isin(starts, merged),
        *(_more_moved(other) if mover is not None else _more_fed(buffer, several)),
    )
    return Filled(buffer, puts, starts, known, run, lost, levels, least, taken, goes_on)


def _puts(shown: Readings, buffer: Buffer) -> Instants | None:
    """When items came; None where one of its feeds has no line, or steps put."""
    parts: list[Instants] = []
    if not buffer.fed_by:
        return None
    for feed in buffer.fed_by:
        seen = shown.instants.get(feed.event)
        if seen is None:
            return None
        parts.append(np.repeat(seen, feed.items))
    return np.sort(np.concatenate([EMPTY, *parts]))


def _moved(other: Filled | None) -> Instants | None:
    """When items came that a routine has moved on, as many as it surely took of the ``other``; None: it is not seen."""
    if other is None:
        return None
    ended = other.ends < NEVER
    return np.repeat(other.ends[ended], other.least[ended])


def _more_moved(other: Filled | None) -> tuple[Instants, Instants]:
    """(when a routine may have moved on more than it surely took, how many)."""
    if other is None:
        return EMPTY, EMPTY
    more = (other.most > other.least) & (other.ends < NEVER)
    return other.ends[more], (other.most - other.least)[more]


def _more_fed(buffer: Buffer, several: Callable[[Thing], Instants]) -> tuple[Instants, Instants]:
    """(from when on more may have come than is seen, as several runs look like one; how many)."""
    bodies = {feed.event.thing for feed in buffer.fed_by if feed.event.moment}
    found = np.sort(np.concatenate([EMPTY, *map(several, bodies)]))
    return found, np.full(len(found), buffer.depth, np.int64)


def _looks(shown: Readings, unit: Unit) -> Instants | None:
    """When a unit was asked to take one; None where no line tells, or it may have been at work then."""
    found = shown.all_of(unit.asked_at)
    return None if found is None or (np.diff(found) <= unit.takes.most).any() else found


def _copies(drain: Isr | Step) -> tuple[int, int, int]:
    """(the least time from the first instruction to the first leave, of each item, the most items of a run)."""
    drains = drain.drains
    assert drains is not None
    return drain.cost_first.least + drains.each.least, drains.each.least, drains.most


def _ends_of(starts: Instants, ends: Instants) -> Instants:
    """The end of each run; that of one that goes on as the capture ends lies behind it."""
    place = place_of(ends, starts, behind=True)
    beyond = np.append(ends, np.int64(NEVER))
    found: Instants = beyond[place]
    return found


@kernel(weight=3)
def _play(
    puts: Instants, starts: Instants, ends: Instants, depth: int, most: int, first: int, each: int, off: int,
    by_unit: bool, overwrites: bool, until: bool, several: Any, more_at: Instants, more: Instants,
) -> Any:  # fmt: skip
    """The level from below, put by put, and who took what.

    ``waiting`` are surely in, and of those that the run at work ``took`` some may have left; ``hidden``: at most so
    many more are in before them. What may be ``several`` runs may have taken all that is in. ``pushed``: how many that
    it took are surely overwritten, ``spoilt``: may be. So many ``more`` may have come at ``more_at``, each.
    """
    count, runs = len(puts), len(starts)
    run, lost, queue, levels = zeros(count), zeros(count), zeros(count), zeros(count)
    least, taken = zeros(runs), zeros(runs)
    head, waiting, took, hidden = 0, 0, 0, depth
    number, base, listed, extra = -1, 0, 0, 0
    gone, pushed, spoilt = 0, 0, 0
    unsure, took_unsure = 0, 0  # of those that wait, of those that the run took
    for place in range(count + 1):
        now = puts[place] if place < count else NEVER
        while True:
            begins = number + 1 < runs and starts[number + 1] <= now + off
            latest = starts[number + 1] + off if begins else now
            while extra < len(more_at) and more_at[extra] <= latest:
                hidden = min(depth, hidden + more[extra])
                if until and number >= 0 and more_at[extra] < ends[number] + off:
                    taken[number] += more[extra]
                extra += 1
            if not begins:
                break
            number += 1
            took, doubtful, pushed, spoilt, base = min(waiting, most), 0, 0, 0, head
            known = min(depth, hidden + waiting) <= most
            near, gone_unsure = 0, 0
            for k in range(head, head + took):
                item = queue[k]
                gone_unsure += run[item] == UNSURE
                if puts[item] >= starts[number] - off:
                    near += run[item] != UNSURE
                    doubtful += 1
                    run[item] = UNSURE
                elif run[item] == OPEN:
                    run[item] = number if known else UNSURE
            least[number] = 0 if hidden else max(0, min(most, waiting - unsure) - near)
            unsure -= gone_unsure
            took_unsure = gone_unsure + near
            taken[number] = depth if several[number] else min(took + hidden, most)
            hidden = 0 if known else max(0, hidden + took - most)  # as many more as may be left in than are sure to be
            if several[number]:  # what is not sure to be gone is before all that comes
                doubtful += waiting - took
                for k in range(head + took, head + waiting):
                    run[queue[k]] = UNSURE
                unsure = 0
                took = waiting
            listed = took
            hidden += doubtful
            head += took
            waiting -= took
        if place == count:
            break
        left = took
        if number >= 0 and not by_unit and now < ends[number] - off:
            after = now + 2 * off - starts[number] - first
            left = 0 if after < 0 else took if each == 0 else min(took, after // each + 1)
        left = max(left, pushed)
        held = waiting + took - left
        if overwrites:
            if number >= 0 and now < ends[number] + off and spoilt < took + hidden + waiting - depth + 1:
                if spoilt < listed:
                    run[queue[base + spoilt]] = UNSURE
                spoilt += 1
            if held >= depth:
                lost[gone] = now
                gone += 1
                if number >= 0 and now <= starts[number] + off:  # it may have come before that took all that is in
                    run[place] = UNSURE
                    hidden += 1
                    continue
                held -= 1
                if left < took:
                    left += 1
                    pushed = left
                else:
                    idle = number < 0 or now >= ends[number] + off
                    unsure -= run[queue[head]] == UNSURE
                    run[queue[head]] = LOST if idle and hidden == 0 else UNSURE
                    head += 1
                    waiting -= 1
        if held >= depth:
            lost[gone] = now
            gone += 1
            run[place] = LOST
            in_doubt = number >= 0 and took_unsure > 0 and now < ends[number] + off
            if unsure > 0 or in_doubt:  # one before it was, or this
                run[place] = UNSURE
                hidden = min(depth, hidden + 1)
            continue
        still = taken[number] if number >= 0 and not by_unit and now < ends[number] + off else 0  # with slow copies
        run[place] = OPEN if overwrites or hidden + waiting + still < depth else UNSURE
        late = number >= 0 and took < most and now <= starts[number] + off
        meanwhile = number >= 0 and (several[number] or until) and now < ends[number] + off
        if late or meanwhile:  # a run that has begun may have it
            run[place] = number if by_unit and waiting == 0 and hidden == 0 else UNSURE
            took += 1
            left += by_unit
            if until or taken[number] < (depth if several[number] else most):
                taken[number] += 1
            hidden += not by_unit
            took_unsure += not by_unit
        else:
            queue[head + waiting] = place
            unsure += run[place] == UNSURE
            waiting += 1
        levels[place] = waiting + took - left
    return run, lost[:gone], levels, least, taken
