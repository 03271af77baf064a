"""What less urgent work can still hold a line off when its busy window opens.

At most one of these holds a line off in one window: each must have begun before the window opens, a guard holds off
every line less urgent than the one it names, and a routine of the same level runs to its end before another begins.
So the largest counts once. (The argument is that of the immediate priority ceiling: L. Sha, R. Rajkumar, J. Lehoczky,
"Priority inheritance protocols", IEEE Trans. Computers 39 (1990).)
"""

from __future__ import annotations

from collections.abc import Iterator

from tachys.bounds.result import Part
from tachys.model.quantities import Range
from tachys.model.system import Core, Guard, Isr, System


def after_body(core: Core) -> int:
    """The most that the end of an activation costs: its exit, or what a chain costs more than an entry."""
    return max(core.exit.most, core.chain.most - core.entry.most)


def body_most(isr: Isr) -> int:
    """The longest body of one run, in ps: with ``serves = "all"`` one run serves all that can wait."""
    return isr.pending * sum(cost.most for cost in isr.costs) if isr.serves_all else isr.cost.most


def blockers(system: System, line: Isr) -> Iterator[Part]:
    """Everything that can hold ``line`` off once, each with its length; the caller takes the longest."""
    core = system.core
    for other in system.isrs[line.rank + 1 :]:
        yield from _routine(core, line, other)
    for step in system.loop.steps if system.loop else ():
        for length, _ in guarded_stretches(step.guards, step.cost, step.cost.most, line.urgency):
            yield Part("guard", f"step.{step.name}", 1, length)
        if step.sleeps and core.wake.most:
            yield Part("wake", f"step.{step.name}", 1, 0, core.wake.most)


def _routine(core: Core, line: Isr, other: Isr) -> Iterator[Part]:
    who, end = f"isr.{other.name}", after_body(core)
    if not core.nesting or other.urgency == line.urgency:
        # it may have been chained to just before, which can take longer than an entry
        yield Part("running", who, 1, body_most(other), max(core.entry.most, core.chain.most) + end)
        return
    if core.late_arrival:  # an entry or chain that has begun is taken over, not waited for
        yield Part("exit", who, 1, 0, max(core.exit.most, core.chain.most - core.entry.most))
    else:
        longest = max((core.entry.most, "entry"), (core.exit.most, "exit"), (core.chain.most, "chain"))
        yield Part(longest[1], who, 1, 0, longest[0])
    for length, to_end in guarded_stretches(other.guards, other.cost, body_most(other), line.urgency):
        yield Part("guard", who, 1, length, end if to_end else 0)


def guarded_stretches(
    guards: tuple[Guard, ...], cost: Range, longest_body: int, urgency: int
) -> Iterator[tuple[int, bool]]:
    """(longest length in ps, whether it can last to the end) of each stretch that holds off lines of ``urgency``.

    Stretches that touch or overlap are one: what ends at the instant at which the next begins lets nothing through
    that the analysis could count on.
    """
    spans = sorted(
        (guard.at.least, longest_body if guard.length is None else guard.at.most + guard.length.most)
        for guard in guards
        if guard.urgency <= urgency
    )
    merged: list[list[int]] = []
    for begin, end in spans:
        if merged and begin <= merged[-1][1]:
            merged[-1][1] = max(merged[-1][1], end)
        else:
            merged.append([begin, end])
    for begin, end in merged:
        yield end - begin, end >= cost.least
