"""What the finished bounds say of any event: how long one can stay away, how often it comes at least, how apart."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import ceil

from tachys.bounds.events import Events, least_distance, least_round
from tachys.bounds.flags import rival
from tachys.bounds.result import Figure, FlagBounds, IsrBounds, Part, StepBounds, UnitBounds, summed
from tachys.model.system import Step, System


@dataclass(frozen=True, slots=True)
class Reach:
    """The bounds found so far, asked by event."""

    system: System
    events: Events
    isrs: dict[str, IsrBounds]
    units: dict[str, UnitBounds]
    flags: dict[str, FlagBounds]
    steps: dict[str, StepBounds]

    def gap(self, event: str, asked: frozenset[str] = frozenset()) -> int | None:
        """The longest time in ps from any instant to the next such event; None: no such time is known.

        A routine whose event is lost runs nevertheless, for one that came before: it ends within its response.
        """
        if event in asked:
            return None
        asked |= {event}
        kind, name, *moment = event.split(".")
        if kind == "source":
            return self.events.gap(event)
        if kind == "isr":
            figure = self.isrs[name].latency if moment == ["start"] else self.isrs[name].response
            return _sum(self._soonest(self.system.isr(name).on, asked), figure.most)
        if kind == "unit":
            unit = self.system.unit(name)
            if unit.busy == "restart":
                return None
            # a start that is dropped finds an operation at work: its end, or the start after it, comes instead
            again = _sum(self._soonest(unit.on, asked), unit.longest)
            return again if moment == ["end"] else _sum(again, self._soonest(unit.on, asked))
        bounds = self.steps[name]
        beginning = bounds.interval.most
        if beginning is None:
            beginning = self.polled_gap(self.system.step(name), asked)
        return beginning if moment == ["start"] else _sum(beginning, bounds.duration.most)

    def polled_gap(self, step: Step, asked: frozenset[str] = frozenset()) -> int | None:
        """The longest time to the next start of a polled step: until its flag is set, and the reaction."""
        if step.polls is None or rival(self.system, step.polls, step) is not None:
            return None
        setters = [f"isr.{isr.name}.end" for isr in self.system.isrs if step.polls in isr.sets]
        return _sum(self._soonest(tuple(setters), asked), self.flags[step.polls].reaction.most)

    def _soonest(self, events: tuple[str, ...], asked: frozenset[str]) -> int | None:
        gaps = [gap for event in events if (gap := self.gap(event, asked)) is not None]
        return min(gaps, default=None)

    def least_rate(self, event: str, asked: frozenset[str] = frozenset()) -> Fraction:
        """The fewest events per ps in the long run; 0 where none is sure, or where one may be lost on the way."""
        if event in asked:
            return Fraction(0)
        asked |= {event}
        kind, name = event.split(".")[:2]
        if kind == "source":
            most = self.system.source(name).period_most
            return 1 / most if most is not None else Fraction(0)
        if kind == "isr":
            isr = self.system.isr(name)
            if self.isrs[name].lost or isr.serves_all:
                return Fraction(0)
            return sum((self.least_rate(cause, asked) for cause in isr.on), Fraction(0))
        if kind == "unit":
            if self.units[name].lost:
                return Fraction(0)
            return sum((self.least_rate(cause, asked) for cause in self.system.unit(name).on), Fraction(0))
        step, bounds = self.system.step(name), self.steps[name]
        if step.polls is not None or bounds.interval.most is None:
            return Fraction(0)
        if step.every is not None and step.rearm == "grid":
            return 1 / step.every.most
        return Fraction(1, bounds.interval.most)

    def distances(self, event: str) -> tuple[int, Figure]:
        """(the least distance in ps between neighbouring events, the most as a figure)."""
        least = self.events.curve(event).least_span(2)
        kind, name, *moment = event.split(".")
        if kind == "source":
            source = self.system.source(name)
            if source.period_most is None:
                return least, Figure(least, None, reason="its source is sporadic")
            period = ceil(source.period_most)
            parts = [Part("period", event, 1, period), Part("jitter", event, 1, source.jitter)]
            return least, summed(least, parts)
        if kind == "isr":
            isr, bounds = self.system.isr(name), self.isrs[name]
            least = max(least, least_distance(self.system, isr))
            figure = bounds.latency if moment == ["start"] else bounds.response
            if bounds.lost:
                return least, Figure(least, None, reason=f"an activation of isr.{name} may be lost")
            return self._after_cause(least, event, isr.on, figure, whole=isr.serves_all)
        if kind == "unit":
            unit, found = self.system.unit(name), self.units[name]
            if found.lost:
                return least, Figure(least, None, reason=f"a start of unit.{name} may be lost")
            moved = found.time if moment == ["end"] else Figure(0, unit.takes.most * unit.depth)
            return self._after_cause(least, event, unit.on, moved, whole=False)
        return least, self._step_distance(max(least, least_round(self.system, self.system.step(name))), name, moment)

    def _after_cause(
        self, least: int, event: str, causes: tuple[str, ...], way: Figure, *, whole: bool
    ) -> tuple[int, Figure]:
        if len(causes) != 1:
            gap = self.gap(event)
            if gap is None:
                return least, Figure(least, None, reason="none of its causes is sure to come")
            return least, Figure(least, gap, (Part("longest time to the next", event, 1, gap),))
        cause = self.distances(causes[0])[1]
        if cause.most is None or way.most is None:
            return least, Figure(least, None, reason=cause.reason or way.reason)
        least_way = 0 if whole else way.least
        parts = [*cause.parts, *way.parts, Part("the least of the same way", event, 1, -least_way)]
        return least, summed(least, parts)

    def _step_distance(self, least: int, name: str, moment: list[str]) -> Figure:
        step, bounds = self.system.step(name), self.steps[name]
        interval = bounds.interval
        if step.polls is not None:
            gap = self.polled_gap(step)
            if gap is None:
                return Figure(least, None, reason=interval.reason)
            interval = Figure(interval.least, gap, (Part("longest time to the next", f"step.{name}", 1, gap),))
        if moment == ["start"] or interval.most is None:
            return Figure(max(least, interval.least) if moment == ["start"] else least, interval.most, interval.parts,
                          interval.reason)  # fmt: skip
        if step.every is None and step.polls is None:
            return Figure(least, interval.most, interval.parts)  # a whole round from end to end as well
        if bounds.duration.most is None:
            return Figure(least, None, reason=bounds.duration.reason)
        parts = [*interval.parts, *bounds.duration.parts,
                 Part("the least of the same step", f"step.{name}", 1, -bounds.duration.least)]  # fmt: skip
        return summed(least, parts)


def _sum(a: int | None, b: int | None) -> int | None:
    return None if a is None or b is None else a + b
