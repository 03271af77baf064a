"""Flags: from set to handled, and whether one may be set again before that."""

from __future__ import annotations

from tachys.figures import Figure
from tachys.model.system import System
from tachys.worstcase.arrivals import NoBound
from tachys.worstcase.events import Events
from tachys.worstcase.loop import LoopWindows
from tachys.worstcase.result import FlagBounds, IsrBounds


def flag_bounds(
    system: System, flag: str, windows: LoopWindows | None, events: Events, isrs: dict[str, IsrBounds]
) -> FlagBounds:
    """The bounds of one flag: the soonest of the steps that take it."""
    setters = [isr.name for isr in system.graph.setters.get(flag, ())]
    found = system.graph.takers(flag)
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
