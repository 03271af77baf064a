"""What the bounds answer to needs: gaps, distances, delays, ways from event to event, losses, load."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from tachys.figures import Figure, summed
from tachys.model.events import Event, Thing
from tachys.model.graph import Link
from tachys.needs.takers import is_of, share_of
from tachys.worstcase.arrivals import exact_sum
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.laws import hop, law_of
from tachys.worstcase.result import LoadBounds
from tachys.worstcase.supply import supply_bounds


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
        return law_of(self.reach.system, event.thing).delay(self.reach, event)

    def loses(self, thing: Thing) -> str | None:
        """Why events of a thing may be lost; None if none ever is."""
        return self.reach.loses(thing)

    def lost_in_all(self, thing: Thing) -> int | None:
        """How many events of a thing may be lost at most; None: no number is known."""
        return self.reach.units[thing.name].lost_in_all if thing.kind == "unit" else None

    def level(self, buffer: Thing) -> int:
        """The most items that can be in a buffer at once."""
        level, depth = self.reach.buffers[buffer.name].level, self.reach.system.buffer(buffer.name).depth
        return depth if level is None else min(level, depth)

    def supply(self) -> tuple[tuple[Fraction, Fraction] | None, str]:
        """(least and most average supply current in amperes, why none is known)."""
        found = supply_bounds(self.reach, self.taken)
        lacks = f"no current is given for {', '.join(found.missing)}" if found.missing else ""
        return found.average, lacks

    def load(self, over: int | None, of: tuple[str, ...]) -> tuple[Fraction, Fraction, str]:
        """(least, most, why no less) of the share taken: in any window of that length in ps, or in the long run."""
        if over is None and not of:
            return self.taken.least, self.taken.most, self.taken.reason
        if over is None:
            mine = [share for share in self.taken.shares if is_of(share.who, of)]
            most = min(exact_sum(share.most for share in mine), Fraction(1))
            return min(exact_sum(share.least for share in mine), most), most, ""
        shares = next(window.shares for window in self.taken.windows if window.length == over)
        return Fraction(0), min(share_of(dict(shares), of), Fraction(1)), ""

    def way(self, begins: Event, ends: Event, *, age: bool) -> tuple[Figure, str] | None:
        """(time from one event to what it causes, why one may be lost on the way); None: no chain leads there."""
        links = self.reach.system.graph.chain(begins, ends)
        if links is None:
            return None
        figures = [hop(self.reach, link) for link in links]
        broken = next((figure for figure in figures if figure.most is None), None)
        least = 0 if age else sum(figure.least for figure in figures)
        if broken is not None:
            return Figure(least, None, reason=broken.reason), ""
        if len(figures) > 1 or age:
            figures = [summed(least, [part for each in figures for part in each.parts])]
        return figures[0], _lost_on_way(self.reach, links, age=age)


def _lost_on_way(reach: EventBounds, links: tuple[Link, ...], *, age: bool) -> str:
    """Why an event may be lost on the way; empty if none is. An overwritten flag does not make the last cause older."""
    for link in links:
        body, thing = link.after.thing, None
        silent = law_of(reach.system, body).silent if link.after.moment == "end" else None
        if silent is not None:
            return silent
        if link.kind == "sets":
            thing = Thing(f"flag.{link.flag}")
            other = reach.system.graph.rival(link.flag, reach.system.step(body.name))
            if other is not None:
                return f"step.{other} may take the flag {link.flag} first"
        elif link.kind == "drains":
            thing = Thing(f"buffer.{link.flag}")
        elif link.kind != "ends" or law_of(reach.system, body).breaks_off:
            thing = body
        if thing is None or (age and link.kind == "sets"):
            continue
        why = reach.loses(thing)
        if why is not None:
            more = "; age = true asks for the last set before each take alone" if link.kind == "sets" else ""
            return f"an event may be lost at {thing}: {why}{more}"
    return ""
