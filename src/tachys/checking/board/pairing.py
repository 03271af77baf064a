"""Starts and ends of a unit: which start it took, when that ended, and which starts were lost."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from tachys.capture.table import Instants
from tachys.compiled import kernel, zeros
from tachys.model.nodes import Unit

DROP, RESTART, QUEUE = range(3)
NEVER = 1 << 62
_MODES = {"drop": DROP, "restart": RESTART, "queue": QUEUE}


@dataclass(frozen=True, slots=True)
class Paired:
    """Starts at ``at`` ps that ended ``after`` ps later, ``lost`` ones, and ``open`` ones at work as the capture ended.

    ``takes`` is the time at work alone, without waiting behind others. ``judged``: losses could be told.
    """

    at: Instants
    after: Instants
    lost: Instants
    open: Instants
    takes: Instants | None = None
    judged: bool = True


def pair_unit(unit: Unit, starts: Instants, ends: Instants, begin: int, *, busy: bool = False) -> Paired:
    """Play the rule of the unit over the starts and ends that were seen, ascending in ps.

    An end that nothing seen has started belongs to before ``begin``; ``busy``: the unit was seen at work then, so the
    first end is that of what it was at.
    """
    depth = unit.depth if unit.busy == "queue" else 0
    at, after, takes, lost, waiting = _pair(starts, ends, _MODES[unit.busy], depth, begin, busy)
    return Paired(at, after, lost, waiting, takes)


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
