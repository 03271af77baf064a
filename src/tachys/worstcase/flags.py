"""Flags: from set to handled, and whether one may be set again before that."""

from __future__ import annotations

from tachys.figures import Figure
from tachys.model.nodes import Step
from tachys.model.system import System
from tachys.worstcase.arrivals import Curve, NoBound
from tachys.worstcase.events import Events
from tachys.worstcase.loop import LoopWindows
from tachys.worstcase.result import FlagBounds, IsrBounds


def flag_bounds(
    system: System, flag: str, windows: LoopWindows | None, events: Events, isrs: dict[str, IsrBounds]
) -> FlagBounds:
    """The bounds of one flag: the soonest of the steps that take it."""
    setters = system.graph.sets_of(flag)
    found = system.graph.takers(flag)
    if windows is None or (not found and flag not in events.rings.errands):
        return FlagBounds(flag, Figure(0, None, reason="no step is sure to look at it"), bool(setters), "it stays set")
    if not setters:
        return FlagBounds(flag, Figure(0, None, reason="nothing sets it"), False, "")
    # by hardware or a step at any instant; by a routine not before its response has passed
    set_after = min(isrs[event.name].until(event.moment).least if event.kind == "isr" else 0 for event in setters)
    sets = events.sets(flag)
    assert sets is not None
    errand = events.rings.errands.get(flag)
    if errand is not None:
        return FlagBounds(flag, windows.answer(errand, set_after), False, "")
    figures = [_reaction(windows, step, flag, set_after, sets) for step in found]
    figure = min(figures, key=lambda each: 2**80 if each.most is None else each.most)
    if any(step.thing in events.rings.turns for step in found):  # the only token of a ring sets it
        return FlagBounds(flag, figure, False, "")
    if figure.most is None:
        return FlagBounds(flag, figure, True, figure.reason)
    try:
        overwritten = sets.most_within(figure.most) > 1
    except NoBound as error:
        return FlagBounds(flag, figure, True, str(error))
    reason = "it can be set again before the loop has looked" if overwritten else ""
    return FlagBounds(flag, figure, overwritten, reason)


def _reaction(windows: LoopWindows, step: Step, flag: str, set_after: int, sets: Curve) -> Figure:
    """The longest time from a set to the take of a step; its own run is in the way only where that can still last.

    It had taken an earlier set, at the least distance of sets before or more, within the longest reaction; where that
    and its longest duration are over by then, it does not run before it takes this one.
    """
    if windows.events.rings.passes_end(step.thing):  # the only token of a ring sets it, and has left the step by then
        return windows.reaction(step, flag, set_after, again=False)
    figure = windows.reaction(step, flag, set_after)
    duration = windows.duration(step)
    if figure.most is None or duration.most is None or step.polls != flag:
        return figure
    if figure.most + duration.most > sets.least_span(2):
        return figure
    return windows.reaction(step, flag, set_after, again=False)
