"""Chains of causes that take no time and lead back to themselves: time would stand still in them."""

from __future__ import annotations

from collections.abc import Sequence

from tachys.model.events import Event, Thing
from tachys.model.nodes import Buffer, Core, Isr, Unit


def timeless_ring(
    core: Core, units: Sequence[Unit], isrs: Sequence[Isr], buffers: Sequence[Buffer] = ()
) -> list[Thing]:
    """The bodies of a ring of causes that can take no time at all, in order; none if there is no such ring.

    A unit begins at the instant of its cause; a routine may, where neither an entry nor a chain takes time, and may end
    at once where its body may cost nothing. The end of a unit always takes time, and so does a pass of the loop, in
    which a step runs once at most.
    """
    follow: dict[Event, list[Event]] = {}
    for unit in units:
        for event in (*unit.on, *unit.asked_at):
            follow.setdefault(event, []).append(unit.start)
        if unit.counts is not None:
            follow.setdefault(unit.counts.of, []).append(unit.end)
            if unit.counts.repeats:
                follow.setdefault(unit.end, []).append(unit.start)
    for buffer in buffers:
        takers = [unit.start for unit in units if unit.drains == buffer.name and not unit.asked_at]
        moved = [isr.end for isr in isrs if isr.moves_to == buffer.name]
        for event in [*(feed.event for feed in buffer.fed_by), *moved]:
            follow.setdefault(event, []).extend([buffer.event, buffer.lost, *takers])
    for isr in isrs:
        start, end = isr.start, isr.end
        if min(core.entry.least, core.chain.least) == 0:
            for event in isr.on:
                follow.setdefault(event, []).append(start)
        if isr.cost.least == 0:
            follow.setdefault(start, []).append(end)
        soon = {f"{isr.thing}.{name}" for name, at in isr.moments if at.least == 0}
        if isr.nth is not None and isr.cost_first.least + isr.nth.cost.least == 0:
            soon.add(f"{isr.thing}.nth")
        follow.setdefault(start, []).extend(event for event in isr.inner if event in soon)
    causes: dict[Event, int] = dict.fromkeys(follow, 0)
    for events in follow.values():
        for event in events:
            causes[event] = causes.get(event, 0) + 1
    free = [event for event, count in causes.items() if not count]
    while free:  # what stands on no ring falls away, causes first
        for event in follow.pop(free.pop(), ()):
            causes[event] -= 1
            if not causes[event]:
                free.append(event)
    return _ring(follow, [event for event, count in causes.items() if count])


def _ring(follow: dict[Event, list[Event]], left: list[Event]) -> list[Thing]:
    """A ring among the events that are ``left``: each of them has a cause among them."""
    if not left:
        return []
    cause = {after: event for event in left for after in follow.get(event, ())}
    event, seen = left[0], []
    while event not in seen:
        seen.append(event)
        event = cause[event]
    ring = seen[seen.index(event) :][::-1]
    return list(dict.fromkeys(event.thing for event in ring))
