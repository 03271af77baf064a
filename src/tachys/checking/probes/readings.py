"""What the lines of a capture show of a system, by what the model speaks of."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from msgspec import Struct, field

from tachys.capture.table import Instants, Signal
from tachys.checking.probes.lines import Bodies, LineReading
from tachys.model.events import Event, Thing
from tachys.model.nodes import Meter
from tachys.model.system import System


def things_of(system: System) -> list[Thing]:
    """Everything that could be seen: sources, units, routines, steps."""
    return [each.thing for each in (*system.sources, *system.units, *system.isrs, *system.steps)]


class Readings(Struct):
    """All that a capture shows of a system.

    ``instants`` by event name, ``bodies`` by thing; ``through`` says by which signals. ``shared`` are bodies of
    routines that share a line. ``unseen`` things have no line, ``silent`` ones a line that never moves, ``foreign``
    signals move and belong to nothing. ``current``: that of the supply, and what measures it. ``pins``: outputs of the
    board; things and events in ``from_pins`` are shown by these alone. ``edges``: the signals of which edges are
    events; ``coarse``: things whose lines are sampled too slowly, and so left out.
    """

    instants: dict[Event, Instants] = field(default_factory=dict)
    bodies: dict[Thing, Bodies] = field(default_factory=dict)
    shared: list[tuple[tuple[Thing, ...], Bodies]] = field(default_factory=list)
    through: dict[Thing, list[str]] = field(default_factory=dict)
    idle: Bodies | None = None
    current: tuple[Signal, Meter] | None = None
    pins: dict[str, LineReading] = field(default_factory=dict)
    from_pins: set[str] = field(default_factory=set)
    edges: dict[str, LineReading] = field(default_factory=dict)
    foreign: dict[str, Bodies] = field(default_factory=dict)
    coarse: list[Thing] = field(default_factory=list)
    unseen: tuple[Thing, ...] = ()
    silent: tuple[Thing, ...] = ()
    remarks: list[str] = field(default_factory=list)

    def all_of(self, events: Iterable[Event]) -> Instants | None:
        """The instants of all these events in order; None where one of them has no line."""
        found = [self.instants.get(event) for event in events]
        known = [each for each in found if each is not None]
        return np.sort(np.concatenate([np.zeros(0, np.int64), *known])) if len(known) == len(found) else None

    def by_pins_alone(self, event: Event) -> bool:
        """Whether nothing but a pin shows an event, or all of its thing."""
        return event in self.from_pins or event.thing in self.from_pins

    def note_unseen(self, system: System) -> None:
        """Say what has no line, and what has one that never moves."""
        seen = {event.thing for event in self.instants} | {name for group, _ in self.shared for name in group}
        moves = {event.thing for event, at in self.instants.items() if len(at)}
        moves |= {name for group, bodies in self.shared if len(bodies.start) for name in group}
        self.unseen = tuple(thing for thing in things_of(system) if thing not in seen)
        self.silent = tuple(thing for thing in things_of(system) if thing in seen - moves)
