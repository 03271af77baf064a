"""Events that routines and steps raise depend on how long these take, and that on the events: iterate until it rests.

Every way begins with no variation; each round works out, with the curves so found, how much the time of every way
varies, and takes the larger. What rests is a bound (the holistic analysis of K. Tindell, J. Clark, "Holistic
schedulability analysis for distributed hard real-time systems", Microprocessing and Microprogramming 40, 1994). What
has not come to rest after ``MOST_TURNS`` rounds is called endless: its events are then only held apart by what waits
at most and by what their producer needs.
"""

from __future__ import annotations

from msgspec import Struct

from tachys.figures import Figure
from tachys.model.events import Event
from tachys.model.system import System
from tachys.worstcase.events import Events
from tachys.worstcase.loop import LoopWindows
from tachys.worstcase.result import IsrBounds, Spreads, StepBounds
from tachys.worstcase.rings import find_rings
from tachys.worstcase.window import isr_bounds
from tachys.worstcase.workload import Workload, make_lines, make_stolen

MOST_TURNS = 40
MOST_WORK = 40_000  # countings of all lines, in all rounds: a load so near to 100 % does not come to rest in reach


class Settled(Struct, frozen=True):
    """Curves and lines at rest. ``endless``: the events whose delay grew without end."""

    events: Events
    load: Workload
    endless: tuple[Event, ...] = ()


def settle(system: System, *, plain: bool = False) -> Settled:
    """The curves of all events, and the lines with them."""
    rings = find_rings(system, plain=plain)
    asked = set(system.graph.begun_by)
    if any(event.kind == "step" for event in asked):  # a polled step comes as its flag is set
        asked |= set(system.graph.sets)
    asked |= set(system.graph.counted)
    asked |= set(system.graph.feeds) | set(system.graph.asked_at) | {step.start for step in system.steps if step.puts}
    asked |= {isr.end for isr in system.graph.mover.values()}
    asked = {event.thing.end if event.moment == "nth" else event for event in asked}
    raised = sorted(event for event in asked if event.kind in ("isr", "step"))
    raised = [event for event in raised if event not in rings.rounds]
    delays, turns, work = Spreads(reacts=dict.fromkeys(_reacting(system, raised), 0)), 0, 0
    endless: list[Event] = []
    while True:
        events = Events(system, delays, rings)
        load = Workload(system, make_lines(system, events.asks, events.taken), make_stolen(system, events.curve))
        if not raised:
            return Settled(events, load)
        grown = _grow(system, load, events, delays, raised)
        if not grown:
            return Settled(events, load, tuple(endless))
        turns += 1
        work += load.rounds
        if turns > MOST_TURNS or work > MOST_WORK:
            doomed = [event for event in grown if event.kind == "step"] or grown  # routines may rest without them
            for event in doomed:
                delays.spread[event] = None
                if event.kind == "step":
                    delays.late[event.name] = None
                    delays.reacts.pop(event.name, None)
            endless += doomed
            turns = work = 0


def _reacting(system: System, raised: list[Event]) -> list[str]:
    """The steps among those that raise something that alone take one flag, which is all that they wait for."""
    known = {event.name for event in raised if event.kind == "step"}
    return [
        step.name
        for step in system.steps
        if step.name in known and len(step.polls) == 1 and step.asked_by is None and step.every is None
        and system.graph.rival(step.polls[0], step) is None and system.graph.sets_of(step.polls[0])
    ]  # fmt: skip


def _grow(system: System, load: Workload, events: Events, delays: Spreads, raised: list[Event]) -> list[Event]:
    """Work out the delays anew; the events whose delay has grown."""
    grown = []
    ranks = {isr.name: rank for rank, isr in enumerate(system.isrs)}
    steps = {step.name: step for step in system.steps}
    windows = LoopWindows(system, system.loop, load, events) if system.loop else None
    for event in raised:
        if event.kind == "isr":
            bounds = isr_bounds(system, load, ranks[event.name])
            figure = bounds.until(event.moment)
            if _widen(delays.spread, event, figure):
                grown.append(event)
            continue
        assert windows is not None
        step = steps[event.name]
        changed = _widen(delays.spread, event, windows.duration(step)) if event.moment == "end" else False
        if step.every is not None:
            late = windows.late(step)
            changed |= _widen(delays.late, step.name, late)
        if delays.reacts.get(step.name) is not None:
            changed |= _widen(delays.reacts, step.name, windows.reaction(step, step.polls[0], 0))
        if changed:
            grown.append(event)
    return grown


def with_all(settled: Settled, system: System, isrs: dict[str, IsrBounds], steps: dict[str, StepBounds]) -> Events:
    """The curves of every event, those that nothing stands on included, now that all figures are known."""
    known = settled.events.delays
    delays = Spreads(dict(known.spread), dict(known.late), dict(known.reacts))
    for name, isr in isrs.items():
        for moment in ("start", "end", *isr.inner):
            delays.spread.setdefault(f"isr.{name}.{moment}", _spread(isr.until(moment)))
    for name, step in steps.items():
        delays.spread.setdefault(f"step.{name}.end", _spread(step.duration))
        if step.late is not None:
            delays.late.setdefault(name, _spread(step.late))
    return Events(system, delays, settled.events.rings)


def _spread(figure: Figure) -> int | None:
    """How much a time varies."""
    return None if figure.most is None else figure.most - figure.least


def _widen(known: dict[str, int | None], name: str, figure: Figure) -> bool:
    """Take the larger of what is known and what a figure says; whether that is new."""
    now = _spread(figure)
    before = known.get(name, 0)
    if before is None or (now is not None and now <= before):
        known.setdefault(name, 0)
        return False
    known[name] = now
    return True
