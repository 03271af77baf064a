"""Flags: from set to handled, and whether one may be set again before that."""

from __future__ import annotations

from tachys.figures import Figure
from tachys.model.nodes import Step
from tachys.model.system import System
from tachys.worstcase.arrivals import NoBound
from tachys.worstcase.events import Events
from tachys.worstcase.loop import LoopWindows
from tachys.worstcase.result import FlagBounds, IsrBounds


def takers(system: System, flag: str) -> list[Step]:
    """The steps that take a flag in every pass in which they find it set."""
    return [
        step
        for step in system.steps
        if step.polls == flag or (flag in step.flags_waited and step.polls is None and step.every is None)
    ]


def rival(system: System, flag: str, step: Step) -> str | None:
    """The step that may take a flag before ``step`` opens on it, itself in its wait included; None if there is none."""
    others = (
        each.name
        for each in system.steps
        if flag in each.flags_waited or (each.name != step.name and flag == each.polls)
        if each.name != step.name or step.polls == flag
    )
    return next(others, None)


def flag_bounds(
    system: System, flag: str, windows: LoopWindows | None, events: Events, isrs: dict[str, IsrBounds]
) -> FlagBounds:
    """The bounds of one flag: the soonest of the steps that take it."""
    setters = [isr.name for isr in system.graph.setters.get(flag, ())]
    found = takers(system, flag)
    if windows is None or not found:
        return FlagBounds(flag, Figure(0, None, reason="no step is sure to look at it"), bool(setters), "it stays set")
    if not setters:
        return FlagBounds(flag, Figure(0, None, reason="nothing sets it"), False, "")
    set_after = min(isrs[name].response.least for name in setters)
    figures = [windows.reaction(step, flag, set_after) for step in found]
    figure = min(figures, key=lambda each: 2**80 if each.most is None else each.most)
    if figure.most is None:
        return FlagBounds(flag, figure, True, figure.reason)
    sets = events.sets(flag)
    assert sets is not None
    try:
        overwritten = sets.most_within(figure.most) > 1
    except NoBound as error:
        return FlagBounds(flag, figure, True, str(error))
    reason = "it can be set again before the loop has looked" if overwritten else ""
    return FlagBounds(flag, figure, overwritten, reason)
