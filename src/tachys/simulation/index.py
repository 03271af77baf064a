"""Which number stands for what in the engine's memory and records."""

from __future__ import annotations

from msgspec import Struct

from tachys.measures import KINDS, measures_of
from tachys.model.events import Event, Thing
from tachys.model.system import System


class Index(Struct, frozen=True):
    """The names of a system by number; ``rows`` are (routine, event)."""

    sources: tuple[str, ...]
    units: tuple[str, ...]
    isrs: tuple[str, ...]
    rows: tuple[tuple[str, Event], ...]
    steps: tuple[str, ...]
    flags: tuple[str, ...]
    buffers: tuple[str, ...] = ()
    inner: tuple[Event, ...] = ()
    pins: tuple[str, ...] = ()
    counters: tuple[str, ...] = ()

    def statistics(self) -> list[str]:
        """All quantities that the engine counts, by number."""
        things = {
            "isr": self.isrs, "unit": self.units, "flag": self.flags, "buffer": self.buffers, "step": self.steps,
            "loop": ("",),
        }  # fmt: skip
        return [
            measure.name(name) for kind in KINDS for name in things[kind] for measure in measures_of(kind, played=True)
        ]

    def events(self) -> list[Event]:
        """All events, by number."""
        found = [Event(f"source.{name}") for name in self.sources]
        for kind, bodies in (("unit", self.units), ("isr", self.isrs), ("step", self.steps)):
            things = [Thing(f"{kind}.{name}") for name in bodies]
            found += [event for thing in things for event in (thing.start, thing.end)]
        found += [*(Event(f"buffer.{name}") for name in self.buffers), *self.inner]
        return [*found, *(Event(f"buffer.{name}.lost") for name in self.buffers)]


def index_of(system: System) -> Index:
    """The numbers of a system's things."""
    flags = [*system.graph.flags, *(flag for step in system.steps if step.halt for flag in step.halt.unless)]
    return Index(
        tuple(source.name for source in system.sources),
        tuple(unit.name for unit in system.units),
        tuple(isr.name for isr in system.isrs),
        tuple((isr.name, event) for isr in system.isrs for event in isr.on),
        tuple(step.name for step in system.steps),
        tuple(dict.fromkeys(flags)),
        tuple(buffer.name for buffer in system.buffers),
        tuple(event for isr in system.isrs for event in isr.inner),
        tuple(pin.name for pin in system.pins),
        tuple(counter.name for counter in system.counters),
    )
