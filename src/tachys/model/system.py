"""What a model means once it is read: frozen and complete."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from functools import cached_property
from typing import TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from tachys.errors import Place, Remark
from tachys.model.accepting import Accepted
from tachys.model.events import Event, Thing
from tachys.model.graph import Graph
from tachys.model.names import ticks_of
from tachys.model.nodes import (
    Amperes,
    Apart,
    Battery,
    Buffer,
    Clock,
    Core,
    Isr,
    Loop,
    Pin,
    Probe,
    ReadCounter,
    Source,
    Step,
    Unit,
)
from tachys.model.quantities import ZERO, Range
from tachys.needs.kinds import Need

Kind = TypeVar("Kind", Source, Unit, Isr, Step, Buffer)


class System(Struct, frozen=True, dict=True):
    """A whole model. ``isrs`` stand in the order in which the core prefers them, most urgent first.

    ``set_by``: the flags that hardware sets, with the events at which it does. ``laid_over`` are the names of the
    changes that the model was read with; ``measured`` the single costs (ps) of a routine or step that a build came
    with.
    """

    title: str
    core: Core
    clocks: tuple[Clock, ...]
    sources: tuple[Source, ...]
    units: tuple[Unit, ...]
    isrs: tuple[Isr, ...]
    loop: Loop | None
    needs: tuple[Need, ...]
    probes: tuple[Probe, ...]
    set_by: dict[str, tuple[Event, ...]] = field(default_factory=dict)
    buffers: tuple[Buffer, ...] = ()
    pins: tuple[Pin, ...] = ()
    counters: tuple[ReadCounter, ...] = ()
    aparts: tuple[Apart, ...] = ()
    mark: Range = ZERO  # what a mark takes, in ps: each routine and step has two in its cost
    capture_tolerance: Fraction = Fraction(0)
    capture_step: int | None = None
    accepted: Accepted = field(default_factory=Accepted)
    measured: dict[str, tuple[int, ...]] = field(default_factory=dict)
    currents: dict[str, Amperes] = field(default_factory=dict)
    battery: Battery | None = None
    remarks: tuple[Remark, ...] = ()
    laid_over: tuple[str, ...] = ()
    places: dict[str, Place] = field(default_factory=dict)

    def __repr__(self) -> str:
        counts = ((len(self.sources), "sources"), (len(self.units), "units"), (len(self.isrs), "routines"))
        parts = ", ".join(f"{count} {what}" for count, what in (*counts, (len(self.steps), "steps")))
        return f"<System {self.title or 'without a title'}: {parts}>"

    @cached_property
    def sleepers(self) -> frozenset[Thing]:
        """The steps in which the core sleeps."""
        return frozenset(step.thing for step in self.steps if step.halt is not None)

    @cached_property
    def waking(self) -> int:
        """The longest time in ps from what wakes the core to when it takes interrupts."""
        return max((step.halt.late for step in self.steps if step.halt is not None), default=0)

    @cached_property
    def ticking(self) -> frozenset[str]:
        """What counts the ticks of steps, which the model has no tables for: its names."""
        return frozenset(ticks_of(step.name) for step in self.steps)

    @property
    def on_top(self) -> dict[Thing, Amperes]:
        """What takes a supply current of its own: units at work, pins while they are high."""
        taking: list[Unit | Pin] = [*self.units, *self.pins]
        return {each.thing: each.current for each in taking if any(each.current)}

    @cached_property
    def startup(self) -> Step | None:
        """What the loop does once, before its first pass."""
        return next((step for step in self.steps if step.once), None)

    def pin(self, name: str) -> Pin:
        """The pin of that name; KeyError if there is none."""
        return {pin.name: pin for pin in self.pins}[name]

    def source(self, name: str) -> Source:
        """The source of that name; KeyError if there is none."""
        return self._node(Source, name)

    def unit(self, name: str) -> Unit:
        """The unit of that name; KeyError if there is none."""
        return self._node(Unit, name)

    def isr(self, name: str) -> Isr:
        """The routine of that name; KeyError if there is none."""
        return self._node(Isr, name)

    def step(self, name: str) -> Step:
        """The step of that name; KeyError if there is none."""
        return self._node(Step, name)

    def buffer(self, name: str) -> Buffer:
        """The buffer of that name; KeyError if there is none."""
        return self._node(Buffer, name)

    def sent_by(self, buffer: Buffer) -> Unit:
        """The unit that works off what is put into a buffer by itself, a routine that waits for room between or not.

        Raises:
            KeyError: there is none.
        """
        drain = self.graph.drain[buffer.room_in or buffer.name]
        if not isinstance(drain, Unit):
            raise KeyError(buffer.name)
        return drain

    def _node(self, kind: type[Kind], name: str) -> Kind:
        node = self.nodes[Thing(f"{kind.kind}.{name}")]
        if not isinstance(node, kind):
            raise KeyError(name)
        return node

    @cached_property
    def nodes(self) -> dict[Thing, Source | Unit | Isr | Step | Buffer]:
        """Everything that has events, by its word: sources, units, routines, steps, buffers."""
        found: list[Source | Unit | Isr | Step | Buffer] = [*self.sources, *self.units, *self.isrs, *self.steps]
        found += self.buffers
        return {node.thing: node for node in found}

    @cached_property
    def graph(self) -> Graph:
        """What causes what."""
        return Graph(self.sources, self.units, self.isrs, self.steps, self.set_by, self.buffers)

    @cached_property
    def written(self) -> dict[Thing, tuple[int, int]]:
        """Of what a pin shows: how long after its first and before its last instruction that is written, in ps."""
        return {probe.body: (probe.after, probe.before_end) for probe in self.probes if probe.body}

    def ranked(self, isrs: Iterable[Isr]) -> System:
        """The same with these routines in its place, ranked by level and order, and else as they are given."""
        ordered = sorted(isrs, key=lambda isr: (isr.urgency, isr.order))
        return replace(self, isrs=tuple(replace(isr, rank=rank) for rank, isr in enumerate(ordered)))

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps of the loop in running order; none where there is no loop."""
        return self.loop.steps if self.loop else ()
