"""Starts and ends of a unit: which start it took, when that ended, and which starts were lost."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct, field

from tachys.capture.table import Instants
from tachys.checking.board.accepting import EMPTY
from tachys.compiled import kernel, zeros
from tachys.model.nodes import Unit
from tachys.stretches import NEVER

DROP, RESTART, QUEUE = range(3)
_MODES = {"drop": DROP, "restart": RESTART, "queue": QUEUE}


class Paired(Struct, frozen=True):
    """Starts at ``at`` ps that ended ``after`` ps later, ``lost`` ones, and ``open`` ones at work as the capture ended.

    ``takes`` is the time at work alone, without waiting behind others. ``judged``: losses could be told. ``silent``
    ones never ended, though there was time.
    """

    at: Instants
    after: Instants
    lost: Instants
    open: Instants
    takes: Instants | None = None
    judged: bool = True
    silent: Instants = field(default_factory=lambda: EMPTY)

    @property
    def answers_again(self) -> bool:
        """Whether one that ended comes after one that did not: it has not just stopped."""
        return len(self.silent) > 0 and len(self.at) > 0 and bool(self.silent[0] < self.at[-1])

    @property
    def unanswered(self) -> Instants:
        """The starts without an end that are not at work any more."""
        return np.sort(np.concatenate([self.lost, self.silent])) if len(self.silent) else self.lost


def pair_unit(unit: Unit, starts: Instants, ends: Instants, begin: int, *, busy: bool = False) -> Paired:
    """Play the rule of the unit over the starts and ends that were seen, ascending in ps.

    An end that nothing seen has started belongs to before ``begin``; ``busy``: the unit was seen at work then, so the
    first end is that of what it was at.
    """
    depth = unit.depth if unit.busy == "queue" else 0
    at, after, takes, lost, waiting = _pair(starts, ends, _MODES[unit.busy], depth, begin, busy)
    return Paired(at, after, lost, waiting, takes)


def pair_answers(unit: Unit, starts: Instants, ends: Instants, seen_to: int, slack: int, *, busy: bool) -> Paired:
    """As :func:`pair_unit`, for a unit that may stay silent; ``seen_to``: where the capture ends.

    An end is that of the first start before it, and behind the end before, that is no longer ago than an operation may
    take, within ``slack``; or of the last, where it begins anew. What was started before that one never ended.
    """
    longest, anew = unit.takes.most + slack, unit.busy == "restart"
    after = np.searchsorted(starts, ends)
    before = np.append(0, after)[: len(ends)]
    begun = after - 1 if anew else np.clip(np.searchsorted(starts, ends - longest), before, after - 1)
    ended = after > before
    if busy and len(ends) and not anew:  # the first end is that of what it was at; what came before is not told
        ended[0] = False
    number = np.arange(len(starts))
    segment = np.searchsorted(ends, starts, side="right")
    taken = np.append(np.where(after > before, begun, -1), len(starts))[segment]  # in the segment of each start
    without = (number != taken) & ((segment > 0) | anew | (not busy))
    gone = np.append(starts[1:], seen_to) if anew else np.full(len(starts), seen_to)  # until when its end may come
    told = segment < len(ends)
    late = gone - starts > longest
    silent = without & ((told & (number < taken) & (late | (not anew))) | (~told & late))
    going = without & ~told & ~late & ((number == len(starts) - 1) | (not anew))
    lost = without & ~silent & ~going
    begins = starts[begun[ended]]
    return Paired(begins, ends[ended] - begins, starts[lost], starts[going], silent=starts[silent])


def may_be_silent(unit: Unit, paired: Paired, starts: Instants, slack: int) -> bool:
    """Whether what was ``paired`` of a unit that always answers looks as if some of its operations had no end.

    Most take as long as modelled, some do not, and no start comes while one may still be at work.
    """
    longest, takes = unit.takes.most + slack, paired.after
    if unit.busy == "queue" or unit.counts is not None or len(starts) < 2 or int(np.diff(starts).min()) <= longest:
        return False
    fits = (takes >= unit.takes.least - slack) & (takes <= longest)
    return 2 * int(fits.sum()) > len(takes) and (len(paired.lost) > 0 or not fits.all())


@kernel(weight=2)
def _pair(starts: Instants, ends: Instants, mode: int, depth: int, begin: int, busy: bool) -> Any:
    count = len(starts)
    at, after, takes = zeros(count), zeros(count), zeros(count)
    lost, queue = zeros(count), zeros(count)
    done, gone, head, tail, place = 0, 0, 0, 0, 0
    work_began = begin
    for number in range(len(ends) + 1):
        end = ends[number] if number < len(ends) else NEVER  # after the last, what is still to start
        while place < count and starts[place] < end:  # at one instant an end comes first
            hidden = busy and number == 0 and not (mode == 1 and tail > head)
            if (head == tail and not hidden) or (hidden and mode == 1):
                work_began = starts[place]
            elif hidden:
                if tail - head >= depth:
                    lost[gone] = starts[place]
                    gone += 1
                    place += 1
                    continue
            elif mode == 1:
                lost[gone] = queue[head]
                gone += 1
                head += 1
                work_began = starts[place]
            elif tail - head > depth:
                lost[gone] = starts[place]
                gone += 1
                place += 1
                continue
            queue[tail] = starts[place]
            tail += 1
            place += 1
        if end == NEVER:
            break
        if busy and number == 0 and not (mode == 1 and tail > head):
            work_began = end
            continue
        if head == tail:
            continue  # began before the capture, or what started it was not seen
        at[done], after[done], takes[done] = queue[head], end - queue[head], end - work_began
        done += 1
        head += 1
        work_began = end
    return at[:done], after[:done], takes[:done], lost[:gone], queue[head:tail]
