"""A wait taken apart: who ran, who held interrupts off, entries and exits, and what no line shows. The parts add up."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

import numpy as np
from msgspec import Struct

from tachys.checking.board.measuring import Measurement
from tachys.checking.board.nesting import NOBODY
from tachys.checking.probes.buscodes import BACKGROUND, urgency_of
from tachys.figures import Figure
from tachys.model.events import Thing
from tachys.model.system import System

# a wake-up counts as entry; "not set": a flag that the step polls too
How = Literal["ran", "held off", "entry and exit", "unseen", "not set"]


class WaitPart(Struct, frozen=True):
    """Part of a wait, from ``begin`` to ``end`` ps: what was the case, and who did it (empty for overhead, unseen)."""

    begin: int
    end: int
    how: How
    what: Thing


class Cause(Struct, frozen=True):
    """All that one thing did in a wait: ``time`` ps in total; ``expected`` is what the bound allows for it in one."""

    what: Thing
    how: How
    time: int
    expected: int | None = None

    @property
    def excess(self) -> int:
        """How much more than expected, in ps."""
        return self.time - (self.expected or 0)


def stretches_of(board: Measurement, begin: int, end: int, waiting: Thing) -> list[WaitPart]:
    """The wait of a thing, such as "isr.tick" or "step.log", for its first instruction at ``end``."""
    core, level = board.system.core, urgency_of(board.system, waiting)
    wake = board.system.waking
    found: list[WaitPart] = []
    last_set = _last_set(board, waiting, end)
    if last_set is not None and begin < last_set[0] < end:
        found.append(WaitPart(begin, last_set[0], "not set", last_set[1]))
        begin = last_set[0]
    pieces = board.tops.between(begin, end)
    for place, (first, last, who) in enumerate(pieces):
        name = board.things[who] if who != NOBODY else Thing("")
        if name and (level == BACKGROUND or not _could_take_over(board, name, level)):
            found.append(WaitPart(first, last, "ran", name))
            continue
        following = pieces[place + 1][2] if place + 1 < len(pieces) else None
        enters = level != BACKGROUND and (last == end or following not in (NOBODY, None))
        spent = bool(found) and found[-1].how == "ran" and found[-1].what.kind == "isr"
        overhead = (core.entry.most if enters else 0) + (core.exit.most if spent else 0)
        overhead += wake if not name or name in board.system.sleepers else 0
        if overhead and last - first <= overhead + board.resolution:
            found.append(WaitPart(first, last, "entry and exit", Thing("")))
        elif enters and core.entry.most:
            border = last - core.entry.most
            found.append(WaitPart(first, border, *_idle(name)))
            found.append(WaitPart(border, last, "entry and exit", Thing("")))
        else:
            found.append(WaitPart(first, last, *_idle(name)))
    return found


def _last_set(board: Measurement, waiting: Thing, end: int) -> tuple[int, Thing] | None:
    """When all flags were set that a step waits for, which began at ``end``, and which the last; None: not known."""
    step = board.system.step(waiting.name) if waiting.kind == "step" else None
    starts = board.events(step.start) if step is not None and step.polls_all else None
    if step is None or starts is None:
        return None
    runs = int(np.searchsorted(starts, end - board.resolution))
    before, found = int(starts[runs - 1]) if runs else board.capture.begin, []
    for flag in step.polls:
        sets = board.sets_of(flag)
        place = 0 if sets is None else int(np.searchsorted(sets, before))
        if sets is not None and place < len(sets) and sets[place] < end:
            found.append((int(sets[place]), Thing(f"flag.{flag}")))
    return max(found, default=None)


def _could_take_over(board: Measurement, name: Thing, level: int) -> bool:
    """Whether a routine of a level is taken over what runs, unless it is held off."""
    if name.kind == "isr" and not board.system.core.nesting:
        return False
    return urgency_of(board.system, name) > level


def _idle(name: Thing) -> tuple[How, Thing]:
    return ("held off", name) if name else ("unseen", Thing(""))


def longest_guard(system: System, what: Thing) -> int:
    """The longest time in ps for which the model says that a body holds anything off."""
    if what.kind not in ("isr", "step"):
        return 0
    body = system.isr(what.name) if what.kind == "isr" else system.step(what.name)
    return max((guard.longest(body.cost.most) for guard in body.guards), default=0)


def causes_of(
    stretches: Iterable[WaitPart], bound: Figure | None = None, system: System | None = None, late: int = 0
) -> tuple[Cause, ...]:
    """What each thing did in a wait, the largest excess over the bound first; together they are the whole wait.

    Of what holds off, its own guard in ``system`` is what is expected, not that of whoever stands in the bound. Where
    all excess together is less than the wait was ``late`` (ps), the model itself allows that: what took most is first.
    """
    times: dict[tuple[Thing, How], int] = {}
    for each in stretches:
        key = (each.what, each.how)
        times[key] = times.get(key, 0) + each.end - each.begin
    expected: dict[str, int] = {}
    holding = 0  # one blocker is in a bound, whoever it may be
    for part in bound.parts if bound is not None and bound.most is not None else ():
        if part.what.startswith("held off"):
            holding += part.total
        else:
            expected[part.who] = expected.get(part.who, 0) + part.total
    found = []
    for (what, how), time in times.items():
        allowed = expected.get(what, 0)
        if how == "held off":
            allowed = holding if system is None else longest_guard(system, what)
        found.append(Cause(what, how, time, allowed if bound is not None and what else None))
    by_excess = sum(max(0, cause.excess) for cause in found) >= late
    return tuple(sorted(
        found, key=lambda cause: (cause.how == "entry and exit", -(cause.excess if by_excess else cause.time))
    ))  # fmt: skip
