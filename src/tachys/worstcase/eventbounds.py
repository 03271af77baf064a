"""What the finished bounds say of any event: how long one can stay away, how often it comes at least, how apart."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property
from math import ceil

from tachys.figures import Figure, Part, summed
from tachys.model.events import Event, Thing
from tachys.model.system import System
from tachys.worstcase.events import Events, least_round
from tachys.worstcase.flags import rival
from tachys.worstcase.gaps import Gaps, source_gap
from tachys.worstcase.result import FlagBounds, IsrBounds, StepBounds, UnitBounds
from tachys.worstcase.rings import least_distance


@dataclass(frozen=True)
class EventBounds:
    """The bounds found so far, asked by event."""

    system: System
    events: Events
    isrs: dict[str, IsrBounds]
    units: dict[str, UnitBounds]
    flags: dict[str, FlagBounds]
    steps: dict[str, StepBounds]

    def gap(self, event: str) -> int | None:
        """The longest time in ps from any instant to the next such event; None: no such time is known."""
        return self._gaps.within.get(Event(event))

    @cached_property
    def _gaps(self) -> Gaps:
        """All gaps.

        A routine whose event is lost runs nevertheless, for one that came before: it ends within its response.
        """
        gaps = Gaps()
        for source in self.system.sources:
            gaps.sure(source.event, source_gap(source))
        for unit in self.system.units:
            gaps.unit(unit, self.events.wait(unit) + unit.takes.most, lost=self.units[unit.name].lost)
        for isr in self.system.isrs:
            found = self.isrs[isr.name]
            gaps.after(isr.start, isr.on, found.latency.most)
            gaps.after(isr.end, isr.on, found.response.most)
        for event in self.events.rings.rounds:
            gaps.sure(event, self._round(event).most)
        for step in self.system.steps:
            bounds, start = self.steps[step.name], step.start
            gaps.sure(start, bounds.gap)
            if step.polls is not None and rival(self.system, step.polls, step) is None:
                gaps.after(start, self.system.graph.ends_of_setters(step.polls), self.flags[step.polls].reaction.most)
            gaps.after(step.end, (start,), bounds.duration.most)
        return gaps.settle()

    def _round(self, event: Event) -> Figure:
        """The time of one round of the simple ring on which an event stands."""
        least = self.events.rings.rounds[event]
        parts: list[Part] = []
        for body, moment in self.events.rings.turns[event.thing].items():
            way = self._pass_unit if body.kind == "unit" else self._pass_isr
            figure = way(body.name, moment)
            if figure.most is None:
                return Figure(least, None, reason=figure.reason)
            parts += figure.parts
        return summed(least, parts)

    def _pass_unit(self, name: str, moment: str) -> Figure:
        """How long the token of a ring takes through a unit: its operation, or the wait for the one before."""
        unit, found = self.system.unit(name), self.units[name]
        if moment == "end":
            return summed(unit.takes.least, [Part("operation", f"unit.{name}", 1, unit.takes.most)])
        if unit.busy == "drop" and found.lost:
            return Figure(0, None, reason=f"a start of unit.{name} may be lost")
        wait = unit.takes.most if unit.busy == "queue" else 0
        return summed(0, [Part("the operation before it", f"unit.{name}", 1, wait)])

    def _pass_isr(self, name: str, moment: str) -> Figure:
        found = self.isrs[name]
        if found.lost:
            return Figure(0, None, reason=f"an activation of isr.{name} may be lost")
        return found.latency if moment == "start" else found.response

    @cached_property
    def _least_rates(self) -> dict[Thing, Fraction]:
        """The fewest events per ps of each body in the long run, causes first; where rings go on, 0."""
        rates: dict[Thing, Fraction] = {}
        for source in self.system.sources:
            rates[source.thing] = Fraction(0) if source.period_most is None else 1 / source.period_most
        for group in self.events.rings.order:
            found = {body: self._rate_of(body, rates) for body in group}
            rates |= found
        return rates

    def _rate_of(self, body: Thing, rates: dict[Thing, Fraction]) -> Fraction:
        kind, name = body.kind, body.name
        if kind == "step":
            step, bounds = self.system.step(name), self.steps[name]
            if step.polls is not None or bounds.interval.most is None:
                return Fraction(0)
            if step.every is not None and step.rearm == "grid":
                return 1 / step.every.most
            return Fraction(1, bounds.interval.most)
        if self.events.rings.passes_end(body):
            turn = self._round(body.start).most
            return Fraction(0) if turn is None else Fraction(1, turn)
        lost = self.isrs[name].lost or self.system.isr(name).serves_all if kind == "isr" else self.units[name].lost
        on = self.system.isr(name).on if kind == "isr" else self.system.unit(name).on
        return Fraction(0) if lost else sum((rates.get(cause.thing, Fraction(0)) for cause in on), Fraction(0))

    def least_rate(self, event: str) -> Fraction:
        """The fewest events per ps in the long run; 0 where none is sure, or where one may be lost on the way."""
        return self._least_rates[Event(event).thing]

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
            if after.kind == "unit" and self.system.unit(after.name).primed and most.most is not None:
                most = self._from_time_zero(now, most)  # its first start has no cause
            if most.most is None:
                break
            least_way = 0 if after.kind == "isr" and self.system.isr(after.name).serves_all else figure.least
            parts = [*most.parts, *figure.parts, Part("the least of the same way", after, 1, -least_way)]
            most, now = summed(0, parts), after
        return least, replace(most, least=least)

    def _least_distance(self, event: Event) -> int:
        least = self.events.curve(event).least_span(2)
        if event.kind == "isr":
            return max(least, least_distance(self.system, self.system.isr(event.name)))
        return max(least, least_round(self.system, self.system.step(event.name))) if event.kind == "step" else least

    def _from_time_zero(self, cause: Event, most: Figure) -> Figure:
        """The most distance, where one may lie between time zero and the first of the causes."""
        gap = self.gap(cause)
        if gap is None:
            return Figure(most.least, None, reason=f"{cause} need not come")
        assert most.most is not None
        return most if gap <= most.most else summed(0, [Part("from time zero to the first", cause, 1, gap)])

    def _single_way(self, event: Event) -> tuple[Event, Figure] | None:
        """(its only cause, how long after that it comes) of a routine or unit that is off all simple rings."""
        kind, name = event.kind, event.name
        if kind not in ("isr", "unit") or event in self.events.rings.rounds:
            return None
        body = self.system.isr(name) if kind == "isr" else self.system.unit(name)
        found = self.isrs[name] if kind == "isr" else self.units[name]
        if found.lost:
            what = "an activation" if kind == "isr" else "a start"
            return event, Figure(0, None, reason=f"{what} of {kind}.{name} may be lost")
        if len(body.on) != 1:
            return None
        if isinstance(found, IsrBounds):
            return body.on[0], found.latency if event.moment == "start" else found.response
        if event.moment == "end":
            return body.on[0], found.time
        wait = self.events.wait(self.system.unit(name))
        return body.on[0], summed(0, [Part("starts that wait before it", f"unit.{name}", 1, wait)])

    def _first_distance(self, event: Event) -> Figure:
        """The most distance of an event that follows no single cause."""
        kind, name = event.kind, event.name
        if event in self.events.rings.rounds:
            return self._round(event)
        if kind == "step":
            return self._step_distance(self._least_distance(event), event)
        if kind == "source":
            source = self.system.source(name)
            if source.period_most is None:
                return Figure(0, None, reason="its source is sporadic")
            period = ceil(source.period_most)
            return summed(0, [Part("period", event, 1, period), Part("jitter", event, 1, source.jitter)])
        gap = self.gap(event)
        if gap is None:
            return Figure(0, None, reason="none of its causes is sure to come")
        return Figure(0, gap, (Part("longest time to the next", event, 1, gap),))

    def _step_distance(self, least: int, event: Event) -> Figure:
        name = event.name
        step, bounds = self.system.step(name), self.steps[name]
        interval = bounds.interval
        if step.polls is not None:
            gap = self.gap(step.start)
            if gap is None:
                return Figure(least, None, reason=interval.reason)
            interval = Figure(interval.least, gap, (Part("longest time to the next", step.thing, 1, gap),))
        if event.moment == "start" or interval.most is None:
            least = max(least, interval.least) if event.moment == "start" else least
            return Figure(least, interval.most, interval.parts, interval.reason)
        if step.every is None and step.polls is None:
            return Figure(least, interval.most, interval.parts)  # a whole round from end to end as well
        if bounds.duration.most is None:
            return Figure(least, None, reason=bounds.duration.reason)
        parts = [*interval.parts, *bounds.duration.parts,
                 Part("the least of the same step", step.thing, 1, -bounds.duration.least)]  # fmt: skip
        return summed(least, parts)
