"""How much of the core a capture shows to be taken: from busy lines, or from a line that is high while it is idle."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from msgspec import Struct

from tachys import stretches
from tachys.capture.table import Instants
from tachys.checking.board.measuring import Measurement
from tachys.needs.takers import INTERRUPTS, is_of
from tachys.stretches import joined


class LoadSeen(Struct, frozen=True):
    """The share taken over the whole capture, at least and at most; ``by`` says where it comes from.

    ``unseen`` things have no line: the most that the model gives them is in ``most`` only.
    """

    least: float
    most: float
    by: str
    unseen: tuple[str, ...] = ()


class Busiest(Struct, frozen=True):
    """The window of ``length`` ps, beginning at ``at``, in which most was seen: ``share``; ``bound`` on paper."""

    length: int
    share: float
    at: int
    bound: Fraction


def busiest_windows(board: Measurement) -> tuple[Busiest, ...]:
    """The busiest window of each length for which there is a bound; what has no line is not in it."""
    found = []
    for window in board.paper.load.windows:
        seen = busiest(board, window.length)
        if seen is not None:
            found.append(Busiest(window.length, seen[0], seen[1], window.most))
    return tuple(found)


def load_seen(board: Measurement) -> LoadSeen | None:
    """The load of a capture; None where nothing shows it."""
    length = board.capture.length
    if not length:
        return None
    idle = board.shown.idle
    if idle is not None:
        share = 0.0 if idle.always else 1 - float((idle.end - idle.start).sum()) / length
        slack = 2 * board.resolution * len(idle.start) / length
        return LoadSeen(max(0.0, share - slack), min(1.0, share + slack), "the idle line")
    if not board.things:
        return None
    begins, ends = busy_stretches(board)
    taken = float((ends - begins).sum()) / length
    things = [isr.thing for isr in board.system.isrs] + [step.thing for step in board.system.steps]
    missing = [thing for thing in things if thing not in board.shown.bodies]
    more = sum((share.most for share in board.paper.load.shares if share.who in missing), Fraction(0))
    slack = 2 * board.resolution * len(begins) / length
    return LoadSeen(max(0.0, taken - slack), min(1.0, taken + slack + float(more)), "busy lines", tuple(missing))


def taken_by(board: Measurement, of: tuple[str, ...]) -> Fraction | None:
    """The share that these took of the whole capture, at least; None where none of them has a line.

    Of a step that also waits or pauses nothing is known.
    """
    core, length, total, seen = board.system.core, board.capture.length, 0, False
    if INTERRUPTS in of:
        begins, ends = busy_stretches(board, interrupts_only=True)
        total, seen = int((ends - begins).sum()) - 2 * board.resolution * len(begins), len(begins) > 0
    apart = core.follows.least
    for isr in board.system.isrs:
        cost = board.isrs[isr.name].cost
        if INTERRUPTS not in of and is_of(isr.thing, of) and cost is not None:
            total, seen = total + int(cost.least.sum()) + apart * len(cost.least), True
    for step in board.system.steps:
        own = board.steps[step.name].own
        if is_of(step.thing, of) and own is not None and all(act.burns for act in step.acts):
            total, seen = total + int(own.least.sum()), True
    return Fraction(max(0, total), length) if seen and length else None


def busy_stretches(board: Measurement, *, interrupts_only: bool = False) -> tuple[Instants, Instants]:
    """When something that has a line ran; worked out once for each board."""
    if interrupts_only not in board.busy:
        board.busy[interrupts_only] = _busy(board, interrupts_only=interrupts_only)
    return board.busy[interrupts_only]


def _busy(board: Measurement, *, interrupts_only: bool) -> tuple[Instants, Instants]:
    """The stretches in which bodies ran, with entry before and exit behind each routine, put together.

    The time that a step spins or sleeps is no load: steps that pause, wait or sleep count their modelled cost at most.
    """
    core = board.system.core
    things = [thing for thing in board.things if thing.kind == "isr" or not interrupts_only]
    count = sum(len(board.shown.bodies[thing].start) for thing in things)
    begins, ends, done = np.empty(count, np.int64), np.empty(count, np.int64), 0
    for thing in things:
        bodies, kind = board.shown.bodies[thing], thing.kind
        begin, end = (column[done : done + len(bodies.start)] for column in (begins, ends))
        begin[:], end[:] = bodies.start, bodies.end
        if kind == "isr":
            begin -= core.entry.least
            end += core.exit.least
        elif kind == "step":
            step = board.system.step(thing.name)
            if not all(act.burns for act in step.acts):
                np.minimum(end, begin + step.cost.most, out=end)
        done += len(begin)
    np.maximum(begins, board.capture.begin, out=begins)
    np.minimum(ends, board.capture.end, out=ends)
    return joined(begins, ends)


def busiest(board: Measurement, over: int, *, interrupts_only: bool = False) -> tuple[float, int] | None:
    """(share, begin in ps) of the busiest window of ``over`` ps; None where the capture is shorter or shows nothing."""
    if board.capture.length < over or not board.things:
        return None
    begins, ends = busy_stretches(board, interrupts_only=interrupts_only)
    if not len(begins):
        return 0.0, board.capture.begin
    most, at = stretches.busiest(begins, ends, over, board.capture.begin, board.capture.end)
    return most / over, at
