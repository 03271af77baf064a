"""Flags: from set to handled, and whether one may be set again before that."""

from __future__ import annotations

from collections.abc import Iterable
from operator import attrgetter

from msgspec.structs import replace

from tachys.figures import Figure, Part, summed
from tachys.model.nodes import Step
from tachys.model.system import System
from tachys.worstcase.arrivals import Curve, NoBound
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.events import Events
from tachys.worstcase.loop import LoopWindows, set_after_look
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
    set_after = set_after_look(system, isrs, setters)
    sets = events.sets(flag)
    assert sets is not None
    errand = events.rings.errands.get(flag)
    if errand is not None:
        return FlagBounds(flag, windows.answer(errand, set_after), False, "")
    figure = _soonest(_reaction(windows, step, flag, set_after, sets) for step in found)
    if any(step.thing in events.rings.turns for step in found):  # the only token of a ring sets it
        return FlagBounds(flag, figure, False, "")
    passing = None
    if windows.may_come_first(flag):
        passing = _soonest(windows.reaction(step, flag, set_after, passing=True) for step in found)
    return replace(_judged(flag, figure, sets, "it can be set again before the loop has looked"), passing=passing)


def _soonest(figures: Iterable[Figure]) -> Figure:
    return min(figures, key=attrgetter("rank"))


def with_meeting(reach: EventBounds, windows: LoopWindows, step: Step) -> EventBounds:
    """With the bounds of the flags that a step takes once all are set, and nobody else takes, and of how soon it comes.

    From any instant each of them is set within the longest time to its next set, or still is; once the last is, the
    loop comes as for a flag of its own.
    """
    graph, found = reach.system.graph, dict[str, FlagBounds]()
    if any(graph.rival(flag, step) is not None or not graph.sets_of(flag) for flag in step.polls):
        return reach

    def last(flag: str, own: str, passing: bool) -> Figure:
        """From the set of a flag (none: from any instant) to the step, where ``flag`` is the last that is set."""
        at_once = flag == own
        known = reach.later if passing else reach
        gaps = [gap for event in graph.sets_of(flag) if (gap := known.gap(event)) is not None]
        if not gaps and not at_once:
            return Figure(0, None, reason=f'nothing is sure to set the flag "{flag}" too')
        comes = windows.reaction(
            step, flag, set_after_look(reach.system, reach.isrs, graph.sets_of(flag)), passing=passing
        )
        if at_once or comes.most is None:
            return comes
        return summed(0, [Part("until it is set too", f"flag.{flag}", 1, min(gaps)), *comes.parts])

    def longest(own: str, passing: bool) -> Figure:
        return max((last(flag, own, passing) for flag in step.polls), key=attrgetter("rank"))

    for flag in step.polls:
        first = windows.may_come_first(flag)
        figure, later = longest(flag, not first), longest(flag, True) if first else None
        sets = reach.events.sets(flag)
        assert sets is not None
        why = "it can be set again before all are set and the loop has looked"
        found[flag] = replace(_judged(flag, figure, sets, why), passing=later)
    bounds = replace(reach.steps[step.name], gap=longest("", False).most, again=longest("", True).most)
    return replace(reach, flags=reach.flags | found, steps=reach.steps | {step.name: bounds})


def _judged(flag: str, figure: Figure, sets: Curve, again: str) -> FlagBounds:
    if figure.most is None:
        return FlagBounds(flag, figure, True, figure.reason)
    try:
        overwritten = sets.most_within(figure.most) > 1
    except NoBound as error:
        return FlagBounds(flag, figure, True, str(error))
    return FlagBounds(flag, figure, overwritten, again if overwritten else "")


def _reaction(windows: LoopWindows, step: Step, flag: str, set_after: int, sets: Curve) -> Figure:
    """The longest time from a set to the take of a step; its own run is in the way only where that can still last.

    It had taken an earlier set, at the least distance of sets before or more, within the longest reaction; where that
    and its longest duration are over by then, it does not run before it takes this one.
    """
    if windows.events.rings.passes_end(step.thing):  # the only token of a ring sets it, and has left the step by then
        return windows.reaction(step, flag, set_after, again=False)
    figure = windows.reaction(step, flag, set_after)
    duration = windows.duration(step)
    if figure.most is None or duration.most is None or step.polls != (flag,):
        return figure
    if figure.most + duration.most > sets.least_span(2):
        return figure
    return windows.reaction(step, flag, set_after, again=False)
