"""Events that routines and steps raise depend on how long these take, and that on the events: iterate until it rests.

Every way begins with no variation; each round works out, with the curves so found, how much the time of every way
varies, and takes the larger. What rests is a bound (the holistic analysis of K. Tindell, J. Clark, "Holistic
schedulability analysis for distributed hard real-time systems", Microprocessing and Microprogramming 40, 1994). What
has not come to rest after ``MOST_TURNS`` rounds is called endless: its events are then only held apart by what waits
at most and by what their producer needs.
"""

from __future__ import annotations

from dataclasses import dataclass

from tachys.bounds.events import Delays, Events
from tachys.bounds.loop import LoopWindows
from tachys.bounds.result import Figure
from tachys.bounds.rings import body_of, find_rings
from tachys.bounds.window import isr_bounds
from tachys.bounds.workload import Workload, make_lines
from tachys.model.system import System

MOST_TURNS = 40


@dataclass(frozen=True, slots=True)
class Settled:
    """Curves and lines at rest. ``endless``: the events whose delay grew without end."""

    events: Events
    load: Workload
    endless: tuple[str, ...] = ()


def settle(system: System) -> Settled:
    """The curves of all events, and the lines with them."""
    rings = find_rings(system)
    asked = {event for isr in system.isrs for event in isr.on} | {event for unit in system.units for event in unit.on}
    raised = sorted(event for event in asked if event.startswith(("isr.", "step.")))
    raised = [event for event in raised if body_of(event) not in rings.rounds]
    delays, turns = Delays(), 0
    endless: list[str] = []
    while True:
        events = Events(system, delays, rings)
        load = Workload(system, make_lines(system, events.curve))
        if not raised:
            return Settled(events, load)
        grown = _grow(system, load, events, delays, raised)
        if not grown:
            return Settled(events, load, tuple(endless))
        turns += 1
        if turns > MOST_TURNS:
            for event in grown:
                delays.spread[event] = None
                if event.startswith("step."):
                    delays.late[event.split(".")[1]] = None
            endless += grown
            turns = 0


def _grow(system: System, load: Workload, events: Events, delays: Delays, raised: list[str]) -> list[str]:
    """Work out the delays anew; the events whose delay has grown."""
    grown = []
    ranks = {isr.name: rank for rank, isr in enumerate(system.isrs)}
    steps = {step.name: step for step in system.steps}
    windows = LoopWindows(system, system.loop, load, events) if system.loop else None
    for event in raised:
        kind, name, moment = event.split(".")
        if kind == "isr":
            bounds = isr_bounds(system, load, ranks[name])
            figure = bounds.latency if moment == "start" else bounds.response
            if _widen(delays.spread, event, figure):
                grown.append(event)
            continue
        assert windows is not None
        step = steps[name]
        changed = _widen(delays.spread, f"step.{name}.end", windows.duration(step)) if moment == "end" else False
        if step.every is not None:
            late = windows.late(step)
            changed |= _widen(delays.late, name, late)
        if changed:
            grown.append(event)
    return grown


def _widen(known: dict[str, int | None], name: str, figure: Figure) -> bool:
    """Take the larger of what is known and what a figure says; whether that is new."""
    now = None if figure.most is None else figure.most - figure.least
    before = known.get(name, 0)
    if before is None or (now is not None and now <= before):
        known.setdefault(name, 0)
        return False
    known[name] = now
    return True
