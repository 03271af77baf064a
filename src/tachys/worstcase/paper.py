"""What the bounds answer to needs: gaps, distances, delays, ways from event to event, losses, load."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from tachys.figures import Figure, Part, summed
from tachys.model.events import Event, Thing
from tachys.model.graph import Link
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.flags import rival
from tachys.worstcase.result import LoadBounds


@dataclass(frozen=True, slots=True)
class BoundsOnPaper:
    """The finished bounds as :class:`tachys.needs.paper.Paper`."""

    reach: EventBounds
    taken: LoadBounds

    def gap(self, event: Event) -> int | None:
        """The longest time in ps from any instant to the next such event."""
        return self.reach.gap(event)

    def distances(self, event: Event) -> tuple[int, Figure]:
        """(the least distance in ps between neighbouring events, the most as a figure)."""
        return self.reach.distances(event)

    def delay(self, event: Event) -> Figure:
        """The delay of an event against what causes it."""
        return delay_of(self.reach, event)

    def loses(self, thing: Thing) -> str | None:
        """Why events of a thing may be lost; None if none ever is."""
        return loses(self.reach, thing)

    def load(self, over: int | None) -> tuple[Fraction, Fraction, str]:
        """(least, most, why no less) of the share taken: in any window of that length in ps, or in the long run."""
        if over is None:
            return self.taken.least, self.taken.most, self.taken.reason
        return Fraction(0), next(window.most for window in self.taken.windows if window.length == over), ""

    def way(self, begins: Event, ends: Event, *, age: bool) -> tuple[Figure, str] | None:
        """(time from one event to what it causes, why one may be lost on the way); None: no chain leads there."""
        hops = self.reach.system.graph.chain(begins, ends)
        if hops is None:
            return None
        figures = [_hop(self.reach, hop) for hop in hops]
        broken = next((figure for figure in figures if figure.most is None), None)
        least = 0 if age else sum(figure.least for figure in figures)
        if broken is not None:
            return Figure(least, None, reason=broken.reason), ""
        if len(figures) > 1 or age:
            figures = [summed(least, [part for each in figures for part in each.parts])]
        return figures[0], _lost_on_way(self.reach, hops, age=age)


def loses(reach: EventBounds, thing: Thing) -> str | None:
    """Why events of a thing (source, unit, routine or flag.NAME) may be lost; None if none ever is."""
    kind, name = thing.kind, thing.name
    if kind == "isr":
        return reach.isrs[name].lost_reason if reach.isrs[name].lost else None
    if kind == "unit":
        return reach.units[name].lost_reason if reach.units[name].lost else None
    if kind == "flag":
        return reach.flags[name].reason if reach.flags[name].overwritten else None
    system = reach.system
    event = Event(thing)
    takers = sorted((body.thing for body in system.graph.begun_by.get(event, ())), key=lambda body: body.kind)
    found = [f"{taker}: {why}" for taker in takers if (why := loses(reach, taker)) is not None]
    return "; ".join(found) or None


def delay_of(reach: EventBounds, event: Event) -> Figure:
    """The delay of an event against what causes it."""
    kind, name = event.kind, event.name
    if kind == "source":
        source = reach.system.source(name)
        if source.period is None:
            return Figure(0, None, reason="its source is sporadic: there is nothing it could be late against")
        return summed(0, [Part("jitter", event, 1, source.jitter)])
    if kind == "isr":
        bounds = reach.isrs[name]
        return bounds.latency if event.moment == "start" else bounds.response
    if kind == "unit":
        unit = reach.units[name]
        if event.moment == "end":
            return unit.time
        return summed(0, [part for part in unit.time.parts if part.what.startswith("starts that wait")])
    step, bounds_ = reach.system.step(name), reach.steps[name]
    if step.polls is not None and step.every is None and rival(reach.system, step.polls, step) is None:
        beginning = reach.flags[step.polls].reaction
    elif step.polls is not None:
        beginning = Figure(0, None, reason=f"step.{name} is not alone in waiting for its flag, or also for its timer")
    elif bounds_.late is not None:
        beginning = bounds_.late
    else:
        beginning = Figure(0, 0)
    if event.moment == "start" or beginning.most is None:
        return beginning
    if bounds_.duration.most is None:
        return bounds_.duration
    return summed(beginning.least + bounds_.duration.least, [*beginning.parts, *bounds_.duration.parts])


def _hop(reach: EventBounds, hop: Link) -> Figure:
    kind, name = hop.after.kind, hop.after.name
    if hop.kind == "sets":
        return reach.flags[hop.flag].reaction
    if hop.kind == "ends":
        if kind == "isr":
            return reach.isrs[name].span
        if kind == "unit":
            takes = reach.system.unit(name).takes
            return Figure(takes.least, takes.most, (Part("operation", hop.after.thing, 1, takes.most),))
        return reach.steps[name].duration
    return delay_of(reach, hop.after)


def _lost_on_way(reach: EventBounds, hops: tuple[Link, ...], *, age: bool) -> str:
    """Why an event may be lost on the way; empty if none is. An overwritten flag does not make the last cause older."""
    for hop in hops:
        body, thing = hop.after.thing, None
        if hop.kind == "sets":
            thing = Thing(f"flag.{hop.flag}")
        elif hop.kind != "ends" or (body.kind == "unit" and reach.system.unit(body.name).busy == "restart"):
            thing = body
        other = rival(reach.system, hop.flag, reach.system.step(body.name)) if hop.kind == "sets" else None
        if other is not None:
            return f"step.{other} may take the flag {hop.flag} first"
        if thing is None or (age and hop.kind == "sets"):
            continue
        why = loses(reach, thing)
        if why is not None:
            return f"an event may be lost at {thing}: {why}"
    return ""
