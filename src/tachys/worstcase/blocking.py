"""What less urgent work can still hold a line off when its busy window opens.

At most one of these holds a line off in one window: each must have begun before the window opens, a guard holds off
every line less urgent than the one it names, and a routine of the same level runs to its end before another begins.
So the largest counts once. (The argument is that of the immediate priority ceiling: L. Sha, R. Rajkumar, J. Lehoczky,
"Priority inheritance protocols", IEEE Trans. Computers 39 (1990).)
"""

from __future__ import annotations

from collections.abc import Iterator

from tachys.figures import Part
from tachys.model.acts import Guard
from tachys.model.nodes import Core, Isr
from tachys.model.quantities import Range
from tachys.model.system import System
from tachys.worstcase.arrivals import NoBound


def after_body(core: Core) -> int:
    """The most that the end of an activation costs: its exit, or what a chain costs more than an entry."""
    return max(core.exit.most, core.chain.most - core.entry.most)


def body_most(isr: Isr) -> int:
    """The longest body of one run, in ps: with ``serves = "all"`` one run serves all that can wait."""
    if not isr.serves_all:
        return isr.cost.most
    return isr.pending * sum(cost.most - isr.longer for cost in isr.costs) + isr.longer


class Blockers:
    """For every line, by rank, the longest thing that can hold it off once.

    What is the same for all lines (an entry that has begun, the guards of the loop) is worked out once, so that a
    thousand lines do not cost a million looks.
    """

    def __init__(self, system: System) -> None:
        self._system = system
        self._guarded = [isr for isr in system.isrs if isr.guards]
        self._endless = [isr for isr in system.isrs if isr.drains is not None and isr.drains.endless]
        self._running = self._longest_running()
        self._loop: dict[int, Part | None] = {}

    def longest(self, rank: int) -> Part:
        """The longest blocker of the line at ``rank``; a part of nothing if there is none.

        Raises:
            NoBound: one has no end.
        """
        system = self._system
        line, last = system.isrs[rank], system.isrs[-1]
        for other in self._endless:
            holds = other.urgency == line.urgency or not system.core.nesting
            guards = any(guard.length is None and guard.urgency <= line.urgency for guard in other.guards)
            if other.rank > rank and other.drains is not None and (holds or guards):
                raise NoBound(other.drains.why_endless(other.thing))
        found = [self._running[rank], self._by_loop(line.urgency)]
        if system.core.nesting:
            if last.urgency > line.urgency:
                found.append(self._begun(last))
            found += [
                part
                for other in self._guarded
                if other.urgency > line.urgency
                for part in self._guards(other, line.urgency)
            ]
        return max(
            (part for part in found if part is not None), key=lambda part: part.total, default=Part("", "", 0, 0)
        )

    def _longest_running(self) -> list[Part | None]:
        """The longest routine of the same level (or any, without nesting) that stands behind each line."""
        core, longest = self._system.core, None
        found: list[Part | None] = []
        end = after_body(core)
        following: Isr | None = None
        for isr in reversed(self._system.isrs):
            if core.nesting and following is not None and following.urgency != isr.urgency:
                longest = None
            found.append(longest)
            # it may have been chained to just before, which can take longer than an entry
            part = Part("running", isr.thing, 1, body_most(isr), max(core.entry.most, core.chain.most) + end)
            if longest is None or part.total > longest.total:
                longest = part
            following = isr
        return found[::-1]

    def _by_loop(self, urgency: int) -> Part | None:
        if urgency not in self._loop:
            found = []
            for step in self._system.steps:
                for act in step.acts:
                    for length, _ in guarded_stretches(act.held, act.takes, act.takes.most, urgency):
                        found.append(Part("guard", step.thing, 1, length))
                if step.halt:
                    found.append(Part("wake", step.thing, 1, step.halt.masked.most, step.halt.waking.most))
            self._loop[urgency] = max(found, key=lambda part: part.total, default=None)
        return self._loop[urgency]

    def _begun(self, other: Isr) -> Part:
        """The entry, exit or chain of a less urgent routine that has just begun."""
        core, who = self._system.core, other.thing
        if core.late_arrival:  # an entry or chain that has begun is taken over, not waited for
            return Part("exit", who, 1, 0, max(core.exit.most, core.chain.most - core.entry.most))
        length, what = max((core.entry.most, "entry"), (core.exit.most, "exit"), (core.chain.most, "chain"))
        return Part(what, who, 1, 0, length)

    def _guards(self, other: Isr, urgency: int) -> Iterator[Part]:
        end = after_body(self._system.core)
        for length, to_end in guarded_stretches(other.guards, other.cost, body_most(other), urgency):
            yield Part("guard", other.thing, 1, length, end if to_end else 0)


def guarded_stretches(
    guards: tuple[Guard, ...], cost: Range, longest_body: int, urgency: int
) -> Iterator[tuple[int, bool]]:
    """(longest length in ps, whether it can last to the end) of each stretch that holds off lines of ``urgency``.

    Stretches that touch or overlap are one: what ends at the instant at which the next begins lets nothing through
    that the analysis could count on.
    """
    spans = sorted(
        (guard.at.least, guard.last(longest_body), guard.longest(longest_body))
        for guard in guards
        if guard.urgency <= urgency
    )
    merged: list[list[int]] = []
    for begin, end, longest in spans:
        if merged and begin <= merged[-1][1]:
            merged[-1][1:] = max(merged[-1][1], end), merged[-1][2] + longest
        else:
            merged.append([begin, end, longest])
    for begin, end, longest in merged:
        yield min(end - begin, longest), end >= cost.least
