"""The arrival curve of every event: of sources as written, of all others from what causes them.

What a routine, unit or step raises comes as its causes do, moved by a way whose time varies; never closer than the
least time that its producer needs. Where the way has no bound, as many more can come as wait at most when a window
begins. The time that ways vary (``Spreads``) is found by iteration in ``fixedpoint``.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from tachys.model.events import Event
from tachys.model.nodes import Isr, Step, Unit
from tachys.model.system import System
from tachys.worstcase.arrivals import (
    Curve,
    NoBound,
    Staircase,
    Unbounded,
    delayed,
    moved,
    source_curve,
    sporadic,
    sum_of,
    tightest,
)
from tachys.worstcase.queueing import Backlog, backlog
from tachys.worstcase.rings import Rings, find_rings, least_distance


@dataclass(slots=True)
class Spreads:
    """How much the time from cause to an event varies, in ps, by event; None: without bound."""

    spread: dict[str, int | None] = field(default_factory=dict)
    late: dict[str, int | None] = field(default_factory=dict)


class Events:
    """The curves of all events of a system, for given delays."""

    def __init__(self, system: System, delays: Spreads, rings: Rings | None = None) -> None:
        self.system = system
        self.delays = delays
        self.rings = rings or find_rings(system)
        self._causes = system.graph.causes
        self._curves: dict[Event, Curve] = {s.event: source_curve(s) for s in system.sources}
        self._backlogs: dict[str, Backlog] = {}

    def curve(self, event: str) -> Curve:
        """The densest way in which an event can come."""
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
        if event in self.rings.rounds or event.thing in self.rings.tangled or event.kind == "source":
            return ()
        return self._causes[event.thing]

    def sets(self, flag: str) -> Curve | None:
        """The densest way in which a flag can be set; None if nobody sets it."""
        setters = [self.curve(event) for event in self.system.graph.ends_of_setters(flag)]
        return sum_of(setters) if setters else None

    def starts(self, unit: Unit) -> Curve:
        """Every start of a unit, the lost ones and that of a primed unit included."""
        if unit.start in self.rings.rounds:
            return sporadic(self.rings.rounds[unit.start])
        return moved(sum_of([self.curve(event) for event in unit.on]), extra=int(unit.primed))

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
        if not unit.depth:
            return 0
        room = unit.depth * unit.takes.most
        if unit.thing in self.rings.turns:  # the only token of its ring is all that can wait
            return 0 if self.rings.passes_end(unit.thing) else unit.takes.most
        try:
            found = self.backlog(unit)
        except NoBound:
            return room
        return room if found.wait is None else min(room, found.wait)

    def _derive(self, event: Event) -> Curve:
        if event in self.rings.rounds:
            return sporadic(self.rings.rounds[event])
        if event.kind == "unit":
            return self._unit(self.system.unit(event.name), event)
        if event.kind == "isr":
            return self._isr(self.system.isr(event.name), event)
        return self._step(self.system.step(event.name), event)

    def _unit(self, unit: Unit, event: Event) -> Curve:
        takes = unit.takes
        if unit.thing in self.rings.tangled:
            return sporadic(takes.least) if event.moment == "end" or unit.busy != "restart" else Unbounded(
                f"unit.{unit.name} restarts itself round a chain"
            )  # fmt: skip
        starts, wait = self.starts(unit), self.wait(unit)
        if event.moment == "end":
            return delayed(starts, wait + takes.most - takes.least, takes.least)
        return starts if unit.busy == "restart" else delayed(starts, wait, takes.least)

    def _isr(self, isr: Isr, event: Event) -> Curve:
        distance = least_distance(self.system, isr)
        body = isr.thing
        if body in self.rings.tangled:
            return sporadic(distance, f"isr.{isr.name} feeds itself round a chain that takes no time")
        given = sum_of([self.curve(event) for event in isr.on])
        # beside those that wait, one may have been accepted and not yet begun, or begun and not yet ended
        return self._moved(event, given, isr.pending * len(isr.on) + 1, distance)

    def _moved(self, event: Event, given: Curve, waiting: int, distance: int) -> Curve:
        """The events of ``given`` after their way; ``waiting`` of them at most are on it at once.

        Both promises hold: that of the delay, and that of those that can be on their way as a window begins.
        """
        spread = self.delays.spread.get(event, 0)
        if isinstance(given, Unbounded):
            return sporadic(distance, given.reason)
        if spread is not None and given.most_within(spread - 1) <= waiting:
            return delayed(given, spread, distance)  # the delay lets no more in than can be on the way
        ways = [] if spread is None else [delayed(given, spread, distance)]
        return tightest([*ways, moved(given, extra=waiting), sporadic(distance)])

    def _step(self, step: Step, event: Event) -> Curve:
        round_least = least_round(self.system, step)
        body = step.thing
        curves = [sporadic(round_least)]
        if step.every is not None:
            curves += self._timed(step)
        if step.polls is not None and body not in self.rings.tangled:
            curves.append(moved(self.sets(step.polls) or sum_of([]), extra=1))
        starts = tightest(curves)
        return starts if event.moment == "start" else self._moved(event, starts, 1, round_least)

    def _timed(self, step: Step) -> list[Curve]:
        assert step.every is not None
        period = step.every.least
        if step.rearm == "now":
            return [Staircase(period, distance=int(period))]
        if step.rearm == "skip":
            return [moved(Staircase(period), extra=1)]
        late = self.delays.late.get(step.name, 0)
        return [] if late is None else [Staircase(period, late)]


def own_least(step: Step) -> int:
    """The least time in ps from a step's start to its end."""
    least = 0
    for act in reversed(step.acts):
        least += act.takes.least
        if act.gives_up is not None:
            least = min(least, act.gives_up.least)
    return least


def least_round(system: System, step: Step | None = None) -> int:
    """The least time in ps of a pass; of one in which ``step`` runs, if it is given."""
    if system.loop is None:
        return 0
    gated = [each for each in system.steps if each is step or (each.polls is None and each.every is None)]
    return system.loop.overhead.least + sum(own_least(each) for each in gated)
