"""All bounds of a system, and what they prove of its needs."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from tachys.figures import Figure
from tachys.model.nodes import Unit
from tachys.model.system import System
from tachys.worstcase.bounds import Bounds
from tachys.worstcase.buffers import BuffersOnPaper
from tachys.worstcase.counters import counter_bounds
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.events import Events
from tachys.worstcase.fixedpoint import settle, with_all
from tachys.worstcase.flags import flag_bounds, with_meeting
from tachys.worstcase.laws import CountLaw, UnitLaw, law_of
from tachys.worstcase.load import load_bounds
from tachys.worstcase.loop import LoopWindows, step_bounds
from tachys.worstcase.narrowing import depth_needed, narrowed
from tachys.worstcase.paper import BoundsOnPaper
from tachys.worstcase.result import FlagBounds, StepBounds, UnitBounds
from tachys.worstcase.window import isr_bounds

USUAL_WINDOWS = (10**9, 10**10, 10**11)  # 1, 10 and 100 ms


def bounds(system: System, windows: Sequence[int] = USUAL_WINDOWS, *, plain: bool = False) -> Bounds:
    """The worst and best cases of everything in a system. Overload is said, never an endless search.

    The load is worked out for ``windows`` in ps, and for those that a need asks for. ``plain``: without the rules that
    follow tokens through the loop and set apart what passes by the clock, for who wants to see what these bring.
    """
    known = narrowed(system, lambda tried: _reach(tried, plain=plain))
    tight, settled = known.system, known.settled
    buffers = {buffer.name: known.bounds(buffer) for buffer in tight.buffers}
    reach, passes, steps = known.reach, known.windows, dict(known.reach.steps)
    asked = {name: found for name, found in buffers.items() if f"buffer.{name}" in reach.flags}
    asking = {
        f"buffer.{name}": FlagBounds(f"buffer.{name}", found.reaction, found.lost, found.reason)
        for name, found in asked.items()
    }
    counted = {
        unit.name: law.finished(reach) for unit in tight.units if isinstance(law := law_of(tight, unit.thing), CountLaw)
    }
    alone = {
        found[0].name: replace(reach.isrs[found[0].name], lost=False, lost_reason="", pending_needed=1)
        for unit in tight.units
        if (found := known.round_alone(unit)) is not None
    }
    reach = replace(reach, units=reach.units | counted, isrs=reach.isrs | alone)
    starved = {unit.name: known.starved(unit) for unit in tight.units if unit.asked_at}
    reach = replace(reach, buffers=buffers, steps=steps, flags=reach.flags | asking, units=reach.units | starved)
    for step in tight.steps if passes else ():  # what a flag keeps apart is only known now
        if step.once:
            continue
        steps[step.name] = replace(steps[step.name], interval=reach.interval(step))
    lengths = sorted({*windows, *_asked(system)})
    taken = load_bounds(tight, settled.load, reach, passes, lengths)
    paper = BoundsOnPaper(reach, taken)
    needs = {need.name: need.bound(paper) for need in system.needs}
    flags = {flag: reach.flags[flag] for flag in system.graph.flags}
    whole = passes.pass_() if passes else None
    counters = {each.name: counter_bounds(reach, each) for each in system.counters}
    return Bounds(system, reach.isrs, reach.units, flags, whole, steps, taken, needs, settled.endless, reach, buffers,
                  counters)  # fmt: skip


def _reach(system: System, *, plain: bool) -> BuffersOnPaper:
    """The bounds of all that is no buffer."""
    settled = settle(system, plain=plain)
    load, events = settled.load, settled.events
    isrs = {
        isr.name: isr_bounds(system, load, rank, alone=events.rings.has_one_token(isr.thing))
        for rank, isr in enumerate(system.isrs)
    }
    units = {unit.name: _unit_bounds(system, unit, events) for unit in system.units}
    passes = LoopWindows(system, system.loop, load, events) if system.loop else None
    steps: dict[str, StepBounds] = {step.name: step_bounds(passes, step) for step in system.steps if passes}
    events = with_all(settled, system, isrs, steps)
    flags = {flag: flag_bounds(system, flag, passes, events, isrs) for flag in system.graph.flags}
    for step in system.steps:
        if step.asked_by is not None:  # not known before that of its buffer
            asked, why = f"buffer.{step.asked_by}", f"nothing is known yet of buffer.{step.asked_by}"
            flags[asked] = FlagBounds(asked, Figure(0, None, reason=why), True, why)
    reach = EventBounds(system, events, isrs, units, flags, steps)
    for step in system.steps:
        if passes is not None and step.polls_all:
            reach = with_meeting(reach, passes, step)
    return BuffersOnPaper(system, settled, reach, passes)


def depth_for(found: Bounds, name: str) -> int | None:
    """The depth from which on a buffer loses nothing on paper; None: none that is found soon."""

    def level(tried: System) -> int | None:
        known = narrowed(tried, lambda each: _reach(each, plain=False))
        return known.bounds(known.system.buffer(name)).level

    return depth_needed(found.system, name, found.buffers[name].level, level)


def _unit_bounds(system: System, unit: Unit, events: Events) -> UnitBounds:
    law = law_of(system, unit.thing)
    assert isinstance(law, UnitLaw)
    return law.bounds(events)


def _asked(system: System) -> list[int]:
    return [need.window for need in system.needs if need.window is not None]
