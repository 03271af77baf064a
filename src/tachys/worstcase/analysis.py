"""All bounds of a system, and what they prove of its needs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from tachys.model.system import System
from tachys.worstcase.bounds import Bounds
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.fixedpoint import settle, with_all
from tachys.worstcase.flags import flag_bounds
from tachys.worstcase.laws import UnitLaw
from tachys.worstcase.load import load_bounds
from tachys.worstcase.loop import LoopWindows, step_bounds
from tachys.worstcase.paper import BoundsOnPaper
from tachys.worstcase.result import StepBounds
from tachys.worstcase.window import isr_bounds

USUAL_WINDOWS = (10**9, 10**10, 10**11)  # 1, 10 and 100 ms


def bounds(system: System, windows: Sequence[int] = USUAL_WINDOWS, *, plain: bool = False) -> Bounds:
    """The worst and best cases of everything in a system. Overload is said, never an endless search.

    The load is worked out for ``windows`` in ps, and for those that a need asks for. ``plain``: without the rules that
    follow tokens through the loop and set apart what passes by the clock, for who wants to see what these bring.
    """
    settled = settle(system, plain=plain)
    load, events = settled.load, settled.events
    isrs = {
        isr.name: isr_bounds(system, load, rank, alone=events.rings.has_one_token(isr.thing))
        for rank, isr in enumerate(system.isrs)
    }
    units = {unit.name: UnitLaw(system, unit).bounds(events) for unit in system.units}
    passes = LoopWindows(system, system.loop, load, events) if system.loop else None
    steps: dict[str, StepBounds] = {step.name: step_bounds(passes, step) for step in system.steps if passes}
    events = with_all(settled, system, isrs, steps)
    flags = {flag: flag_bounds(system, flag, passes, events, isrs) for flag in system.graph.flags}
    reach = EventBounds(system, events, isrs, units, flags, steps)
    for step in system.steps if passes else ():  # what a flag keeps apart is only known now
        steps[step.name] = replace(steps[step.name], interval=reach.interval(step))
    lengths = sorted({*windows, *_asked(system)})
    taken = load_bounds(system, load, reach, passes, lengths)
    paper = BoundsOnPaper(reach, taken)
    needs = {need.name: need.bound(paper) for need in system.needs}
    return Bounds(
        system, isrs, units, flags, passes.pass_() if passes else None, steps, taken, needs, settled.endless, reach
    )


def _asked(system: System) -> list[int]:
    return [need.window for need in system.needs if need.window is not None]
