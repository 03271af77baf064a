"""The way from one event to another through what the model says causes what.

An answer to an event is found along the shortest way of causes: an event begins the routines and units that stand
``on`` it, a body ends after it has begun, a routine that ends sets flags, and a step that polls one begins.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from tachys.model.events import Event
from tachys.model.system import System

Kind = Literal["begins", "ends", "serves", "sets"]


@dataclass(frozen=True, slots=True)
class Link:
    """One link of a way: the event ``after`` follows ``before``.

    ``kind``: "begins" (``after`` is the start of what ``before`` starts), "serves" (``after`` is the end of it),
    "ends" (``after`` is the end of the body whose start is ``before``), "sets" (a step takes ``flag``, set by
    ``before``).
    """

    before: Event
    after: Event
    kind: Kind
    flag: str = ""


def chain_of(system: System, begins: str, ends: str) -> tuple[Link, ...] | None:
    """The way of causes from one event to another, with the fewest hops; None if there is none."""
    came: dict[Event, Link | None] = {Event(begins): None}
    queue = deque(came)
    while queue:
        event = queue.popleft()
        for hop in _hops(system, event):
            if hop.after == ends:
                return (*_back(came, event), hop)
            if hop.after not in came:
                came[hop.after] = hop
                queue.append(hop.after)
    return None


def _back(came: dict[Event, Link | None], event: Event) -> tuple[Link, ...]:
    hops = []
    hop = came[event]
    while hop is not None:
        hops.append(hop)
        hop = came[hop.before]
    return tuple(reversed(hops))


def _hops(system: System, event: Event) -> Iterator[Link]:
    for isr in system.isrs:
        if event in isr.on:
            yield Link(event, isr.start, "begins")
            yield Link(event, isr.end, "serves")
    for unit in system.units:
        if event in unit.on:
            yield Link(event, unit.start, "begins")
            yield Link(event, unit.end, "serves")
    if event.moment == "start":
        yield Link(event, event.thing.end, "ends")
    elif event.kind == "isr":
        for flag in system.isr(event.name).sets:
            for step in system.steps:
                if flag == step.polls:
                    yield Link(event, step.start, "sets", flag)
