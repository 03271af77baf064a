"""What the finished bounds say of any event: how long one can stay away, how often it comes at least, how apart."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from functools import cached_property

from msgspec import Struct, field
from msgspec.structs import replace

from tachys.figures import Figure, Part, summed
from tachys.model.events import Event, Thing
from tachys.model.nodes import Step
from tachys.model.system import System
from tachys.worstcase.arrivals import Never
from tachys.worstcase.events import Events
from tachys.worstcase.gaps import Gaps
from tachys.worstcase.laws import law_of
from tachys.worstcase.result import BufferBounds, FlagBounds, IsrBounds, StepBounds, UnitBounds


class EventBounds(Struct, frozen=True, dict=True):
    """The bounds found so far, asked by event."""

    system: System
    events: Events
    isrs: dict[str, IsrBounds]
    units: dict[str, UnitBounds]
    flags: dict[str, FlagBounds]
    steps: dict[str, StepBounds]
    buffers: dict[str, BufferBounds] = field(default_factory=dict)

    def gap(self, event: str) -> int | None:
        """The longest time in ps from any instant to the next such event; None: no such time is known."""
        return self._gaps.within.get(Event(event))

    def never(self, events: Iterable[Event]) -> bool:
        """Whether none of some events ever comes."""
        return all(isinstance(self.events.curve(event), Never) for event in events)

    @cached_property
    def later(self) -> EventBounds:
        """What holds once the start-up is over."""
        if self.system.startup is None:
            return self
        flags = {name: replace(each, reaction=each.passing or each.reaction) for name, each in self.flags.items()}
        gaps = {name: each.gap if each.again is None else each.again for name, each in self.steps.items()}
        steps = {name: replace(each, gap=gaps[name]) for name, each in self.steps.items()}
        return replace(self, flags=flags, steps=steps)

    def loses(self, thing: Thing) -> str | None:
        """Why events of a thing (source, unit, routine or flag.NAME) may be lost; None if none ever is."""
        return law_of(self.system, thing).loses(self)

    @cached_property
    def _gaps(self) -> Gaps:
        """All gaps."""
        gaps = Gaps()
        for thing in self.system.nodes:
            law_of(self.system, thing).gaps(gaps, self)
        for event in self.events.rings.rounds:
            gaps.sure(event, self._round(event).most)
        return gaps.settle()

    def _round(self, event: Event) -> Figure:
        """The time of one round of the simple ring on which an event stands."""
        least = self.events.rings.rounds[event]
        parts: list[Part] = []
        for body, moment in self.events.rings.turns[event.thing].items():
            law = law_of(self.system, body)
            own = body == event.thing
            figure = law.passes_from(self, event, moment) if own else law.passes(self, moment)
            if figure.most is None:
                return Figure(least, None, reason=figure.reason)
            parts += figure.parts
        return summed(least, parts)

    @cached_property
    def _least_rates(self) -> dict[Thing, Fraction]:
        """The fewest events per ps of each body in the long run, causes first; where rings go on, 0."""
        rates = {source.thing: law_of(self.system, source.thing).rate(self, {}) for source in self.system.sources}
        for group in self.events.rings.order:
            rates |= {body: self._rate_of(body, rates) for body in group}
        return rates

    def _rate_of(self, body: Thing, rates: dict[Thing, Fraction]) -> Fraction:
        if self.events.rings.passes_end(body):
            turn = self._round(Event(f"{body}.end")).most
            return Fraction(0) if turn is None else Fraction(1, turn)
        return law_of(self.system, body).rate(self, rates)

    def least_rate(self, event: str) -> Fraction:
        """The fewest events per ps in the long run; 0 where none is sure, or where one may be lost on the way."""
        return self._least_rates[Event(event).thing] * law_of(self.system, Event(event).thing).share(Event(event))

    def distances(self, event: str) -> tuple[int, Figure]:
        """(the least distance in ps between neighbouring events, the most as a figure)."""
        event = Event(event)
        least = self._least_distance(event)
        ways: list[tuple[Event, Figure]] = []  # back along single causes, then forth again with what each adds
        now, seen = event, {event}
        while (way := self._single_way(now)) is not None:
            cause, figure = way
            if figure.most is None:
                return least, Figure(least, None, reason=figure.reason)
            ways.append((now, figure))
            now = cause
            if now in seen:
                return least, Figure(least, None, reason="it goes round a chain that has no firm beginning")
            seen.add(now)
        most = self._first_distance(now)
        for after, figure in reversed(ways):
            law = law_of(self.system, after.thing)
            if law.begins_alone and most.most is not None:
                most = self._from_time_zero(now, most)  # its first start has no cause
            if most.most is None:
                break
            parts = [*most.parts, *figure.parts, Part("the least of the same way", after, 1, -law.least_of_way(figure))]
            most, now = summed(0, parts), after
        return least, replace(most, least=least)

    def _least_distance(self, event: Event) -> int:
        least = self.events.curve(event).least_span(2)
        law = law_of(self.system, event.thing)
        if event.kind == "step":
            least = max(least, self._step_apart(event))
        return max(least, law.apart(event)) if law.keeps_apart else least

    def _step_apart(self, event: Event) -> int:
        """How far apart a polled step begins or ends at the least, since its flag is never set sooner again than that.

        Each start takes a set of its own, of each flag where it waits for all. That of the later one comes at least the
        least distance of sets behind that of the earlier, which had waited for the longest reaction at most; and it
        waits for the least. An end follows its start after the least duration or more, the end before after the longest
        or less.
        """
        step, found = self.system.step(event.name), self.steps[event.name]
        apart = found.interval.least
        for flag in step.polls if step.polls_all or len(step.polls) == 1 else ():
            sets, reaction = self.events.sets(flag), self.flags[flag].reaction
            if sets is not None and reaction.most is not None:
                apart = max(apart, sets.least_span(2) - (reaction.most - reaction.least))
        if event.moment == "start":
            return apart
        duration = found.duration
        return 0 if duration.most is None else apart - (duration.most - duration.least)

    def interval(self, step: Step) -> Figure:
        """From start to next start of a step, now that it is known how its flag is set."""
        known = replace(self.steps[step.name].interval, least=self._least_distance(step.start))
        if not step.polls or self.events.rings.plain:
            return known
        most = self.distances(step.start)[1]
        return known if most.most is None else replace(most, least=known.least)

    def _from_time_zero(self, cause: Event, most: Figure) -> Figure:
        """The most distance, where one may lie between time zero and the first of the causes."""
        gap = self.gap(cause)
        if gap is None:
            return Figure(most.least, None, reason=f"{cause} need not come")
        assert most.most is not None
        return most if gap <= most.most else summed(0, [Part("from time zero to the first", cause, 1, gap)])

    def _single_way(self, event: Event) -> tuple[Event, Figure] | None:
        """(its only cause, how long after that it comes) of what is off all simple rings and follows one event."""
        law = law_of(self.system, event.thing)
        if not law.losing or event in self.events.rings.rounds or law.share(event) < 1:
            return None
        if self.loses(event.thing) is not None:
            return event, Figure(0, None, reason=f"{law.losing} of {event.thing} may be lost")
        causes = self.system.graph.causes[event.thing]
        return (causes[0], law.delay(self, event)) if len(causes) == 1 else None

    def _first_distance(self, event: Event) -> Figure:
        """The most distance of an event that follows no single cause."""
        if event in self.events.rings.rounds:
            return self._round(event)
        return law_of(self.system, event.thing).distance(self, event, self._least_distance(event))
