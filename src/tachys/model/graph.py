"""What a model says causes what, found once: nodes (sources, units, routines, steps) and flags, and the links between.

An event begins the routines and units that stand ``on`` it, a body ends after it has begun, a routine that ends sets
flags, and a step that polls one begins. Bounds, engine, check and drawing walk these links, and nothing else.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from msgspec import Struct

from tachys.model.acts import Put
from tachys.model.events import Event, Thing
from tachys.model.nodes import Buffer, Isr, Source, Step, Unit

Kind = Literal["begins", "ends", "serves", "sets", "drains"]


class Link(Struct, frozen=True):
    """The event ``after`` follows ``before``.

    ``kind``: "begins" (``after`` is the start of what ``before`` starts), "serves" (``after`` is the end of it, or an
    event within it), "ends" (the same of the body whose start, or a moment of which, is ``before``), "sets" (a step
    takes ``flag``, set by ``before``), "drains" (``after`` is the start of what takes the item that ``before`` has put
    into the buffer ``flag``).
    """

    before: Event
    after: Event
    kind: Kind
    flag: str = ""


class Graph:
    """The links of a model. ``flags`` are those that are set, polled or waited for, in the order written.

    ``sets``: the flags that each event sets. ``begun_by``: what an event begins, units before routines, each in the
    order written. ``causes``: the events that make each body begin: what it stands on, the sets of the flag it
    polls, what feeds the buffer that it waits for. ``feeds``: the buffers that each event feeds, with how many
    items; ``drain``: who takes them, of those in ``until_empty`` what comes meanwhile, too; ``asked_at``: the units
    that each event asks to take one; ``putters``: the steps that put into one, and what; ``mover``: the routine that
    puts into one what it has drained of another.
    ``counted`` and ``cancels``: the units that count each event, and those that it sends to rest. ``heeded``: the
    buffers whose losses bring something about.
    """

    def __init__(
        self, sources: Sequence[Source], units: Sequence[Unit], isrs: Sequence[Isr], steps: Sequence[Step],
        set_by: Mapping[str, Sequence[Event]], buffers: Sequence[Buffer] = (),
    ) -> None:  # fmt: skip
        self.events = [source.event for source in sources]
        self.events += [event for body in (*units, *isrs, *steps) for event in (body.start, body.end)]
        self.events += [event for isr in isrs for event in isr.inner]
        self.events += [buffer.lost for buffer in buffers]
        self._inner = {isr.thing: isr.inner for isr in isrs}
        draining = (*(isr.drains for isr in isrs), *(step.drains for step in steps))
        self.until_empty = frozenset(each.buffer for each in draining if each is not None and each.until_empty)
        self._behind = {event: after for isr in isrs for event, after in isr.behind_moments.items()}
        self.begun_by: dict[Event, list[Unit | Isr]] = defaultdict(list)
        self._set_by: dict[str, list[Event]] = {flag: list(events) for flag, events in set_by.items()}
        self.pollers: dict[str, list[Step]] = defaultdict(list)
        self.waiters: dict[str, list[Step]] = defaultdict(list)
        self._steps = tuple(steps)
        self.feeds: dict[Event, list[tuple[str, int]]] = defaultdict(list)
        self.drain: dict[str, Unit | Isr | Step] = {}
        self.asked_at: dict[Event, list[Unit]] = defaultdict(list)
        self.putters: dict[str, list[tuple[Step, Put]]] = defaultdict(list)
        self._fed_by: dict[str, tuple[Event, ...]] = {}
        self.mover: dict[str, Isr] = {isr.moves_to: isr for isr in isrs if isr.moves_to is not None}
        for step in steps:
            for put in step.puts:
                self.putters[put.buffer].append((step, put))
        for buffer in buffers:
            putting = [step.start for step, _ in self.putters.get(buffer.name, ())]
            if buffer.name in self.mover:
                putting.append(self.mover[buffer.name].end)
            self._fed_by[f"buffer.{buffer.name}"] = (*(feed.event for feed in buffer.fed_by), *putting)
            for feed in buffer.fed_by:
                self.feeds[feed.event].append((buffer.name, feed.items))
        takers: list[Unit | Isr | Step] = [*units, *isrs, *steps]
        for taker in takers:
            if taker.drains is not None:
                self.drain[taker.drains if isinstance(taker.drains, str) else taker.drains.buffer] = taker
        # until nothing is in drains what each put starts: while something is in, its routine waits or runs
        self.put_starts = frozenset(
            name
            for name, taker in self.drain.items()
            if name in self.until_empty
            and name not in self.putters
            and isinstance(taker, Isr)
            and set(self._fed_by[f"buffer.{name}"]) <= set(taker.on)
        )
        bodies: list[Unit | Isr] = [*units, *isrs]
        for body in bodies:
            for event in body.on:
                self.begun_by[event].append(body)
        for isr in isrs:
            for flag in isr.nth.sets if isr.nth is not None else ():
                self._set_by.setdefault(flag, []).append(Event(f"{isr.thing}.nth"))
        setters: list[Isr | Step] = [*isrs, *steps]
        for each in setters:
            for flag in each.sets:
                self._set_by.setdefault(flag, []).append(each.end)
        for step in steps:
            for flag in step.polls:
                self.pollers[flag].append(step)
            for flag in step.flags_waited:
                self.waiters[flag].append(step)
        polled = [flag for step in steps if step.asked_by is None for flag in step.polls]
        waited = [flag for step in steps for flag in step.flags_waited]
        self.flags = tuple(dict.fromkeys([*self._set_by, *polled, *waited]))
        self.causes: dict[Thing, tuple[Event, ...]] = {body.thing: body.on for body in bodies}
        self.counted: dict[Event, list[Unit]] = defaultdict(list)
        self.cancels: dict[Event, list[Unit]] = defaultdict(list)
        for unit in units:
            if unit.counts is not None:
                self.causes[unit.thing] = (*unit.on, unit.counts.of)
                self.counted[unit.counts.of].append(unit)
                for event in unit.counts.cancelled_by:
                    self.cancels[event].append(unit)
            if unit.drains is not None:
                self.causes[unit.thing] = (*self._fed_by[f"buffer.{unit.drains}"], *unit.asked_at)
                for event in unit.asked_at:
                    self.asked_at[event].append(unit)
        for buffer in buffers:  # what is moved on came into another before
            mover = self.mover.get(buffer.name)
            before = () if mover is None or mover.drains is None else self._fed_by[f"buffer.{mover.drains.buffer}"]
            self.causes[buffer.thing] = (*self._fed_by[buffer.thing], *before)
        for step in steps:
            self.causes[step.thing] = tuple(dict.fromkeys(event for flag in step.polls for event in self.sets_of(flag)))
        self.sets: dict[Event, list[str]] = defaultdict(list)
        for flag, events in self._set_by.items():
            for event in events:
                self.sets[event].append(flag)
        heard = {*self.begun_by, *self.feeds, *self.asked_at, *self.counted, *self.cancels, *self.sets}
        self.heeded = tuple(buffer.name for buffer in buffers if buffer.lost in heard)

    def takers(self, flag: str) -> list[Step]:
        """The steps that take a flag in every pass in which they find it set."""
        return [
            step
            for step in self._steps
            if (flag in step.polls and not step.polls_all) or (flag in step.flags_waited and not step.gated)
        ]

    def rival(self, flag: str, step: Step) -> str | None:
        """The step that may take a flag before ``step`` opens on it, itself in its wait included; None: none does."""
        for each in self._steps:
            other = each.name != step.name
            if (flag in each.flags_waited and (other or flag in step.polls)) or (other and flag in each.polls):
                return each.name
        return None

    def sets_of(self, flag: str) -> tuple[Event, ...]:
        """The events that set a flag: of hardware, and the ends of routines and steps; what feeds a "buffer.NAME"."""
        return self._fed_by.get(flag) or tuple(self._set_by.get(flag, ()))

    def surely_set_by(self, flag: str) -> tuple[Event, ...]:
        """Those of :meth:`sets_of` after each of which it is set: a run that drained nothing moves nothing on."""
        mover = self.mover.get(flag.removeprefix("buffer.")) if flag.startswith("buffer.") else None
        sure = mover is None or mover.drains is None or mover.drains.items.least > 0
        return self.sets_of(flag) if sure else ()

    def is_set_by_hardware(self, flag: str) -> bool:
        """Whether a flag can be set without a routine: then also while the core is halted, which does not wake it."""
        return any(event.kind in ("source", "unit", "buffer") for event in self.sets_of(flag))

    def links(self, event: Event) -> Iterator[Link]:
        """What follows an event."""
        for body in sorted(self.begun_by.get(event, ()), key=lambda body: body.kind):  # routines before units
            yield Link(event, body.start, "begins")
            for after in (body.end, *self._inner.get(body.thing, ())):
                yield Link(event, after, "serves")
        if event.moment == "start":
            for after in (event.thing.end, *self._inner.get(event.thing, ())):
                yield Link(event, after, "ends")
        for after in self._behind.get(event, ()):
            yield Link(event, after, "ends")
        for flag in self.sets.get(event, ()):
            for step in self.pollers.get(flag, ()):
                yield Link(event, step.start, "sets", flag)
        moved = [buffer for buffer, isr in self.mover.items() if isr.end == event]
        for buffer in [*(buffer for buffer, _ in self.feeds.get(event, ())), *moved]:
            if buffer in self.drain:
                yield Link(event, self.drain[buffer].start, "drains", buffer)

    def chain(self, begins: str, ends: str) -> tuple[Link, ...] | None:
        """The way of causes from one event to another, with the fewest links; None if there is none."""
        came: dict[Event, Link | None] = {Event(begins): None}
        queue = deque(came)
        while queue:
            event = queue.popleft()
            for link in self.links(event):
                if link.after == ends:
                    return (*_back(came, event), link)
                if link.after not in came:
                    came[link.after] = link
                    queue.append(link.after)
        return None


def _back(came: dict[Event, Link | None], event: Event) -> tuple[Link, ...]:
    links = []
    link = came[event]
    while link is not None:
        links.append(link)
        link = came[link.before]
    return tuple(reversed(links))
