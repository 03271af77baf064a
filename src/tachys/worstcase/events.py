"""The arrival curve of every event: of sources as written, of all others from what causes them.

What a routine, unit or step raises comes as its causes do, moved by a way whose time varies; never closer than the
least time that its producer needs. Where the way has no bound, as many more can come as wait at most when a window
begins. The time that ways vary (``Spreads``) is found by iteration in ``fixedpoint``.
"""

from __future__ import annotations

from fractions import Fraction

from tachys.model.events import Event, Thing
from tachys.model.nodes import Buffer, Isr, Step, Unit
from tachys.model.system import System
from tachys.worstcase.arrivals import (
    Batched,
    Curve,
    NoBound,
    Repeated,
    Staircase,
    Unbounded,
    delayed,
    moved,
    sporadic,
    sum_of,
    tightest,
)
from tachys.worstcase.gaps import Gaps
from tachys.worstcase.laws import law_of
from tachys.worstcase.queueing import Backlog, backlog
from tachys.worstcase.result import Spreads
from tachys.worstcase.rings import Rings


class Events:
    """The curves of all events of a system, for given delays."""

    def __init__(self, system: System, delays: Spreads, rings: Rings) -> None:
        self.system = system
        self.delays = delays
        self.rings = rings
        self._causes = system.graph.causes
        self._curves: dict[str, Curve] = {}
        self._backlogs: dict[str, Backlog] = {}

    def curve(self, event: str) -> Curve:
        """The densest way in which an event can come."""
        known = self._curves.get(event)
        if known is not None:
            return known
        asked = [Event(event)]  # causes before what they cause, without recursion: chains may be long
        while asked:
            if asked[-1] in self._curves:
                asked.pop()
                continue
            missing = [cause for cause in self._stands_on(asked[-1]) if cause not in self._curves]
            if not missing:
                self._curves[asked[-1]] = self._derive(asked[-1])
            asked += missing
        return self._curves[Event(event)]

    def _stands_on(self, event: Event) -> tuple[Event, ...]:
        """The events whose curves that of an event is made of."""
        if event in self.rings.rounds or event.thing in self.rings.tangled:
            return ()
        causes, answers = self._causes.get(event.thing, ()), self.rings.answered.get(event.thing, ())
        return tuple(cause for cause in causes if cause not in answers) if answers else causes

    def sets(self, flag: str) -> Curve | None:
        """The densest way in which a flag can be set, or items be put into a "buffer.NAME"; None if nobody does."""
        thing = Thing(flag)
        if thing.kind == "buffer":
            return self._puts(self.system.buffer(thing.name))
        setters = [self.curve(event) for event in self.system.graph.sets_of(flag)]
        return sum_of(setters) if setters else None

    def openings(self, step: Step) -> Curve:
        """The densest way in which what a step polls can open it: of each run after the first in a window a set, or one
        of each flag where it waits for all, comes behind the run before.
        """
        if step.asked_by is not None:
            return self.sets(f"buffer.{step.asked_by}") or sum_of([])
        if step.polls_all:
            return tightest([self.sets(flag) or sum_of([]) for flag in step.polls])
        return sum_of([self.curve(event) for event in self.system.graph.causes[step.thing]])

    def _puts(self, buffer: Buffer) -> Curve:
        feeds = [_repeated(self.curve(feed.event), feed.items) for feed in buffer.fed_by]
        for step, put in self.system.graph.putters.get(buffer.name, ()):
            # a run that began before a window may still put in it
            feeds.append(_repeated(moved(self.curve(step.start), extra=1), put.items.most))
        mover = self.system.graph.mover.get(buffer.name)
        if mover is not None and mover.drains is not None:
            # what was in the other as a window began, or had been taken out of it, and what came
            other, many = self.system.buffer(mover.drains.buffer), mover.drains.items.most
            ends = _repeated(self.curve(mover.end), many)
            return tightest([moved(self._puts(other), extra=other.in_at_most + many), ends])
        return sum_of(feeds)

    def requests(self, buffer: Buffer, *, idle: bool) -> Curve:
        """The densest way in which a buffer can ask its routine; ``idle``: in windows that begin while it does not ask.

        A run that was asked for by the level takes the threshold at least, or one of those that make a buffer ask each
        time after so many; one after a quiet time takes something: all that is in, if a run takes as many as make it
        ask; else it is asked for again while something is left. As a window begins, one quiet time may be over that is
        kept until a run has ended. Between two requests a run has begun and ended.
        """
        if buffer.room_in is not None:
            return self._as_there_is_room(buffer, buffer.room_in)
        puts, enough = self._puts(buffer), buffer.asks_from
        ways: list[Curve] = []
        drain = self.system.graph.drain[buffer.name]
        if enough is not None:
            held = enough - 1 if idle else buffer.depth + (buffer.asks_each or 1) - 1  # the first that is in may ask
            if isinstance(puts, Unbounded):
                return puts
            ways.append(Batched(puts, enough, held))
        if buffer.quiet is not None:
            some = moved(puts, extra=buffer.depth if enough is None else enough - 1)
            takes_all = isinstance(drain, Isr) and drain.drains is not None and drain.drains.most == buffer.depth
            over = moved(sporadic(buffer.quiet.least), extra=0 if idle else 1)
            ways.append(tightest([over, some]) if takes_all or enough is not None else some)
        again = self.system.core.least_latency + drain.shortest if isinstance(drain, Isr) else 0
        return tightest([sum_of(ways), sporadic(again)]) if again else sum_of(ways)

    def _as_there_is_room(self, buffer: Buffer, beyond: str) -> Curve:
        """Requests of a buffer that asks while there is room in another.

        Each run moves one on at least; between two requests one has ended. What has gone on is in the other buffer, or
        its unit has taken it up.
        """
        unit, isr = self.system.graph.drain[beyond], self.system.graph.drain[buffer.name]
        assert isinstance(unit, Unit)
        assert isinstance(isr, Isr)
        takes, again = unit.takes.least, self.system.core.least_latency + isr.shortest
        sent = Staircase(Fraction(takes), self.system.buffer(beyond).depth * takes, again)
        puts = self._puts(buffer)
        return sent if isinstance(puts, Unbounded) else tightest([sent, moved(puts, extra=buffer.depth)])

    def raised(self, event: Event) -> Curve:
        """The events of a line in any window."""
        return self.requests(self.system.buffer(event.name), idle=False) if event.requests else self.curve(event)

    def asks(self, event: Event) -> Curve:
        """The events of a line in windows that begin while no routine waits."""
        return self.requests(self.system.buffer(event.name), idle=True) if event.requests else self.curve(event)

    def sets_at_look(self, buffer: Buffer) -> Curve | None:
        """As :meth:`sets` of a buffer, in windows that begin as the loop looks: no routine runs or waits then."""
        puts, mover = self.sets(buffer.thing), self.system.graph.mover.get(buffer.name)
        if puts is None or mover is None or mover.drains is None:
            return puts
        return tightest([puts, self.taken(self.system.buffer(mover.drains.buffer))])

    def taken(self, buffer: Buffer) -> Curve:
        """The densest way in which a routine takes items, in windows that begin while it does not wait.

        Before a window there may be as many as do not make the buffer ask, where only that asks for it; none where each
        put starts it. What comes as a window ends may be taken by a run that ends then, and goes on.
        """
        drain, before = self.system.graph.drain[buffer.name], buffer.in_at_most
        alone = isinstance(drain, Isr) and drain.on == (buffer.event,) and buffer.room_in is None
        if alone and buffer.asks_from is not None:
            before = buffer.asks_from - 1
        return moved(self._puts(buffer), 1, 0 if buffer.name in self.system.graph.put_starts else before)

    def starts(self, unit: Unit) -> Curve:
        """Every start of a unit, the lost ones and that of a primed unit included."""
        if unit.drains is not None:
            buffer = self.system.buffer(unit.drains)
            if unit.asked_at:
                puts = self._puts(buffer)
                taken = moved(puts, extra=buffer.depth)
                if buffer.waits is not None:
                    taken = tightest([taken, moved(puts, buffer.waits)])
                return taken if unit.thing in self.rings.answered else tightest([self.looks(unit), taken])
            return self._puts(buffer)
        if unit.start in self.rings.rounds:
            return self._turning(unit.start)
        return moved(sum_of([self.curve(event) for event in unit.on]), extra=int(unit.primed))

    def looks(self, unit: Unit) -> Curve:
        """How often a unit is asked to take an item."""
        return sum_of([self.curve(event) for event in unit.asked_at])

    def backlog(self, unit: Unit) -> Backlog:
        """How many starts wait for a unit and how long, if none is lost.

        Raises:
            NoBound: nothing holds the starts apart.
        """
        if unit.name not in self._backlogs:
            self._backlogs[unit.name] = backlog(self.starts(unit), unit.takes.most)
        return self._backlogs[unit.name]

    def wait(self, unit: Unit) -> int:
        """The longest time in ps that a start waits for a unit: no more than the room that there is."""
        depth = self.system.buffer(unit.drains).depth if unit.drains is not None else unit.depth
        if not depth or unit.asked_at:
            return 0
        room = depth * unit.takes.most
        if unit.drains in self.system.graph.putters:
            return room
        if unit.thing in self.rings.turns:  # the only token of its ring is all that can wait
            return 0 if self.rings.passes_end(unit.thing) else unit.takes.most
        try:
            found = self.backlog(unit)
        except NoBound:
            return room
        return room if found.wait is None else min(room, found.wait)

    def _derive(self, event: Event) -> Curve:
        if event in self.rings.rounds:
            return self._turning(event)
        return law_of(self.system, event.thing).curve(self, event)

    def _turning(self, event: Event) -> Curve:
        """An event on a simple ring: once a round, and once more than a timer lets the token pass, where one does."""
        promises: list[Curve] = [sporadic(self.rings.rounds[event])]
        for body in self.rings.turns[event.thing]:
            more = int(event != body.start)
            promises += [moved(each, extra=more) for each in law_of(self.system, body).timed(self)]
        return tightest(promises)

    def sole_token(self, unit: Unit) -> bool:
        """Whether the only token of a ring, or an errand of the loop, starts a unit: no start of it is lost."""
        rings = self.rings
        return rings.has_one_token(unit.thing) or (unit.depth > 0 and unit.thing in rings.turns)

    def tangled(self, thing: Thing) -> bool:
        """Whether it feeds itself in a ring of which little is known."""
        return thing in self.rings.tangled

    def moved(self, event: Event, given: Curve, waiting: int, distance: int) -> Curve:
        """The events of ``given`` after their way to ``event``; ``waiting`` of them at most are on it at once.

        Both promises hold: that of the delay, and that of those that can be on their way as a window begins.
        """
        spread = self.delays.spread.get(event, 0)
        if isinstance(given, Unbounded):
            return sporadic(distance, given.reason)
        if spread is not None and given.most_within(spread - 1) <= waiting:
            return delayed(given, spread, distance)  # the delay lets no more in than can be on the way
        ways = [] if spread is None else [delayed(given, spread, distance)]
        return tightest([*ways, moved(given, extra=waiting), sporadic(distance)])

    def hardware_gaps(self) -> Gaps:
        """The gaps of what runs outside the core, before anything is known of routines and steps."""
        gaps = Gaps()
        for thing in self.system.nodes:
            law_of(self.system, thing).hardware(gaps, self)
        return gaps.settle()


def _repeated(curve: Curve, items: int) -> Curve:
    return curve if items == 1 or isinstance(curve, Unbounded) else Repeated(curve, items)
