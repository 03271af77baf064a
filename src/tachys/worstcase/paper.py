"""What the bounds answer to needs: gaps, distances, delays, ways from event to event, losses, load."""

from __future__ import annotations

from fractions import Fraction

from msgspec import Struct

from tachys.figures import Figure
from tachys.model.events import Event, Thing
from tachys.needs.takers import is_of, share_of
from tachys.worstcase.arrivals import exact_sum
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.laws import law_of
from tachys.worstcase.result import LoadBounds
from tachys.worstcase.supply import supply_bounds
from tachys.worstcase.ways import way


class BoundsOnPaper(Struct, frozen=True):
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
            all_of = next((group for group in self.taken.groups if of == (group.who,)), None)
            mine = [share for share in self.taken.shares if is_of(share.who, of)] if all_of is None else [all_of]
            most = min(exact_sum(share.most for share in mine), Fraction(1))
            return min(exact_sum(share.least for share in mine), most), most, ""
        shares = next(window.shares for window in self.taken.windows if window.length == over)
        return Fraction(0), min(share_of(dict(shares), of), Fraction(1)), ""

    def way(self, begins: Event, ends: Event, *, age: bool) -> tuple[Figure, str] | None:
        """(time from one event to what it causes, why one may be lost on the way); None: no chain leads there."""
        return way(self.reach, begins, ends, age=age)
